"""The HTTP interface of habits of the hand: sets, twins, order, reset, snapshots, recipes, balance."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Query, Request, Response
from starlette.concurrency import run_in_threadpool

from mivlo.audio.decode import LARGEST_BYTES
from mivlo.services.clashes import comparing
from mivlo.services.handover.sheets import parse_sheet
from mivlo.services.matching import balancing, recipes, references, twins
from mivlo.services.matching import sets as sets_of
from mivlo.services.song import snapshots, treating
from mivlo.services.song.state import read_song
from mivlo.store.database import session
from mivlo.web import schemas as s
from mivlo.web.routes import Id, Page, StripRevision, receive

habits_api = APIRouter(prefix="/api/songs/{song_id}")
recipes_api = APIRouter(prefix="/api")


@habits_api.put("/tracks/{track_id}/moves/order", response_model=s.SongOut)
def reorder_moves(song_id: Id, track_id: Id, body: s.MoveOrder, page: Page = "") -> Any:
    """Put a strip's moves into another order."""
    with session() as open_session:
        treating.reorder_moves(
            open_session, song_id, track_id, body.move_ids, strip_revision=body.strip_revision, page=page
        )
        return read_song(open_session, song_id, page)


@habits_api.post("/tracks/{track_id}/reset", response_model=s.SongOut)
def reset_strip(song_id: Id, track_id: Id, strip_revision: StripRevision = None, page: Page = "") -> Any:
    """Take all of a strip's treatment away as one step."""
    with session() as open_session:
        treating.reset_strip(open_session, song_id, track_id, strip_revision=strip_revision, page=page)
        return read_song(open_session, song_id, page)


@habits_api.post("/moves/{move_id}/reset", response_model=s.SongOut)
def reset_move(song_id: Id, move_id: Id, body: s.ResetIn, page: Page = "") -> Any:
    """Bring a move, or some of its values, back to how it was made, as one step."""
    with session() as open_session:
        treating.reset_move(open_session, song_id, move_id, body.fields, strip_revision=body.strip_revision, page=page)
        return read_song(open_session, song_id, page)


@habits_api.post("/tracks/{track_id}/sets", response_model=s.SongOut, status_code=201)
def add_set(song_id: Id, track_id: Id, body: s.NewSet, page: Page = "") -> Any:
    """Moves at the octaves or multiples of a frequency, which move together, as one step."""
    with session() as open_session:
        sets_of.add_set(
            open_session, song_id, track_id, body.from_hz, body.count, body.spacing, gain_db=body.gain_db,
            q=body.q, taper_db=body.taper_db, strip_revision=body.strip_revision, page=page,
        )  # fmt: skip
        return read_song(open_session, song_id, page)


@habits_api.post("/tracks/{track_id}/twins", response_model=s.TwinsOut, status_code=201)
def make_twins(song_id: Id, track_id: Id, body: s.TwinsIn, page: Page = "") -> Any:
    """Copy moves to other strips, as they are or re-tuned, as one step; what was left out is said."""
    made = twins.make_twins(song_id, track_id, body.move_ids, body.to, refit=body.retune, linked=body.linked, page=page)
    with session() as open_session:
        song = read_song(open_session, song_id, page)
    left_out = [{"strip_id": t.strip_id, "of": t.of, "says": t.says} for t in made if t.entry is None]
    return {"song": song, "left_out": left_out}


@habits_api.post("/tracks/{track_id}/balance", response_model=balancing.BalanceDocument)
def plan_balance(song_id: Id, track_id: Id, body: s.BalanceIn) -> Any:
    """What would bring a strip's balance towards another's, or towards its own at other times: nothing is changed."""
    made = balancing.balance_strips(
        song_id, track_id, body.towards, reference=body.reference, strength=body.strength, only_cuts=body.only_cuts,
        limit_db=body.limit_db, smooth_oct=body.smooth_oct, most=body.most, from_s=body.from_s, to_s=body.to_s,
    )  # fmt: skip
    return balancing.BalanceDocument.of(made)


@recipes_api.post("/references", response_model=s.ReferenceOut, status_code=201)
async def bring_reference(request: Request, name: Annotated[str, Query(max_length=300)]) -> Any:
    """Measure a reference file, sent as the body: its spectrum is kept, the file is not."""
    incoming = await receive(request, name, LARGEST_BYTES)
    try:
        digest = await run_in_threadpool(incoming.close)
        return await run_in_threadpool(references.bring, incoming.path, name, digest)
    finally:
        incoming.drop()


