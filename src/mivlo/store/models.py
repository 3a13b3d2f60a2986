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
    text,
)
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship

Json = dict[str, Any]


class Base(DeclarativeBase):
    """Base of all tables."""


class Song(Base):
    """A song: strips at one sample rate.

    `revision` grows with every change; `outline` only with those of name, passage, order and parents. `decisions` say
    which of two tracks keeps a range: covered, by, from_hz, to_hz, way.
    """

    __tablename__ = "songs"

    id: Mapped[int] = mapped_column(Integer, Identity(), primary_key=True)
    name: Mapped[str] = mapped_column(Text)
    sample_rate: Mapped[int] = mapped_column(Integer)
    revision: Mapped[int] = mapped_column(Integer, default=0)
    outline: Mapped[int] = mapped_column(Integer, default=0, server_default="0")
    passage_from_s: Mapped[float | None] = mapped_column(Float)
    passage_to_s: Mapped[float | None] = mapped_column(Float)
    look_in_passage: Mapped[bool] = mapped_column(Boolean, default=False, server_default=false())
    playback_db_spl: Mapped[float] = mapped_column(Float, default=79.0, server_default="79")
    decisions: Mapped[list[Json]] = mapped_column(JSONB, default=list, server_default=text("'[]'"))
    orders: Mapped[list[Json]] = mapped_column(JSONB, default=list, server_default=text("'[]'"))
    deleted: Mapped[bool] = mapped_column(Boolean, default=False)
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())

    strips: Mapped[list[StripRow]] = relationship(back_populates="song", order_by="StripRow.position, StripRow.id")

    __table_args__ = (
        CheckConstraint("sample_rate BETWEEN 8000 AND 192000", name="songs_sample_rate_usable"),
        CheckConstraint("(passage_from_s IS NULL) = (passage_to_s IS NULL)", name="songs_passage_whole"),
        CheckConstraint("passage_from_s < passage_to_s", name="songs_passage_forward"),
        CheckConstraint("playback_db_spl BETWEEN 40 AND 110", name="songs_playback_range"),
    )


