"""What goes over the wire, in and out."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator
from pydantic_core import PydanticCustomError

from mivlo.audio.encode import Container, Depth
from mivlo.core.graph import StripKind
from mivlo.core.making.starts import StartName
from mivlo.core.moves import MOST_MOVES, Aftercare, Entry, Phase
from mivlo.core.moves.bounds import GainDb, Hertz, Quality, Seconds
from mivlo.core.moves.entry import Name as AmountName
from mivlo.core.moves.members import Spacing
from mivlo.core.moves.treatment import Amount
from mivlo.core.roles import Role
from mivlo.description import changes_model, entry_document, flat_union
from mivlo.services.findings.documents import FindingDocument
from mivlo.services.making.gathering import Direction
from mivlo.services.recordings.placing import Placing
from mivlo.services.song.rights import Way


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


def unsaved(entry: Entry) -> dict[str, Any]:
    """A move that is only proposed, as the page gets it: it has no number yet."""
    return {**entry_document(entry), "id": 0}


class StripOut(Out):
    """A strip of any kind. A group or the mix is as long as the song."""

    id: int
    kind: StripKind
    parent_id: int | None
    name: str
    role: Role
    fader_db: float
    pan: float
    mute: bool
    solo: bool
    turned: bool
    revision: int
    channels: int
    frames: int
    open_findings: int
    decided_findings: int
    moves: list[MoveOut]
    phase: Phase
    amounts: dict[str, float]
    aftercare: Aftercare
    rings_before_ms: float
    kept: list[tuple[float, float]]


class TrackOut(StripOut):
    """A strip with a recording."""

    file_name: str
    audio_sha256: str
    source_rate: int
    notice: str
    importance: int | None
    starts_at_s: float
    reference_s: float | None = Field(description="when the file says that it began, in seconds from midnight")
    markers: list[PlaceMarkedOut]


class PlaceMarkedOut(Out):
    """A marker: seconds in the song, and what it is called."""

    at_s: float
    label: str


class PairOut(Out):
    """Two mono tracks that look like the sides of one, and the name that they share."""

    left_id: int
    right_id: int
    name: str


class PassageOrderOut(Out):
    """Tracks by importance between two times."""

    from_s: float
    to_s: float
    track_ids: list[int]


class DecisionOut(Out):
    """Which of two tracks keeps a range."""

    covered: int
    by: int
    from_hz: float
    to_hz: float
    way: Way


class SongOut(Out):
    id: int
    name: str
    sample_rate: int
    revision: int
    passage_from_s: float | None
    passage_to_s: float | None
    look_in_passage: bool
    playback_db_spl: float
    decisions: list[DecisionOut]
    orders: list[PassageOrderOut]
    duration_s: float
    undo_label: str | None
    redo_label: str | None
    tracks: list[TrackOut]
    outline: int
    strips: list[StripOut]
    pairs: list[PairOut]
    arrives: dict[int, str] = Field(description="of groups and the mix: a name of the sound that reaches their moves")


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
    song_says: str
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
    playback_db_spl: float | None = Field(None, ge=40, le=110)
    outline: Revision | None = Field(None, description="refuse with 409 if the song's outline is at another revision")


class TrackChange(In):
    revision: Revision | None = None
    name: Name | None = None
    role: Role | None = None
    fader_db: float | None = Field(None, ge=-100, le=12)
    pan: float | None = Field(None, ge=-1, le=1)
    mute: bool | None = None
    solo: bool | None = None
    turned: Annotated[bool, Field(description="whether its polarity is turned")] | None = None
    phase: Phase | None = None
    amounts: Annotated[dict[AmountName, Amount], Field(max_length=1 + MOST_MOVES)] | None = None
    aftercare: Aftercare | None = None
    kept: Annotated[list[tuple[Hertz, Hertz]], Field(max_length=64)] | None = Field(
        None, description="ranges in Hz that must stay: findings and carves spare them"
    )
    strip_revision: Revision | None = Field(None, description="refuse with 409 if the strip is at another revision")


class PlacingIn(In):
    by: Placing = Field(description="as the files' time references say, or all at zero")


class WatchIn(In):
    """Folders below those that the start was given; a name that does not begin with / lies below the first of them."""

    source: Annotated[str, Field(min_length=1, max_length=1000)]
    out: Annotated[str, Field(min_length=1, max_length=1000)]


class WatchOut(Out):
    """What a song watches and writes, what was said last, and below which folders both may lie."""

    source: str | None
    out: str | None
    says: list[str]
    roots: list[str]


class PairIn(In):
    left_id: Id
    right_id: Id


class TrackOrder(In):
    revision: Revision | None = None
    order: list[Id] = Field(max_length=1000)
    outline: Revision | None = None


class NewGroup(In):
    name: Name
    strip_ids: list[Id] = Field([], max_length=1000, description="what shall be in it")


class Routing(In):
    may_be_null: ClassVar[frozenset[str]] = In.may_be_null | {"parent_id", "before_id"}

    parent_id: Id | None
    before_id: Id | None = Field(None, description="the strip in front of which it stands then; left out: behind all")
    outline: Revision | None = None


class _Against(In):
    """What state a change is made against; with another one it is refused with 409."""

    revision: Revision | None = None
    strip_revision: Revision | None = None


class _Changing(_Against):
    alone: bool = Field(False, description="the moves of its set, or its twins, do not follow")


NewMove: Any = flat_union("NewMove", base=_Against, doc="A move to be made.")
MoveChange: Any = changes_model("MoveChange", base=_Changing, doc="New values of a move; the others stay.")


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


class GatheringIn(In):
    """Which moves shall be on a group in place of its tracks, or on the tracks in its place."""

    direction: Direction
    move_ids: list[Id] = Field(min_length=1, max_length=MOST_MOVES * 10)
    outline: Revision | None = Field(None, description="refuse with 409 if the song's outline is at another revision")


class GatheredOut(Out):
    """A move that would be made, the moves that it stands for, and a sentence about it."""

    strip_id: int
    move: MoveOut
    of: list[int]
    says: str


class DifferenceOut(Out):
    """By how much a group's sum would change: in loudness, and in the third of an octave that changes most."""

    lu: float
    most_db: float
    at_hz: float


