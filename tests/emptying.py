"""An empty database between tests."""

from __future__ import annotations

import time

from sqlalchemy import text
from sqlalchemy.exc import OperationalError

from mivlo.jobs import queue
from mivlo.store import database
from tests.patience import PATIENCE_S

BUSY = """
    SELECT count(*) FROM procrastinate_jobs JOIN procrastinate_workers ON procrastinate_workers.id = worker_id
    WHERE status = 'doing' AND last_heartbeat > now() - make_interval(secs => :seconds)
"""
TABLES = "songs, strips, moves, edits, tasks, procrastinate_jobs, procrastinate_events"


def empty_database() -> None:
    """Empty it, once no worker is busy with what the test before has left behind.

    Numbers are not given out again: a worker that ends late must not take a new job for its own.
    """
    deadline = time.monotonic() + PATIENCE_S
    with database.engine().begin() as connection:
        connection.execute(text("UPDATE tasks SET cancel = true"))
        connection.execute(text("DELETE FROM procrastinate_jobs WHERE status = 'todo'"))
    while not _emptied_or_held_up():
        assert time.monotonic() < deadline, "a worker is still busy with what another test began"
        time.sleep(0.05)


def _emptied_or_held_up() -> bool:
    try:
        return _emptied()
    except OperationalError:  # a deadlock with a worker that writes down how a task ended
        return False


def _emptied() -> bool:
    with database.engine().begin() as connection:
        # no job begins between looking and emptying; in the order in which the application takes them
        connection.execute(text("LOCK TABLE songs, tasks, procrastinate_jobs"))
        idle = not connection.scalar(text(BUSY), {"seconds": queue.DEAD_AFTER_S})
        if idle:
            connection.execute(text(f"TRUNCATE {TABLES} CASCADE"))
        return idle
