"""Surveys of whole songs: who covers whom."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.create_table(
        "surveys",
        sa.Column("song_id", sa.Integer, sa.ForeignKey("songs.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("key", sa.Text, nullable=False),
        sa.Column("document", JSONB, nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )
    op.drop_constraint("tasks_kind_known", "tasks")
    op.create_check_constraint(
        "tasks_kind_known", "tasks", "kind IN ('import','export','analyse','backup','freeze','survey')"
    )
