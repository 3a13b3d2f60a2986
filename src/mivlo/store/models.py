"""Tables. The rules that can live in the database do: states, ranges, uniqueness."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    Boolean,
    CheckConstraint,
    DateTime,
    Float,
    ForeignKey,
    Identity,
    Index,
    Integer,
    Text,
    false,
    func,
)
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship


class Base(DeclarativeBase):
    """Base of all tables."""


class Song(Base):
    """A song: a list of tracks at one sample rate. `revision` grows with every change."""

    __tablename__ = "songs"

    id: Mapped[int] = mapped_column(Integer, Identity(), primary_key=True)
    name: Mapped[str] = mapped_column(Text)
    sample_rate: Mapped[int] = mapped_column(Integer)
    revision: Mapped[int] = mapped_column(Integer, default=0)
    passage_from_s: Mapped[float | None] = mapped_column(Float)
    passage_to_s: Mapped[float | None] = mapped_column(Float)
    look_in_passage: Mapped[bool] = mapped_column(Boolean, default=False, server_default=false())
    deleted: Mapped[bool] = mapped_column(Boolean, default=False)
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())

    tracks: Mapped[list[Track]] = relationship(back_populates="song", order_by="Track.position, Track.id")

    __table_args__ = (
        CheckConstraint("sample_rate BETWEEN 8000 AND 192000", name="songs_sample_rate_usable"),
        CheckConstraint("(passage_from_s IS NULL) = (passage_to_s IS NULL)", name="songs_passage_whole"),
        CheckConstraint("passage_from_s < passage_to_s", name="songs_passage_forward"),
    )


class Track(Base):
    """One recording in a song. Deleting hides it, so that it can be undone."""

    __tablename__ = "tracks"

    id: Mapped[int] = mapped_column(Integer, Identity(), primary_key=True)
    song_id: Mapped[int] = mapped_column(ForeignKey("songs.id", ondelete="CASCADE"), index=True)
    name: Mapped[str] = mapped_column(Text)
    role: Mapped[str] = mapped_column(Text)
    position: Mapped[int] = mapped_column(Integer)
    file_name: Mapped[str] = mapped_column(Text)
    audio_sha256: Mapped[str] = mapped_column(Text)
    source_rate: Mapped[int] = mapped_column(Integer)
    source_frames: Mapped[int] = mapped_column(BigInteger)
    channels: Mapped[int] = mapped_column(Integer)
    frames: Mapped[int] = mapped_column(BigInteger)
    notice: Mapped[str] = mapped_column(Text, default="")
    fader_db: Mapped[float] = mapped_column(Float, default=0.0)
    pan: Mapped[float] = mapped_column(Float, default=0.0)
    mute: Mapped[bool] = mapped_column(Boolean, default=False)
    solo: Mapped[bool] = mapped_column(Boolean, default=False)
    deleted: Mapped[bool] = mapped_column(Boolean, default=False)

    song: Mapped[Song] = relationship(back_populates="tracks")
    moves: Mapped[list[MoveRow]] = relationship(back_populates="track", order_by="MoveRow.position, MoveRow.id")

    __table_args__ = (
        CheckConstraint("channels IN (1, 2)", name="tracks_mono_or_stereo"),
        CheckConstraint("fader_db BETWEEN -100 AND 12", name="tracks_fader_range"),
        CheckConstraint("pan BETWEEN -1 AND 1", name="tracks_pan_range"),
    )


class MoveRow(Base):
    """One treatment step of a track."""

    __tablename__ = "moves"

    id: Mapped[int] = mapped_column(Integer, Identity(), primary_key=True)
    track_id: Mapped[int] = mapped_column(ForeignKey("tracks.id", ondelete="CASCADE"), index=True)
    position: Mapped[int] = mapped_column(Integer)
    shape: Mapped[str] = mapped_column(Text)
    frequency_hz: Mapped[float] = mapped_column(Float)
    q: Mapped[float] = mapped_column(Float)
    gain_db: Mapped[float] = mapped_column(Float, default=0.0)
    slope_db_per_octave: Mapped[int] = mapped_column(Integer, default=12)
    enabled: Mapped[bool] = mapped_column(Boolean, default=True)
    deleted: Mapped[bool] = mapped_column(Boolean, default=False)

    track: Mapped[Track] = relationship(back_populates="moves")

    __table_args__ = (
        CheckConstraint(
            "shape IN ('bell','notch','low_shelf','high_shelf','low_cut','high_cut','band_pass')",
            name="moves_shape_known",
        ),
        CheckConstraint("frequency_hz BETWEEN 10 AND 24000", name="moves_frequency_range"),
        CheckConstraint("q BETWEEN 0.1 AND 100", name="moves_q_range"),
        CheckConstraint("gain_db BETWEEN -30 AND 30", name="moves_gain_range"),
        CheckConstraint("slope_db_per_octave IN (6,12,18,24,36,48)", name="moves_slope_known"),
    )


class AnalysisRow(Base):
    """What a track was last looked at for findings: `key` names sound, role, range, moves and method."""

    __tablename__ = "analyses"

    track_id: Mapped[int] = mapped_column(ForeignKey("tracks.id", ondelete="CASCADE"), primary_key=True)
    key: Mapped[str] = mapped_column(Text)
    method: Mapped[int] = mapped_column(Integer)
    from_s: Mapped[float] = mapped_column(Float)
    to_s: Mapped[float] = mapped_column(Float)
    treated: Mapped[bool] = mapped_column(Boolean)
    along: Mapped[dict[str, Any]] = mapped_column(JSONB)
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class FindingRow(Base):
    """Something that stood out in a track, and what was decided of it.

    `present` says whether the last look still found it; what was decided stays anyway.
    """

    __tablename__ = "findings"

    id: Mapped[int] = mapped_column(Integer, Identity(), primary_key=True)
    track_id: Mapped[int] = mapped_column(ForeignKey("tracks.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str] = mapped_column(Text)
    frequency_hz: Mapped[float] = mapped_column(Float)
    bandwidth_oct: Mapped[float] = mapped_column(Float)
    rank: Mapped[float] = mapped_column(Float)
    document: Mapped[dict[str, Any]] = mapped_column(JSONB)
    state: Mapped[str] = mapped_column(Text, default="open")  # open, accepted, rejected
    move_id: Mapped[int | None] = mapped_column(ForeignKey("moves.id", ondelete="CASCADE"))
    present: Mapped[bool] = mapped_column(Boolean, default=True)
    left_db: Mapped[float | None] = mapped_column(Float)

    move: Mapped[MoveRow | None] = relationship()

    __table_args__ = (
        CheckConstraint("state IN ('open','accepted','rejected')", name="findings_state_known"),
        CheckConstraint("(state = 'accepted') = (move_id IS NOT NULL)", name="findings_accepted_with_move"),
    )


class Edit(Base):
    """One change of a song: what it did and what undoes it. Only `state` ever changes."""

    __tablename__ = "edits"

    id: Mapped[int] = mapped_column(Integer, Identity(), primary_key=True)
    song_id: Mapped[int] = mapped_column(ForeignKey("songs.id", ondelete="CASCADE"))
    revision: Mapped[int] = mapped_column(Integer)
    label: Mapped[str] = mapped_column(Text)
    forward: Mapped[list[dict[str, Any]]] = mapped_column(JSONB)
    backward: Mapped[list[dict[str, Any]]] = mapped_column(JSONB)
    state: Mapped[str] = mapped_column(Text, default="done")  # done, undone, abandoned
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())

    __table_args__ = (
        CheckConstraint("state IN ('done','undone','abandoned')", name="edits_state_known"),
        Index("edits_of_song", "song_id", "id"),
    )


class TaskRow(Base):
    """Long work as the user sees it; the queue itself belongs to procrastinate."""

    __tablename__ = "tasks"

    id: Mapped[int] = mapped_column(Integer, Identity(), primary_key=True)
    song_id: Mapped[int] = mapped_column(ForeignKey("songs.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str] = mapped_column(Text)
    label: Mapped[str] = mapped_column(Text)
    state: Mapped[str] = mapped_column(Text, default="waiting")
    progress: Mapped[float] = mapped_column(Float, default=0.0)
    message: Mapped[str] = mapped_column(Text, default="")
    cancel: Mapped[bool] = mapped_column(Boolean, default=False)
    payload: Mapped[dict[str, Any]] = mapped_column(JSONB, default=dict)
    result: Mapped[dict[str, Any]] = mapped_column(JSONB, default=dict)
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())

    __table_args__ = (
        CheckConstraint("kind IN ('import','export','analyse')", name="tasks_kind_known"),
        CheckConstraint("state IN ('waiting','running','done','failed','cancelled')", name="tasks_state_known"),
        CheckConstraint("progress BETWEEN 0 AND 1", name="tasks_progress_range"),
    )
