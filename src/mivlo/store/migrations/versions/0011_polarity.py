"""A track's polarity can be turned."""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    op.add_column("strips", sa.Column("turned", sa.Boolean, nullable=False, server_default=sa.false()))
