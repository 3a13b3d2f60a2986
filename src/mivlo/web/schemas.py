"""What goes over the wire, in and out."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from mivlo.audio.encode import Container, Depth
from mivlo.core.moves import BUTTERWORTH_Q, Shape
from mivlo.services.found import FindingDocument
from mivlo.services.roles import Role


class _Out(BaseModel):
    model_config = ConfigDict(from_attributes=True)


class _In(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class MoveOut(_Out):
    id: int
    shape: Shape
    frequency_hz: float
    q: float
    octaves: float
    gain_db: float
    slope_db_per_octave: int
    enabled: bool


class TrackOut(_Out):
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


class SongOut(_Out):
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


class SongLine(_Out):
    id: int
    name: str
    sample_rate: int
    tracks: int


class TaskOut(_Out):
    id: int
    kind: str
    label: str
    state: str
    progress: float
    message: str
    result: dict[str, Any]


class EditOut(_Out):
    id: int
    revision: int
    label: str
    state: str
    created_at: datetime


class ProfileOut(_Out):
    grid_hz: list[float]
    untreated_db: list[float]
    treated_db: list[float]


class FindingOut(_Out):
    id: int
    track_id: int
    state: Literal["open", "accepted", "rejected"]
    move_id: int | None
    left_db: float | None
    in_tracks: int
    document: FindingDocument


class AlongOut(_Out):
    """Evidence at every frequency: arrays over `hz`."""

    hz: list[float]
    excess_db: list[float]
    share: list[float]
    fixed_db: list[float]
    ring_ms: list[float]


class FindingsOut(_Out):
    fresh: bool
    looking: float | None
    from_s: float
    to_s: float
    treated: bool
    along: AlongOut | None
    findings: list[FindingOut]


class RepeatOut(_Out):
    kind: str
    frequency_hz: float
    track_ids: list[int]


class MapInfo(_Out):
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


class AnalysisOut(_Out):
    loudness_lufs: float
    true_peak_dbtp: float


class Health(_Out):
    database: bool
    workers: int


class NewSong(_In):
    name: str
    sample_rate: int = 48_000


class SongChange(_In):
    revision: int | None = None
    name: str | None = None
    passage_from_s: float | None = None
    passage_to_s: float | None = None
    look_in_passage: bool | None = None


class TrackChange(_In):
    revision: int | None = None
    name: str | None = None
    role: Role | None = None
    fader_db: float | None = Field(None, ge=-100, le=12)
    pan: float | None = Field(None, ge=-1, le=1)
    mute: bool | None = None
    solo: bool | None = None


class TrackOrder(_In):
    revision: int | None = None
    order: list[int]


class NewMove(_In):
    revision: int | None = None
    shape: Shape
    frequency_hz: float
    q: float = BUTTERWORTH_Q
    gain_db: float = 0.0
    slope_db_per_octave: int = 12
    enabled: bool = True


class MoveChange(_In):
    revision: int | None = None
    shape: Shape | None = None
    frequency_hz: float | None = None
    q: float | None = None
    gain_db: float | None = None
    slope_db_per_octave: int | None = None
    enabled: bool | None = None


class Decision(_In):
    revision: int | None = None


class Acceptance(_In):
    """`move`: adjusted first; left out, the proposed one is made."""

    revision: int | None = None
    move: NewMove | None = None


class NewExport(_In):
    track_ids: list[int]
    depth: Depth = Depth.BITS_24
    container: Container = Container.WAV
    original_rate: bool = False
