"""findings and analyses; whether a song's tracks are looked at within the passage"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.add_column("songs", sa.Column("look_in_passage", sa.Boolean(), server_default=sa.false(), nullable=False))
    op.create_table(
        "analyses",
        sa.Column("track_id", sa.Integer(), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("method", sa.Integer(), nullable=False),
        sa.Column("from_s", sa.Float(), nullable=False),
        sa.Column("to_s", sa.Float(), nullable=False),
        sa.Column("treated", sa.Boolean(), nullable=False),
        sa.Column("along", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(["track_id"], ["tracks.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("track_id"),
    )
    op.create_table(
        "findings",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("track_id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("frequency_hz", sa.Float(), nullable=False),
        sa.Column("bandwidth_oct", sa.Float(), nullable=False),
        sa.Column("rank", sa.Float(), nullable=False),
        sa.Column("document", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("move_id", sa.Integer(), nullable=True),
        sa.Column("present", sa.Boolean(), nullable=False),
        sa.Column("left_db", sa.Float(), nullable=True),
        sa.CheckConstraint("state IN ('open','accepted','rejected')", name="findings_state_known"),
        sa.CheckConstraint("(state = 'accepted') = (move_id IS NOT NULL)", name="findings_accepted_with_move"),
        sa.ForeignKeyConstraint(["track_id"], ["tracks.id"], ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["move_id"], ["moves.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_findings_track_id"), "findings", ["track_id"], unique=False)
    op.drop_constraint("tasks_kind_known", "tasks")
    op.create_check_constraint("tasks_kind_known", "tasks", "kind IN ('import','export','analyse')")


def downgrade() -> None:
    op.execute("DELETE FROM tasks WHERE kind = 'analyse'")
    op.drop_constraint("tasks_kind_known", "tasks")
    op.create_check_constraint("tasks_kind_known", "tasks", "kind IN ('import','export')")
    op.drop_table("findings")
    op.drop_table("analyses")
    op.drop_column("songs", "look_in_passage")