class GatheringOut(Out):
    lines: list[GatheredOut]
    stays: list[str]
    difference: DifferenceOut


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


# --- habits of the hand -----------------------------------------------------------------------------

RecipeId = Annotated[str, Field(max_length=300)]
MoveIds = Annotated[list[Id], Field(max_length=MOST_MOVES)]


class MoveOrder(In):
    """All moves of a strip, in the order that they shall have."""

    strip_revision: Revision | None = None
    move_ids: MoveIds


class ResetIn(In):
    """Which values go back to how the move was made; all of them where none is named."""

    strip_revision: Revision | None = None
    fields: list[Annotated[str, Field(max_length=60)]] = Field([], max_length=60)


class NewSet(In):
    """Bells at the octaves or multiples of a frequency, which move together."""

    strip_revision: Revision | None = None
    from_hz: Hertz = Field(description="the lowest member")
    count: int = Field(5, ge=1, le=16)
    spacing: Spacing = Spacing.OCTAVES
    gain_db: GainDb = -6.0
    q: Quality = 8.0
    taper_db: float = Field(0.0, ge=0, le=24, description="each member is by so much nearer to no gain")


class TwinsIn(In):
    """Moves that shall be on other strips as well."""

    move_ids: MoveIds
    to: list[Id] = Field(max_length=500)
    retune: bool = False
    linked: bool = False


class LeftOut(Out):
    """A move that has no counterpart on a strip."""

    strip_id: int
    of: int
    says: str


class TwinsOut(Out):
    """The song with the twins, and what has none."""

    song: SongOut
    left_out: list[LeftOut]


class BalanceIn(In):
    """Towards which strip, which reference file, or, from when to when, which other stretch of the same strip."""

    towards: Id | None = None
    reference: Annotated[str, Field(pattern="^[0-9a-f]{64}$")] | None = None
    strength: float = Field(0.5, ge=0, le=1)
    only_cuts: bool = True
    limit_db: float = Field(6.0, ge=0.5, le=24)
    smooth_oct: float = Field(0.5, ge=0, le=3)
    most: int = Field(6, ge=1, le=12)
    from_s: Seconds | None = None
    to_s: Seconds | None = None

    may_be_null: ClassVar[frozenset[str]] = frozenset({"towards", "reference", "from_s", "to_s"})


class ReferenceOut(Out):
    """A reference file whose spectrum is kept."""

    id: str
    name: str
    seconds: float


class FittedIn(In):
    """Rungs that shall become ordinary moves."""

    strip_revision: Revision | None = None
    move_id: Id
    most: int = Field(8, ge=1, le=12)


class FittedOut(Out):
    """The song with the moves, and how well they follow."""

    song: SongOut
    says: str


class NewSnapshot(In):
    """A name for how a strip, or without one the song, is treated now."""

    name: Annotated[str, Field(max_length=300)]
    strip_id: Id | None = None

    may_be_null: ClassVar[frozenset[str]] = frozenset({"strip_id"})


class SnapshotOut(Out):
    """A kept state."""

    id: int
    name: str
    strip_id: int | None
    created_at: datetime


class NewRecipe(In):
    """A name for a treatment, and a sentence when to use it."""

    name: Annotated[str, Field(max_length=300)]
    says: Annotated[str, Field(max_length=300)] = ""


class RecipeOut(Out):
    """A treatment kept for later."""

    id: str
    name: str
    role: Role
    says: str
    moves: int
    own: bool


class UseRecipe(In):
    """Which recipe, and whether its narrow cuts are moved to where they ring here."""

    strip_revision: Revision | None = None
    recipe: RecipeId
    retune: bool = True


class SheetIn(In):
    """The text of a sheet, and what its file is called."""

    strip_revision: Revision | None = None
    text: Annotated[str, Field(max_length=10_000_000)]
    name: Annotated[str, Field(max_length=300)] = "the sheet"
    retune: bool = False


class PutInOut(Out):
    """The song with the moves, and what was left out, a sentence each."""

    song: SongOut
    left_out: list[str]
