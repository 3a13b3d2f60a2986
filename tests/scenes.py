"""Songs that several tests begin with: made once in a process, then their rows are put back as they were."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import httpx
from sqlalchemy import text

from mivlo.jobs import queue
from mivlo.store import database
from mivlo.store.models import Base
from tests.emptying import empty_database
from tests.patience import until
from tests.web import server

T = TypeVar("T")
Rows = dict[str, bytes]

_made: dict[str, tuple[Any, Rows]] = {}
BUSY_OR_WAITING = """
    SELECT (SELECT count(*) FROM tasks WHERE state IN ('waiting', 'running'))
        + (SELECT count(*) FROM procrastinate_jobs WHERE status IN ('todo', 'doing'))
    WHERE EXISTS (SELECT 1 FROM procrastinate_workers WHERE last_heartbeat > now() - make_interval(secs => :seconds))
"""
"""A task has ended before what follows from it is asked for, its job only then."""


def scene(name: str, make: Callable[[], T]) -> T:
    """What `make` puts into the empty database, once the worker, if there is one, has done what follows from it.

    The sounds stay in the library; numbers are not given out again, so nothing that was kept of another test fits.
    """
    empty_database()
    if name in _made:
        known, rows = _made[name]
        _put_back(rows)
        return known  # type: ignore[no-any-return]
    made = make()
    until(lambda: not _busy(), "a worker does not come to an end")
    _made[name] = made, _rows()
    return made


def _busy() -> bool:
    with database.engine().begin() as connection:
        return bool(connection.scalar(text(BUSY_OR_WAITING), {"seconds": queue.DEAD_AFTER_S}))


def _rows() -> Rows:
    with database.engine().begin() as connection:
        cursor = connection.connection.cursor()
        out = {}
        for table in Base.metadata.sorted_tables:
            with cursor.copy(f"COPY {table.name} TO STDOUT (FORMAT binary)") as copy:
                out[table.name] = b"".join(bytes(block) for block in copy)
        return out


def _put_back(rows: Rows) -> None:
    with database.engine().begin() as connection:
        connection.execute(text("SET LOCAL session_replication_role = replica"))  # rows that point at each other
        cursor = connection.connection.cursor()
        for table, data in rows.items():
            with cursor.copy(f"COPY {table} FROM STDIN (FORMAT binary)") as copy:
                copy.write(data)


def song_with(address: str, *files: tuple[str, Path], name: str = "Sluice") -> int:
    """A song at 48 kHz with these files as its tracks (each under a name), brought in through the interface."""

    def make() -> int:
        song = int(httpx.post(f"{address}/api/songs", json={"name": name, "sample_rate": 48_000}).json()["id"])
        for called, path in files:
            assert server.send_file(address, song, path, called)["state"] == "done"
        return song

    return scene(f"{name} {files}", make)