class StripRow(Base):
    """What has a fader and moves: a track, a group, the mix. Deleting hides it, so that it can be undone."""

    __tablename__ = "strips"

    id: Mapped[int] = mapped_column(Integer, Identity(), primary_key=True)
    song_id: Mapped[int] = mapped_column(ForeignKey("songs.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str] = mapped_column(Text, default="track")
    parent_id: Mapped[int | None] = mapped_column(ForeignKey("strips.id", ondelete="SET NULL"))  # none: the mix
    position: Mapped[int] = mapped_column(Integer)
    name: Mapped[str] = mapped_column(Text)
    role: Mapped[str] = mapped_column(Text)
    fader_db: Mapped[float] = mapped_column(Float, default=0.0)
    pan: Mapped[float] = mapped_column(Float, default=0.0)
    mute: Mapped[bool] = mapped_column(Boolean, default=False)
    solo: Mapped[bool] = mapped_column(Boolean, default=False)
    turned: Mapped[bool] = mapped_column(Boolean, default=False, server_default=text("false"))
    phase: Mapped[str] = mapped_column(Text, default="minimum", server_default="minimum")
    amounts: Mapped[Json] = mapped_column(JSONB, default=dict, server_default=text("'{}'"))
    aftercare: Mapped[Json] = mapped_column(JSONB, default=dict, server_default=text("'{}'"))
    importance: Mapped[int | None] = mapped_column(Integer)  # lowest first; none: by role
    kept: Mapped[list[list[float]]] = mapped_column(JSONB, default=list, server_default=text("'[]'"))  # Hz to Hz
    revision: Mapped[int] = mapped_column(Integer, default=0, server_default="0")
    deleted: Mapped[bool] = mapped_column(Boolean, default=False)

    song: Mapped[Song] = relationship(back_populates="strips")
    moves: Mapped[list[MoveRow]] = relationship(back_populates="strip", order_by="MoveRow.position, MoveRow.id")
    recordings: Mapped[list[RecordingRow]] = relationship(back_populates="strip", order_by="RecordingRow.id")

    __table_args__ = (
        CheckConstraint("kind IN ('track','group','mix')", name="strips_kind_known"),
        CheckConstraint("kind <> 'mix' OR parent_id IS NULL", name="strips_mix_has_no_parent"),
        CheckConstraint("parent_id <> id", name="strips_not_own_parent"),
        CheckConstraint("fader_db BETWEEN -100 AND 12", name="strips_fader_range"),
        CheckConstraint("pan BETWEEN -1 AND 1", name="strips_pan_range"),
        CheckConstraint("phase IN ('minimum','linear','analogue')", name="strips_phase_known"),
        Index("strips_one_mix", "song_id", unique=True, postgresql_where=text("kind = 'mix'")),
    )


class RecordingRow(Base):
    """A recording of a track. One is in use; replaced ones stay, so that replacing can be undone.

    `frames` counts those of silence in front of it, `markers` (at_s, label) from its own beginning.
    """

    __tablename__ = "recordings"

    id: Mapped[int] = mapped_column(Integer, Identity(), primary_key=True)
    strip_id: Mapped[int] = mapped_column(ForeignKey("strips.id", ondelete="CASCADE"), index=True)
    file_name: Mapped[str] = mapped_column(Text)
    audio_sha256: Mapped[str] = mapped_column(Text)
    source_rate: Mapped[int] = mapped_column(Integer)
    source_frames: Mapped[int] = mapped_column(BigInteger)
    channels: Mapped[int] = mapped_column(Integer)
    frames: Mapped[int] = mapped_column(BigInteger)  # at the song's rate
    starts_at_s: Mapped[float] = mapped_column(Float, default=0.0, server_default="0")
    reference_s: Mapped[float | None] = mapped_column(Float)  # when it began, as the file says; from midnight
    markers: Mapped[list[Json]] = mapped_column(JSONB, default=list, server_default=text("'[]'"))
    notice: Mapped[str] = mapped_column(Text, default="")
    deleted: Mapped[bool] = mapped_column(Boolean, default=False)

    strip: Mapped[StripRow] = relationship(back_populates="recordings")

    __table_args__ = (
        CheckConstraint("channels IN (1, 2)", name="recordings_mono_or_stereo"),
        CheckConstraint("starts_at_s BETWEEN 0 AND 3600", name="recordings_start_in_song"),
        Index("recordings_one_in_use", "strip_id", unique=True, postgresql_where=text("NOT deleted")),
    )


class MoveRow(Base):
    """One entry of a strip's treatment. `parameters` holds the move, checked by the one description of it."""

    __tablename__ = "moves"

    id: Mapped[int] = mapped_column(Integer, Identity(), primary_key=True)
    strip_id: Mapped[int] = mapped_column(ForeignKey("strips.id", ondelete="CASCADE"), index=True)
    position: Mapped[int] = mapped_column(Integer)
    mode: Mapped[str] = mapped_column(Text)
    parameters: Mapped[Json] = mapped_column(JSONB)
    enabled: Mapped[bool] = mapped_column(Boolean, default=True)
    channels: Mapped[str] = mapped_column(Text, default="all", server_default="all")
    place: Mapped[str] = mapped_column(Text, default="before", server_default="before")
    stretches: Mapped[list[list[float]]] = mapped_column(JSONB, default=list, server_default=text("'[]'"))
    fade_ms: Mapped[float] = mapped_column(Float, default=20.0, server_default="20")
    links: Mapped[list[str]] = mapped_column(JSONB, default=list, server_default=text("'[]'"))
    note: Mapped[str] = mapped_column(Text, default="", server_default="")
    deleted: Mapped[bool] = mapped_column(Boolean, default=False)

    strip: Mapped[StripRow] = relationship(back_populates="moves")

    __table_args__ = (
        CheckConstraint("mode = parameters ->> 'mode'", name="moves_mode_is_that_of_the_parameters"),
        CheckConstraint("jsonb_typeof(parameters) = 'object'", name="moves_parameters_are_an_object"),
        CheckConstraint(
            "NOT parameters ? 'frequency_hz' OR (parameters -> 'frequency_hz')::float BETWEEN 10 AND 24000",
            name="moves_frequency_range",
        ),
        CheckConstraint("channels IN ('all','left','right','mid','side')", name="moves_channels_known"),
        CheckConstraint("place IN ('before','behind')", name="moves_place_known"),
        CheckConstraint("fade_ms BETWEEN 0 AND 1000", name="moves_fade_range"),
    )


class LinkRow(Base):
    """Moves that belong together, also across strips; a move may be in several links."""

    __tablename__ = "links"

    id: Mapped[int] = mapped_column(Integer, Identity(), primary_key=True)
    song_id: Mapped[int] = mapped_column(ForeignKey("songs.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str] = mapped_column(Text)
    name: Mapped[str] = mapped_column(Text, default="")
    values: Mapped[Json] = mapped_column(JSONB, default=dict)
    deleted: Mapped[bool] = mapped_column(Boolean, default=False)

    __table_args__ = (CheckConstraint("kind IN ('amount','harmonics','twins','carve')", name="links_kind_known"),)


class LinkMemberRow(Base):
    """A move in a link, with its own base gain and offset."""

    __tablename__ = "link_members"

    link_id: Mapped[int] = mapped_column(ForeignKey("links.id", ondelete="CASCADE"), primary_key=True)
    move_id: Mapped[int] = mapped_column(ForeignKey("moves.id", ondelete="CASCADE"), primary_key=True, index=True)
    base_gain_db: Mapped[float] = mapped_column(Float, default=0.0)
    offset: Mapped[float] = mapped_column(Float, default=0.0)


class SnapshotRow(Base):
    """A named state of a strip or, without one, of the song, to compare with."""

    __tablename__ = "snapshots"

    id: Mapped[int] = mapped_column(Integer, Identity(), primary_key=True)
    song_id: Mapped[int] = mapped_column(ForeignKey("songs.id", ondelete="CASCADE"), index=True)
    strip_id: Mapped[int | None] = mapped_column(ForeignKey("strips.id", ondelete="CASCADE"))
    name: Mapped[str] = mapped_column(Text)
    document: Mapped[Json] = mapped_column(JSONB)
    deleted: Mapped[bool] = mapped_column(Boolean, default=False)
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class LookRow(Base):
    """What a track was last looked at for findings: `key` names sound, role, range, moves and method."""

    __tablename__ = "looks"

    strip_id: Mapped[int] = mapped_column(ForeignKey("strips.id", ondelete="CASCADE"), primary_key=True)
    key: Mapped[str] = mapped_column(Text)
    method: Mapped[int] = mapped_column(Integer)
    from_s: Mapped[float] = mapped_column(Float)
    to_s: Mapped[float] = mapped_column(Float)
    treated: Mapped[bool] = mapped_column(Boolean)
    along: Mapped[Json] = mapped_column(JSONB)
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class SurveyRow(Base):
    """Who covers whom in a whole song, as it was last computed: `key` names all that it depends on."""

    __tablename__ = "surveys"

    song_id: Mapped[int] = mapped_column(ForeignKey("songs.id", ondelete="CASCADE"), primary_key=True)
    key: Mapped[str] = mapped_column(Text)
    document: Mapped[Json] = mapped_column(JSONB)
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class ComparisonRow(Base):
    """What the other tracks of a song say of each finding: `key` names all that it depends on.

    document : by the finding's id.
    """

    __tablename__ = "comparisons"

    song_id: Mapped[int] = mapped_column(ForeignKey("songs.id", ondelete="CASCADE"), primary_key=True)
    key: Mapped[str] = mapped_column(Text)
    document: Mapped[Json] = mapped_column(JSONB)


class WatchRow(Base):
    """A folder whose stems a song plays, and one into which its treated stems are written, by any worker.

    seen : of each stem that was taken in, when it was changed and its size. written : by stem, the name of the sound
    that its treated file holds. says : what was done and could not be done last, oldest first.
    """

    __tablename__ = "watches"

    song_id: Mapped[int] = mapped_column(ForeignKey("songs.id", ondelete="CASCADE"), primary_key=True)
    source: Mapped[str] = mapped_column(Text)
    out: Mapped[str] = mapped_column(Text, unique=True)
    seen: Mapped[Json] = mapped_column(JSONB, default=dict, server_default=text("'{}'"))
    written: Mapped[Json] = mapped_column(JSONB, default=dict, server_default=text("'{}'"))
    says: Mapped[list[str]] = mapped_column(JSONB, default=list, server_default=text("'[]'"))


class FindingRow(Base):
    """Something that stood out in a track, and what was decided of it.

    `present` says whether the last look still found it; what was decided stays anyway.
    """

    __tablename__ = "findings"

    id: Mapped[int] = mapped_column(Integer, Identity(), primary_key=True)
    strip_id: Mapped[int] = mapped_column(ForeignKey("strips.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str] = mapped_column(Text)
    frequency_hz: Mapped[float] = mapped_column(Float)
    bandwidth_oct: Mapped[float] = mapped_column(Float)
    rank: Mapped[float] = mapped_column(Float)
    document: Mapped[Json] = mapped_column(JSONB)
    state: Mapped[str] = mapped_column(Text, default="open")  # open, accepted, rejected
    move_id: Mapped[int | None] = mapped_column(ForeignKey("moves.id", ondelete="CASCADE"))
    present: Mapped[bool] = mapped_column(Boolean, default=True)
    left_db: Mapped[float | None] = mapped_column(Float)

    __table_args__ = (
        CheckConstraint("state IN ('open','accepted','rejected')", name="findings_state_known"),
        CheckConstraint("(state = 'accepted') = (move_id IS NOT NULL)", name="findings_accepted_with_move"),
    )


class Edit(Base):
    """One change of a song: what it did and what undoes it. Rows are only added, never rewritten.

    kind : "change"; "undo" and "redo" of the edit `of_id`; "go" to how things stood behind the edit `of_id`.
    begins_id : the first step of the gesture that this step goes on with; they are undone together.
    page : who made it, as the page calls itself.
    change : what the page calls the change, so that it is not made twice.
    """

    __tablename__ = "edits"

    id: Mapped[int] = mapped_column(Integer, Identity(), primary_key=True)
    song_id: Mapped[int] = mapped_column(ForeignKey("songs.id", ondelete="CASCADE"))
    revision: Mapped[int] = mapped_column(Integer)
    kind: Mapped[str] = mapped_column(Text, default="change", server_default="change")
    of_id: Mapped[int | None] = mapped_column(ForeignKey("edits.id", ondelete="CASCADE"))
    begins_id: Mapped[int | None] = mapped_column(ForeignKey("edits.id", ondelete="CASCADE"))
    page: Mapped[str] = mapped_column(Text, default="", server_default="")
    change: Mapped[str] = mapped_column(Text, default="", server_default="")
    label: Mapped[str] = mapped_column(Text)
    forward: Mapped[list[Json]] = mapped_column(JSONB)
    backward: Mapped[list[Json]] = mapped_column(JSONB)
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.clock_timestamp())

    __table_args__ = (
        CheckConstraint("kind IN ('change','undo','redo','go')", name="edits_kind_known"),
        CheckConstraint("(kind = 'change') = (of_id IS NULL)", name="edits_of_another"),
        Index("edits_of_song", "song_id", "id"),
        Index("edits_of_edit", "of_id"),
        Index("edits_of_change", "song_id", "change", postgresql_where=text("change <> ''")),
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
    attempts: Mapped[int] = mapped_column(Integer, default=0, server_default="0")
    payload: Mapped[Json] = mapped_column(JSONB, default=dict)
    result: Mapped[Json] = mapped_column(JSONB, default=dict)
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())

    __table_args__ = (
        CheckConstraint(
            "kind IN ('import','export','analyse','backup','freeze','survey','pair','compare')", name="tasks_kind_known"
        ),
        CheckConstraint("state IN ('waiting','running','done','failed','cancelled')", name="tasks_state_known"),
        CheckConstraint("progress BETWEEN 0 AND 1", name="tasks_progress_range"),
        Index(
            "tasks_one_look_a_track", text("(payload ->> 'track_id')"), unique=True,
            postgresql_where=text("kind = 'analyse' AND state IN ('waiting','running')"),
        ),
    )  # fmt: skip
