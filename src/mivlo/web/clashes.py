"""The HTTP interface of clashes, carves and the floor."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from fastapi import APIRouter, Query
from pydantic import Field

from mivlo.core.clashes import Limits
from mivlo.core.moves import Entry
from mivlo.core.moves.bounds import Hertz, Seconds
from mivlo.core.moves.static import Slope
from mivlo.description import read_entry
from mivlo.services.clashes import carving, flooring, piling, surveying
from mivlo.services.song import rights
from mivlo.services.song.rights import Way
from mivlo.services.song.state import read_song
from mivlo.store.database import session
from mivlo.web import schemas as s
from mivlo.web.routes import Id, Page, Time

clashes_api = APIRouter(prefix="/api/songs/{song_id}")

Depth = Annotated[float, Field(ge=0.5, le=12.0)]
MOST_AT_ONCE = 200
Strips = Annotated[tuple[s.Id, ...], Query(max_length=500)]


class _Span(s.In):
    """Over the passage, or between two times."""

    may_be_null: ClassVar[frozenset[str]] = frozenset({"from_s", "to_s", "keyed"})

    from_s: Seconds | None = None
    to_s: Seconds | None = None
    folded: Annotated[tuple[s.Id, ...], Field(max_length=500, description="groups that stand for their tracks")] = ()


class CarveIn(_Span):
    """A range in which one track covers another, and which of the two keeps it."""

    covered: s.Id
    by: s.Id
    from_hz: Hertz
    to_hz: Hertz
    way: Way = Way.COVERED
    max_cut_db: Depth = 4.0
    keyed: bool | None = None


class FreeIn(_Span):
    """A track to be freed, and what is allowed."""

    track_id: s.Id
    max_cut_db: Depth = 4.0
    most_moves: Annotated[int, Field(ge=1, le=8)] = 4
    untouched: Annotated[tuple[s.Id, ...], Field(max_length=500)] = ()


class CarveMoveOut(s.Out):
    """A move that is proposed for a track."""

    track_id: int
    move: s.MoveOut


class KeptOut(s.Out):
    track_id: int
    before: float
    after: float


class ProposalOut(s.Out):
    """Carves and what they do: measured on the rendered sound, but for what was promised."""

    moves: list[CarveMoveOut]
    kept: list[KeptOut]
    gained: float
    promised: float
    lost_sones: float
    lost_lu: float
    steps: list[tuple[float, float]]


class AcceptedMove(s.In):
    track_id: s.Id
    move: s.NewMove


class AcceptIn(s.In):
    label: s.Name = "carve"
    moves: Annotated[list[AcceptedMove], Field(min_length=1, max_length=MOST_AT_ONCE)]


class PiledTrackOut(s.Out):
    track_id: int
    share: float
    piled: bool


class PileCutsOut(s.Out):
    """Cuts on a group, or on those of its tracks that pile up."""

    on: Literal["group", "tracks"]
    moves: list[CarveMoveOut]
    drop_db: float
    taken_sones: float
    gained_sones: float


class PileOut(s.Out):
    """What the tracks of a group add up to in the harsh range, and two ways to take the same from it."""

    strip_id: int
    from_hz: float
    to_hz: float
    tracks: list[PiledTrackOut]
    cuts: list[PileCutsOut]


class DecideIn(s.In):
    """Which of two tracks keeps a range; null: what the order of importance says."""

    may_be_null: ClassVar[frozenset[str]] = frozenset({"way"})

    covered: s.Id
    by: s.Id
    from_hz: Hertz
    to_hz: Hertz
    way: Way | None


class ImportanceIn(s.In):
    """Tracks, the most important one first; those that are not named go by role. With times, of a passage alone."""

    may_be_null: ClassVar[frozenset[str]] = frozenset({"from_s", "to_s"})

    track_ids: Annotated[list[s.Id], Field(max_length=500)]
    from_s: Seconds | None = None
    to_s: Seconds | None = None


class SwitchIn(s.In):
    on: bool


class FloorCut(s.In):
    track_id: s.Id
    frequency_hz: Hertz
    slope_db_per_octave: Slope = 24
    linear: bool = Field(False, description="treat the track in linear phase from then on")


class FloorIn(s.In):
    cuts: Annotated[list[FloorCut], Field(min_length=1, max_length=MOST_AT_ONCE)]


@clashes_api.get("/clashes", response_model=surveying.SongClashes)
def clashes(song_id: Id, from_s: Time = None, to_s: Time = None, folded: Strips = (), only: Strips = ()) -> Any:
    """Who covers whom over the passage, with each track's loudness per auditory band.

    `folded`: groups that stand for their tracks; `only`: strips that are compared with each other alone.
    """
    return surveying.song_clashes(song_id, from_s, to_s, folded=folded, only=only)


@clashes_api.get("/clashes/song", response_model=surveying.WholeSong)
def whole_song(song_id: Id) -> Any:
    """The last survey of the whole song, and whether it is of the song as it is."""
    return surveying.whole_song(song_id)


@clashes_api.post("/clashes/song", response_model=s.TaskOut, status_code=202)
def survey_song(song_id: Id) -> Any:
    """Look at the whole song: long work, with progress; what it found is then told by the same path."""
    return surveying.request_survey(song_id)


def _moves(entries: list[tuple[int, Entry]]) -> list[dict[str, Any]]:
    return [{"track_id": strip, "move": s.unsaved(entry)} for strip, entry in entries]


def _proposal(made: carving.Proposal) -> dict[str, Any]:
    return {
        "moves": _moves(made.entries),
        "kept": [{"track_id": track, "before": a, "after": b} for track, (a, b) in made.kept.items()],
        "gained": made.gained,
        "promised": made.promised,
        "lost_sones": made.lost_sones,
        "lost_lu": made.lost_lu,
        "steps": made.steps,
    }


@clashes_api.post("/clashes/carve", response_model=ProposalOut)
def propose(song_id: Id, body: CarveIn) -> Any:
    """The smallest carve for a clash. Nothing is changed."""
    made = carving.propose(
        song_id, body.covered, body.by, body.from_hz, body.to_hz, way=body.way, most_db=body.max_cut_db,
        keyed=body.keyed, folded=body.folded, from_s=body.from_s, to_s=body.to_s,
    )  # fmt: skip
    return _proposal(made)


@clashes_api.post("/clashes/free", response_model=ProposalOut)
def free(song_id: Id, body: FreeIn) -> Any:
    """All carves that free one track, within limits. Nothing is changed."""
    limits = Limits(most_db=body.max_cut_db, most_moves=body.most_moves)
    made = carving.free_track(
        song_id,
        body.track_id,
        limits,
        untouched=body.untouched,
        folded=body.folded,
        from_s=body.from_s,
        to_s=body.to_s,
    )
    return _proposal(made)


@clashes_api.post("/clashes/accept", response_model=s.SongOut, status_code=201)
def accept(song_id: Id, body: AcceptIn, page: Page = "") -> Any:
    """Make moves of proposed carves, all in one step."""
    own = {"revision", "strip_revision"}
    entries = [
        (m.track_id, read_entry(m.move.model_dump(mode="json", exclude_unset=True, exclude=own))) for m in body.moves
    ]
    with session() as open_session:
        carving.accept(open_session, song_id, entries, body.label, page)
        return read_song(open_session, song_id, page)


@clashes_api.post("/clashes/decide", response_model=s.SongOut)
def decide(song_id: Id, body: DecideIn, page: Page = "") -> Any:
    """Say which of two tracks keeps a place; it outlives what is computed."""
    range_hz = body.from_hz, body.to_hz
    with session() as open_session:
        rights.decide(open_session, song_id, body.covered, body.by, range_hz, body.way, page=page)
        return read_song(open_session, song_id, page)


@clashes_api.put("/importance", response_model=s.SongOut)
def set_importance(song_id: Id, body: ImportanceIn, page: Page = "") -> Any:
    """Put the tracks into an order of importance, which settles right of way.

    None: by role, or in a passage as in the song.
    """
    with session() as open_session:
        stretch = None if body.from_s is None or body.to_s is None else (body.from_s, body.to_s)
        rights.set_importance(open_session, song_id, body.track_ids, stretch, page=page)
        return read_song(open_session, song_id, page)


@clashes_api.post("/clashes/switch", response_model=s.SongOut)
def switch(song_id: Id, body: SwitchIn, page: Page = "") -> Any:
    """Switch all carves of the song on or off, in one step."""
    with session() as open_session:
        carving.switch_all(open_session, song_id, body.on, page)
        return read_song(open_session, song_id, page)


@clashes_api.get("/floor", response_model=flooring.SongFloor)
def floor(song_id: Id, from_s: Time = None, to_s: Time = None, above_notes: bool = False) -> Any:
    """How much low end each track carries, and the low cuts that are just not heard."""
    return flooring.song_floor(song_id, from_s, to_s, above_notes=above_notes)


@clashes_api.get("/strips/{strip_id}/pile", response_model=PileOut)
def pile(
    song_id: Id,
    strip_id: Id,
    depth_db: Annotated[float, Query(ge=0.5, le=6.0, allow_inf_nan=False)] = 2.0,
    from_s: Time = None,
    to_s: Time = None,
) -> Any:
    """Which tracks of a group pile up between 2 and 5 kHz, one cut on the group against cuts on them."""
    found = piling.song_pile(song_id, strip_id, depth_db=depth_db, from_s=from_s, to_s=to_s)
    cuts = [
        {
            "on": c.on, "moves": _moves(c.entries), "drop_db": c.drop_db, "taken_sones": c.taken_sones,
            "gained_sones": c.gained_sones,
        }
        for c in found.cuts
    ]  # fmt: skip
    return {
        "strip_id": found.strip_id, "from_hz": found.from_hz, "to_hz": found.to_hz, "tracks": found.tracks,
        "cuts": cuts,
    }  # fmt: skip


@clashes_api.post("/floor", response_model=s.SongOut, status_code=201)
def accept_floor(song_id: Id, body: FloorIn, page: Page = "") -> Any:
    """Make low cuts of the floor, all in one step."""
    cuts = [(c.track_id, c.frequency_hz, c.slope_db_per_octave) for c in body.cuts]
    with session() as open_session:
        linear = {c.track_id for c in body.cuts if c.linear}
        flooring.accept_floor(open_session, song_id, cuts, page, linear=linear)
        return read_song(open_session, song_id, page)
