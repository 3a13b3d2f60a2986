"""The HTTP interface of clashes, carves and the floor."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar

from fastapi import APIRouter
from pydantic import Field

from mivlo.core.clashes import Limits
from mivlo.core.moves.bounds import Hertz, Seconds
from mivlo.core.moves.static import Slope
from mivlo.description import entry_document, read_entry
from mivlo.services.clashes import carving, flooring, surveying
from mivlo.services.clashes.carving import Way
from mivlo.services.song.state import read_song
from mivlo.store.database import session
from mivlo.web import schemas as s
from mivlo.web.routes import Id, Page, Time

clashes_api = APIRouter(prefix="/api/songs/{song_id}")

Depth = Annotated[float, Field(ge=0.5, le=12.0)]
MOST_AT_ONCE = 200


class _Span(s.In):
    """Over the passage, or between two times."""

    may_be_null: ClassVar[frozenset[str]] = frozenset({"from_s", "to_s", "keyed"})

    from_s: Seconds | None = None
    to_s: Seconds | None = None


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


class SwitchIn(s.In):
    on: bool


class FloorCut(s.In):
    track_id: s.Id
    frequency_hz: Hertz
    slope_db_per_octave: Slope = 24


class FloorIn(s.In):
    cuts: Annotated[list[FloorCut], Field(min_length=1, max_length=MOST_AT_ONCE)]


@clashes_api.get("/clashes", response_model=surveying.SongClashes)
def clashes(song_id: Id, from_s: Time = None, to_s: Time = None) -> Any:
    """Who covers whom over the passage, with each track's loudness per auditory band."""
    return surveying.song_clashes(song_id, from_s, to_s)


@clashes_api.get("/clashes/song", response_model=surveying.WholeSong)
def whole_song(song_id: Id) -> Any:
    """The last survey of the whole song, and whether it is of the song as it is."""
    return surveying.whole_song(song_id)


@clashes_api.post("/clashes/song", response_model=s.TaskOut, status_code=202)
def survey_song(song_id: Id) -> Any:
    """Look at the whole song: long work, with progress; what it found is then told by the same path."""
    return surveying.request_survey(song_id)


def _proposal(made: carving.Proposal) -> dict[str, Any]:
    return {
        "moves": [{"track_id": track, "move": {**entry_document(entry), "id": 0}} for track, entry in made.entries],
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
        keyed=body.keyed, from_s=body.from_s, to_s=body.to_s,
    )  # fmt: skip
    return _proposal(made)


@clashes_api.post("/clashes/free", response_model=ProposalOut)
def free(song_id: Id, body: FreeIn) -> Any:
    """All carves that free one track, within limits. Nothing is changed."""
    limits = Limits(most_db=body.max_cut_db, most_moves=body.most_moves)
    made = carving.free_track(
        song_id, body.track_id, limits, untouched=body.untouched, from_s=body.from_s, to_s=body.to_s
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


@clashes_api.post("/clashes/switch", response_model=s.SongOut)
def switch(song_id: Id, body: SwitchIn, page: Page = "") -> Any:
    """Switch all carves of the song on or off, in one step."""
    with session() as open_session:
        carving.switch_all(open_session, song_id, body.on, page)
        return read_song(open_session, song_id, page)


@clashes_api.get("/floor", response_model=flooring.SongFloor)
def floor(song_id: Id, from_s: Time = None, to_s: Time = None) -> Any:
    """How much low end each track carries, and the low cuts that are just not heard."""
    return flooring.song_floor(song_id, from_s, to_s)


@clashes_api.post("/floor", response_model=s.SongOut, status_code=201)
def accept_floor(song_id: Id, body: FloorIn, page: Page = "") -> Any:
    """Make low cuts of the floor, all in one step."""
    cuts = [(c.track_id, c.frequency_hz, c.slope_db_per_octave) for c in body.cuts]
    with session() as open_session:
        flooring.accept_floor(open_session, song_id, cuts, page)
        return read_song(open_session, song_id, page)