@habits_api.post("/tracks/{track_id}/fitted", response_model=s.FittedOut, status_code=201)
def fit_rungs(song_id: Id, track_id: Id, body: s.FittedIn, page: Page = "") -> Any:
    """Put ordinary moves in the place of rungs, as one step: those that follow them best, and how well they do."""
    with session() as open_session:
        says = sets_of.fit_rungs(
            open_session, song_id, track_id, body.move_id, most=body.most, strip_revision=body.strip_revision, page=page
        )
        return {"song": read_song(open_session, song_id, page), "says": says}


# --- snapshots --------------------------------------------------------------------------------------


@habits_api.get("/snapshots", response_model=list[s.SnapshotOut])
def list_snapshots(song_id: Id) -> Any:
    """The song's snapshots, newest last."""
    with session() as open_session:
        return snapshots.snapshots(open_session, song_id)


@habits_api.get("/snapshots/compared", response_model=comparing.SnapshotsCompared)
def compare_snapshots(
    song_id: Id,
    track_id: Annotated[s.Id, Query()],
    first: Annotated[s.Id, Query()],
    second: Annotated[s.Id | None, Query(description="left out: as it is now")] = None,
) -> Any:
    """Two snapshots of a strip side by side, measured over the passage."""
    return comparing.compare_snapshots(song_id, track_id, first, second)


@habits_api.post("/snapshots", response_model=s.SnapshotOut, status_code=201)
def keep_snapshot(song_id: Id, body: s.NewSnapshot) -> Any:
    """Keep how a strip, or the whole song, is treated now."""
    with session() as open_session:
        made = snapshots.keep(open_session, song_id, body.name, body.strip_id)
        return snapshots.snapshot(open_session, song_id, made)


@habits_api.post("/snapshots/{snapshot_id}/go", response_model=s.SongOut)
def go_to_snapshot(song_id: Id, snapshot_id: Id, page: Page = "") -> Any:
    """Treat what a snapshot holds as it was then, as one step."""
    with session() as open_session:
        snapshots.go_back(open_session, song_id, snapshot_id, page=page)
        return read_song(open_session, song_id, page)


@habits_api.delete("/snapshots/{snapshot_id}", status_code=204)
def forget_snapshot(song_id: Id, snapshot_id: Id) -> Response:
    """Take a snapshot out of the list."""
    with session() as open_session:
        snapshots.forget(open_session, song_id, snapshot_id)
    return Response(status_code=204)


# --- recipes ----------------------------------------------------------------------------------------


@recipes_api.get("/recipes", response_model=list[s.RecipeOut])
def list_recipes() -> Any:
    """Treatments kept for later: a person's own first, then those that ship."""
    return recipes.recipes()


@recipes_api.delete("/recipes", status_code=204)
def forget_recipe(recipe: s.RecipeId) -> Response:
    """Take one of a person's own recipes out of the folder."""
    recipes.forget(recipe)
    return Response(status_code=204)


@habits_api.post("/tracks/{track_id}/recipes", response_model=s.RecipeOut, status_code=201)
def keep_recipe(song_id: Id, track_id: Id, body: s.NewRecipe) -> Any:
    """Keep a strip's treatment under a name, for its role."""
    return recipes.keep(song_id, track_id, body.name, body.says)


@habits_api.post("/tracks/{track_id}/recipe", response_model=s.PutInOut, status_code=201)
def use_recipe(song_id: Id, track_id: Id, body: s.UseRecipe, page: Page = "") -> Any:
    """Put a recipe on a strip as one step, its narrow cuts moved to where they ring here; what was left out is said."""
    said = recipes.use(song_id, track_id, body.recipe, refit=body.retune, strip_revision=body.strip_revision, page=page)
    with session() as open_session:
        return {"song": read_song(open_session, song_id, page), "left_out": said}


@habits_api.post("/tracks/{track_id}/sheet", response_model=s.PutInOut, status_code=201)
def put_sheet(song_id: Id, track_id: Id, body: s.SheetIn, page: Page = "") -> Any:
    """Put a sheet of version 1 or 2 on a strip as one step."""
    sheet = parse_sheet(body.text, body.name)
    said = recipes.put_sheet(
        song_id, track_id, sheet, body.name, refit=body.retune, strip_revision=body.strip_revision, page=page
    )
    with session() as open_session:
        return {"song": read_song(open_session, song_id, page), "left_out": said}
