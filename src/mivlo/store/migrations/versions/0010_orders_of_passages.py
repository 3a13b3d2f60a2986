"""Orders of importance that count for a passage alone."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.add_column("songs", sa.Column("orders", JSONB, nullable=False, server_default=sa.text("'[]'")))
