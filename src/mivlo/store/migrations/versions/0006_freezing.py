"""Tasks that freeze adaptive moves."""

from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.drop_constraint("tasks_kind_known", "tasks")
    op.create_check_constraint("tasks_kind_known", "tasks", "kind IN ('import','export','analyse','backup','freeze')")
