"""What the other tracks of a song say of each finding."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0014"
down_revision = "0013"


def upgrade() -> None:
    op.create_table(
        "comparisons",
        sa.Column("song_id", sa.Integer, sa.ForeignKey("songs.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("key", sa.Text, nullable=False),
        sa.Column("document", JSONB, nullable=False),
    )
    op.drop_constraint("tasks_kind_known", "tasks")
    op.create_check_constraint(
        "tasks_kind_known",
        "tasks",
        "kind IN ('import','export','analyse','backup','freeze','survey','pair','compare')",
    )
