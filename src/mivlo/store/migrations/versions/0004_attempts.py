"""How often a task was begun"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.add_column("tasks", sa.Column("attempts", sa.Integer(), server_default="0", nullable=False))
