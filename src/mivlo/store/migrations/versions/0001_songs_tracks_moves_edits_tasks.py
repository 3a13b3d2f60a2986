"""songs, tracks, moves, edits, tasks"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0001"
down_revision = None


def upgrade() -> None:
    op.create_table(
        "songs",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("sample_rate", sa.Integer(), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("passage_from_s", sa.Float(), nullable=True),
        sa.Column("passage_to_s", sa.Float(), nullable=True),
        sa.Column("deleted", sa.Boolean(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.CheckConstraint("(passage_from_s IS NULL) = (passage_to_s IS NULL)", name="songs_passage_whole"),
        sa.CheckConstraint("passage_from_s < passage_to_s", name="songs_passage_forward"),
        sa.CheckConstraint("sample_rate BETWEEN 8000 AND 192000", name="songs_sample_rate_usable"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "edits",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("song_id", sa.Integer(), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("label", sa.Text(), nullable=False),
        sa.Column("forward", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("backward", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.CheckConstraint("state IN ('done','undone','abandoned')", name="edits_state_known"),
        sa.ForeignKeyConstraint(["song_id"], ["songs.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("edits_of_song", "edits", ["song_id", "id"], unique=False)
    op.create_table(
        "tasks",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("song_id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("label", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("progress", sa.Float(), nullable=False),
        sa.Column("message", sa.Text(), nullable=False),
        sa.Column("cancel", sa.Boolean(), nullable=False),
        sa.Column("payload", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("result", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.CheckConstraint("kind IN ('import','export')", name="tasks_kind_known"),
        sa.CheckConstraint("state IN ('waiting','running','done','failed','cancelled')", name="tasks_state_known"),
        sa.CheckConstraint("progress BETWEEN 0 AND 1", name="tasks_progress_range"),
        sa.ForeignKeyConstraint(["song_id"], ["songs.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_tasks_song_id"), "tasks", ["song_id"], unique=False)
    op.create_table(
        "tracks",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("song_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("file_name", sa.Text(), nullable=False),
        sa.Column("audio_sha256", sa.Text(), nullable=False),
        sa.Column("source_rate", sa.Integer(), nullable=False),
        sa.Column("source_frames", sa.BigInteger(), nullable=False),
        sa.Column("channels", sa.Integer(), nullable=False),
        sa.Column("frames", sa.BigInteger(), nullable=False),
        sa.Column("notice", sa.Text(), nullable=False),
        sa.Column("fader_db", sa.Float(), nullable=False),
        sa.Column("pan", sa.Float(), nullable=False),
        sa.Column("mute", sa.Boolean(), nullable=False),
        sa.Column("solo", sa.Boolean(), nullable=False),
        sa.Column("deleted", sa.Boolean(), nullable=False),
        sa.CheckConstraint("channels IN (1, 2)", name="tracks_mono_or_stereo"),
        sa.CheckConstraint("fader_db BETWEEN -100 AND 12", name="tracks_fader_range"),
        sa.CheckConstraint("pan BETWEEN -1 AND 1", name="tracks_pan_range"),
        sa.ForeignKeyConstraint(["song_id"], ["songs.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_tracks_song_id"), "tracks", ["song_id"], unique=False)
    op.create_table(
        "moves",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("track_id", sa.Integer(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("shape", sa.Text(), nullable=False),
        sa.Column("frequency_hz", sa.Float(), nullable=False),
        sa.Column("q", sa.Float(), nullable=False),
        sa.Column("gain_db", sa.Float(), nullable=False),
        sa.Column("slope_db_per_octave", sa.Integer(), nullable=False),
        sa.Column("enabled", sa.Boolean(), nullable=False),
        sa.Column("deleted", sa.Boolean(), nullable=False),
        sa.CheckConstraint(
            "shape IN ('bell','notch','low_shelf','high_shelf','low_cut','high_cut','band_pass')",
            name="moves_shape_known",
        ),
        sa.CheckConstraint("frequency_hz BETWEEN 10 AND 24000", name="moves_frequency_range"),
        sa.CheckConstraint("gain_db BETWEEN -30 AND 30", name="moves_gain_range"),
        sa.CheckConstraint("q BETWEEN 0.1 AND 100", name="moves_q_range"),
        sa.CheckConstraint("slope_db_per_octave IN (6,12,18,24,36,48)", name="moves_slope_known"),
        sa.ForeignKeyConstraint(["track_id"], ["tracks.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_moves_track_id"), "moves", ["track_id"], unique=False)


def downgrade() -> None:
    for table in ("tasks", "moves", "edits", "tracks", "songs"):
        op.drop_table(table)
