"""What the page sees of a song: plain frozen values, read in one go."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import and_, func, not_, or_, select
from sqlalchemy.orm import Session, selectinload

from mivlo.core.moves import Move, Shape, StaticMove
from mivlo.services.errors import NotFound
from mivlo.store.models import Edit, FindingRow, MoveRow, Song, Track


@dataclass(frozen=True, slots=True)
class MoveState:
    id: int
    shape: Shape
    frequency_hz: float
    q: float
    octaves: float
    gain_db: float
    slope_db_per_octave: int
    enabled: bool

    def move(self) -> Move:
        return StaticMove(
            self.shape,
            self.frequency_hz,
            q=self.q,
            gain_db=self.gain_db,
            slope_db_per_octave=self.slope_db_per_octave,
            enabled=self.enabled,
        )


@dataclass(frozen=True, slots=True)
class TrackState:
    id: int
    name: str
    role: str
    file_name: str
    audio_sha256: str
    source_rate: int
    source_frames: int
    channels: int
    frames: int
    notice: str
    fader_db: float
    pan: float
    mute: bool
    solo: bool
    open_findings: int
    decided_findings: int
    moves: tuple[MoveState, ...]


@dataclass(frozen=True, slots=True)
class SongState:
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
    tracks: tuple[TrackState, ...]

    def track(self, track_id: int) -> TrackState:
        for track in self.tracks:
            if track.id == track_id:
                return track
        raise NotFound("track", track_id)


def _move_state(row: MoveRow) -> MoveState:
    move = StaticMove(Shape(row.shape), row.frequency_hz, q=row.q)
    return MoveState(
        id=row.id,
        shape=move.shape,
        frequency_hz=row.frequency_hz,
        q=row.q,
        octaves=move.octaves,
        gain_db=row.gain_db,
        slope_db_per_octave=row.slope_db_per_octave,
        enabled=row.enabled,
    )


def is_decided(row: FindingRow) -> bool:
    """Whether somebody decided; an accepted one whose move was deleted is open again."""
    return row.state == "rejected" or (row.move is not None and not row.move.deleted)


def _counts(session: Session, track_ids: list[int]) -> dict[int, tuple[int, int]]:
    """Per track: findings that are open, and that were decided."""
    taken = and_(FindingRow.state == "accepted", MoveRow.deleted.is_(False))
    decided = or_(FindingRow.state == "rejected", taken)
    query = (
        select(
            FindingRow.track_id,
            func.count().filter(not_(func.coalesce(decided, False)), FindingRow.present),
            func.count().filter(func.coalesce(decided, False)),
        )
        .outerjoin(MoveRow, MoveRow.id == FindingRow.move_id)
        .where(FindingRow.track_id.in_(track_ids))
        .group_by(FindingRow.track_id)
    )
    return {track: (int(left), int(done)) for track, left, done in session.execute(query)}


def _track_state(row: Track, counts: tuple[int, int]) -> TrackState:
    return TrackState(
        id=row.id,
        name=row.name,
        role=row.role,
        file_name=row.file_name,
        audio_sha256=row.audio_sha256,
        source_rate=row.source_rate,
        source_frames=row.source_frames,
        channels=row.channels,
        frames=row.frames,
        notice=row.notice,
        fader_db=row.fader_db,
        pan=row.pan,
        mute=row.mute,
        solo=row.solo,
        open_findings=counts[0],
        decided_findings=counts[1],
        moves=tuple(_move_state(move) for move in row.moves if not move.deleted),
    )


def next_edit(session: Session, song_id: int, state: str) -> Edit | None:
    """The edit that undo (state "done") or redo (state "undone") would take up."""
    order = Edit.id.desc() if state == "done" else Edit.id.asc()
    query = select(Edit).where(Edit.song_id == song_id, Edit.state == state).order_by(order).limit(1)
    return session.scalars(query).first()


def read_song(session: Session, song_id: int) -> SongState:
    """The whole state of a song; NotFound if there is none."""
    query = (
        select(Song)
        .where(Song.id == song_id, Song.deleted.is_(False))
        .options(selectinload(Song.tracks).selectinload(Track.moves))
        .execution_options(populate_existing=True)
    )
    row = session.scalars(query).first()
    if row is None:
        raise NotFound("song", song_id)
    shown = [track for track in row.tracks if not track.deleted]
    counts = _counts(session, [track.id for track in shown])
    tracks = tuple(_track_state(track, counts.get(track.id, (0, 0))) for track in shown)
    undo, redo = next_edit(session, song_id, "done"), next_edit(session, song_id, "undone")
    return SongState(
        id=row.id,
        name=row.name,
        sample_rate=row.sample_rate,
        revision=row.revision,
        passage_from_s=row.passage_from_s,
        passage_to_s=row.passage_to_s,
        look_in_passage=row.look_in_passage,
        duration_s=max((track.frames for track in tracks), default=0) / row.sample_rate,
        undo_label=undo.label if undo else None,
        redo_label=redo.label if redo else None,
        tracks=tracks,
    )
