"""What goes over the wire, in and out."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator
from pydantic_core import PydanticCustomError

from mivlo.audio.encode import Container, Depth
from mivlo.core.graph import StripKind
from mivlo.core.making.starts import StartName
from mivlo.core.moves import MOST_MOVES, Aftercare, Phase
from mivlo.core.moves.bounds import Hertz, Quality, Seconds
from mivlo.core.moves.entry import Name as AmountName
from mivlo.core.moves.treatment import Amount
from mivlo.core.roles import Role
from mivlo.description import changes_model, flat_union
from mivlo.services.findings.documents import FindingDocument


class Out(BaseModel):
    model_config = ConfigDict(from_attributes=True)


LARGEST = 2**31 - 1
"""The largest number that the database has for an id or a revision."""
Id = Annotated[int, Field(ge=1, le=LARGEST)]
Revision = Annotated[int, Field(ge=0, le=LARGEST)]
Name = Annotated[str, Field(max_length=300)]


class In(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    may_be_null: ClassVar[frozenset[str]] = frozenset({"revision", "strip_revision", "outline"})

    @field_validator("*", mode="before")
    @classmethod
    def _no_null(cls, value: Any, info: Any) -> Any:
        """Keys may be left out; null is no value of those that have one."""
        if value is None and info.field_name not in cls.may_be_null:
            raise PydanticCustomError("null", "it can't be null; leave it out to keep what is there")
        return value


class _MoveBase(Out):
    id: int
    octaves: float | None = None


MoveOut: Any = flat_union("MoveOut", base=_MoveBase, doc="A move of a strip, with its width in octaves if it has one.")


class StripOut(Out):
    """A strip of any kind."""

    id: int
    kind: StripKind
    parent_id: int | None
    name: str
    role: Role
    fader_db: float
    pan: float
    mute: bool
    solo: bool
    revision: int
    moves: list[MoveOut]
    phase: Phase
    amounts: dict[str, float]
    aftercare: Aftercare
    rings_before_ms: float


class TrackOut(Out):
    id: int
    name: str
    role: Role
    file_name: str
    audio_sha256: str
    source_rate: int
    channels: int
    frames: int
    notice: str
    fader_db: float
    pan: float
    mute: bool
    solo: bool
    open_findings: int
    decided_findings: int
    moves: list[MoveOut]
    parent_id: int | None
    revision: int
    phase: Phase
    amounts: dict[str, float]
    aftercare: Aftercare
    rings_before_ms: float


class SongOut(Out):
    id: int
    name: str
    sample_rate: int
    revision: int
    passage_from_s: float | None
    passage_to_s: float | None
    look_in_passage: bool
    duration_s: float
    undo_label: str | None
    redo_label: str | None
    tracks: list[TrackOut]
    outline: int
    strips: list[StripOut]


class SongLine(Out):
    id: int
    name: str
    sample_rate: int
    tracks: int


class TaskOut(Out):
    id: int
    kind: str
    label: str
    state: str
    progress: float
    message: str
    attempts: int
    result: dict[str, Any]


class EditOut(Out):
    """A line of the history. Lines of one step share its `step_id`; `of_id` is what an undo, redo or go is of."""

    id: int
    revision: int
    label: str
    state: Literal["done", "undone", "abandoned"]
    created_at: datetime
    kind: Literal["change", "undo", "redo", "go"]
    of_id: int | None
    step_id: int
    page: str


class BackOut(Out):
    """A cut that is undone in part by what comes behind it."""

    frequency_hz: float
    db: float


class ProfileOut(Out):
    grid_hz: list[float]
    untreated_db: list[float]
    treated_db: list[float]
    behind_db: list[float] | None = None
    comes_back: list[BackOut]


class FindingOut(Out):
    id: int
    track_id: int
    state: Literal["open", "accepted", "rejected"]
    move_id: int | None
    left_db: float | None
    in_tracks: int
    document: FindingDocument


class AlongOut(Out):
    """Evidence at every frequency: arrays over `hz`."""

    hz: list[float]
    excess_db: list[float]
    share: list[float]
    fixed_db: list[float]
    ring_ms: list[float]


class FindingsOut(Out):
    fresh: bool
    looking: float | None
    from_s: float
    to_s: float
    treated: bool
    along: AlongOut | None
    findings: list[FindingOut]


class RepeatOut(Out):
    kind: str
    frequency_hz: float
    track_ids: list[int]


class MapInfo(Out):
    """The frame in which the tiles of a track's time map lie."""

    rows: int
    lowest_hz: float
    rows_per_octave: int
    tile_columns: int
    floor_db: float
    step_db: float
    column_s: float
    columns: int
    levels: int


