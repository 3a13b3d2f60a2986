"""What recordings say of when they began, and the markers in them; two tracks made one."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.add_column("recordings", sa.Column("reference_s", sa.Float))
    op.drop_constraint("recordings_start_in_song", "recordings")
    op.create_check_constraint("recordings_start_in_song", "recordings", "starts_at_s BETWEEN 0 AND 3600")
    op.drop_constraint("tasks_kind_known", "tasks")
    op.create_check_constraint(
        "tasks_kind_known", "tasks", "kind IN ('import','export','analyse','backup','freeze','survey','pair')"
    )
    op.add_column("recordings", sa.Column("markers", JSONB, nullable=False, server_default=sa.text("'[]'")))
