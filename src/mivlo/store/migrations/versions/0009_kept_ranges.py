"""Ranges of strips that must stay."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    op.add_column("strips", sa.Column("kept", JSONB, nullable=False, server_default=sa.text("'[]'")))