class AnalysisOut(Out):
    loudness_lufs: float
    true_peak_dbtp: float


class Health(Out):
    database: bool
    workers: int
    signed_in: bool


class DiskOut(Out):
    """Bytes: free, and what exports and caches take that could be freed."""

    free: int
    exports: int
    caches: int


class Freed(Out):
    freed: int


class Tidy(In):
    exports: bool = False
    caches: bool = False


class Restored(Out):
    song_ids: list[int]


class NewSong(In):
    name: Name
    sample_rate: int = 48_000


class SongChange(In):
    may_be_null: ClassVar[frozenset[str]] = In.may_be_null | {"passage_from_s", "passage_to_s"}

    revision: Revision | None = None
    name: Name | None = None
    passage_from_s: float | None = None
    passage_to_s: float | None = None
    look_in_passage: bool | None = None
    outline: Revision | None = Field(None, description="refuse with 409 if the song's outline is at another revision")


class TrackChange(In):
    revision: Revision | None = None
    name: Name | None = None
    role: Role | None = None
    fader_db: float | None = Field(None, ge=-100, le=12)
    pan: float | None = Field(None, ge=-1, le=1)
    mute: bool | None = None
    solo: bool | None = None
    phase: Phase | None = None
    amounts: Annotated[dict[AmountName, Amount], Field(max_length=1 + MOST_MOVES)] | None = None
    aftercare: Aftercare | None = None
    strip_revision: Revision | None = Field(None, description="refuse with 409 if the strip is at another revision")


class TrackOrder(In):
    revision: Revision | None = None
    order: list[Id] = Field(max_length=1000)
    outline: Revision | None = None


class NewGroup(In):
    name: Name


class Routing(In):
    may_be_null: ClassVar[frozenset[str]] = In.may_be_null | {"parent_id"}

    parent_id: Id | None
    outline: Revision | None = None


class _Against(In):
    """What state a change is made against; with another one it is refused with 409."""

    revision: Revision | None = None
    strip_revision: Revision | None = None


NewMove: Any = flat_union("NewMove", base=_Against, doc="A move to be made.")
MoveChange: Any = changes_model("MoveChange", base=_Against, doc="New values of a move; the others stay.")


class StartOut(Out):
    """A ready start for moves that listen."""

    name: StartName
    title: str
    when: str


class NewStart(In):
    may_be_null: ClassVar[frozenset[str]] = In.may_be_null | {"frequency_hz", "q", "key"}

    strip_revision: Revision | None = None
    name: StartName
    frequency_hz: Hertz | None = None
    q: Quality | None = None
    key: Id | None = Field(None, description="the strip that it listens to")


class LearnIn(In):
    """Between which frequencies something is to be learned."""

    from_hz: float = Field(150.0, ge=20.0, le=20_000.0)
    to_hz: float = Field(8_000.0, ge=20.0, le=20_000.0)
    strip_revision: Revision | None = None


class LearnedOut(Out):
    """The song with what was learned, and a sentence about it."""

    song: SongOut
    says: str


class SpotIn(In):
    from_hz: Hertz
    to_hz: Hertz
    from_s: Seconds
    to_s: Seconds
    everywhere: bool = False


class AlikeOut(Out):
    """A moment that is like a spot, 0 to 1."""

    track_id: int
    from_s: float
    to_s: float
    strength: float


class Decision(In):
    revision: Revision | None = None


class Acceptance(In):
    """`move`: adjusted first; left out, the proposed one is made."""

    may_be_null: ClassVar[frozenset[str]] = In.may_be_null | {"move"}

    revision: Revision | None = None
    move: NewMove | None = None


class NewExport(In):
    track_ids: list[Id] = Field(max_length=1000)
    depth: Depth = Depth.BITS_24
    container: Container = Container.WAV
    original_rate: bool = False
    aftercare: bool = True
    reverb: bool = False
