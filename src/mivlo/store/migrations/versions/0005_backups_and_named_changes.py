"""Tasks that make backups; names of changes, so that none is made twice."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.drop_constraint("tasks_kind_known", "tasks")
    op.create_check_constraint("tasks_kind_known", "tasks", "kind IN ('import','export','analyse','backup')")
    op.add_column("edits", sa.Column("change", sa.Text(), server_default="", nullable=False))
    op.create_index("edits_of_change", "edits", ["song_id", "change"], postgresql_where=sa.text("change <> ''"))
