"""Folders that songs watch, and those that they write treated stems into."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    op.create_table(
        "watches",
        sa.Column("song_id", sa.Integer, sa.ForeignKey("songs.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("source", sa.Text, nullable=False),
        sa.Column("out", sa.Text, nullable=False, unique=True),
        sa.Column("seen", JSONB, nullable=False, server_default=sa.text("'{}'")),
        sa.Column("written", JSONB, nullable=False, server_default=sa.text("'{}'")),
        sa.Column("says", JSONB, nullable=False, server_default=sa.text("'[]'")),
    )
