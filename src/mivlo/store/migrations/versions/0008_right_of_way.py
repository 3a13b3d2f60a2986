"""Right of way: an order of importance, decisions on clashes, and the level at which the mix is taken to be heard."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    op.add_column("songs", sa.Column("playback_db_spl", sa.Float, nullable=False, server_default="79"))
    op.add_column("songs", sa.Column("decisions", JSONB, nullable=False, server_default=sa.text("'[]'")))
    op.create_check_constraint("songs_playback_range", "songs", "playback_db_spl BETWEEN 40 AND 110")
    op.add_column("strips", sa.Column("importance", sa.Integer))
