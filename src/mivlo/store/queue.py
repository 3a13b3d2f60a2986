"""Putting a task into the queue, in the transaction that writes the task: both are there or neither."""

from __future__ import annotations

from functools import lru_cache

import procrastinate
from sqlalchemy.orm import Session

RUN = "mivlo.run"
"""The job that does a task; it carries nothing but the task's id."""


@lru_cache
def _app() -> procrastinate.App:
    # never opened: it only speaks over connections that are lent to it
    return procrastinate.App(connector=procrastinate.SyncPsycopgConnector())


def defer(session: Session, task_id: int) -> None:
    """Queue the job of a task; it is seen by workers once the session commits."""
    connection = session.connection().connection.dbapi_connection
    _app().configure_task(RUN, connection=connection).defer(task_id=task_id)
