"""The queue itself: procrastinate on our database, and its workers."""

from __future__ import annotations

import asyncio
import logging
import os
import signal
import time
from datetime import datetime
from pathlib import Path
from typing import Any

import procrastinate
import psycopg
from procrastinate.exceptions import ConnectorException
from sqlalchemy import inspect as inspect_database
from sqlalchemy import text

from mivlo.config import settings
from mivlo.core.errors import MivloError
from mivlo.jobs.running import run_task
from mivlo.services.backup.saving import nightly
from mivlo.services.recordings.sweeping import sweep
from mivlo.services.tasks.tasks import take_up_orphans
from mivlo.store.database import engine
from mivlo.store.outages import is_away, is_full
from mivlo.store.queue import RUN

log = logging.getLogger("mivlo.jobs")

HEARTBEAT_S = 1.0
DEAD_AFTER_S = 4.0
"""A worker that has not been heard of for so long is taken for dead; its tasks are taken up again."""
FORGOTTEN_AFTER_S = 3600.0
"""A worker that is only slow comes back; one that was forgotten could take no more jobs."""
_BEHIND = 5
"""How far (as `nice` counts) work in the background stands behind the server."""
_FIRST_PAUSE_S, _LONGEST_PAUSE_S, _SETTLED_S = 0.2, 5.0, 30.0

_LOOK_EVERY_S = 1.0
_TAKE_UP_LOCK = 7_262_001
"""The advisory lock of the one worker that looks for lost jobs; any number that nothing else here uses."""


def make_app() -> procrastinate.App:
    """The queue on our database, with its tasks registered."""
    connector = procrastinate.PsycopgConnector(conninfo=settings().libpq_url, min_size=1, max_size=4)
    app = procrastinate.App(connector=connector)

    @app.task(name=RUN, retry=False)
    def run(task_id: int) -> None:
        run_task(task_id)

    @app.periodic(cron="17 * * * *")
    @app.task(name="mivlo.sweep", queueing_lock="sweep")
    def sweep_up(timestamp: int) -> None:
        sweep()

    @app.periodic(cron="*/10 * * * *")
    @app.task(name="mivlo.nightly", queueing_lock="nightly", lock="nightly")
    def back_up(timestamp: int) -> None:
        back_up_if_due()

    return app


def back_up_if_due() -> Path | None:
    """The nightly backup, where one is wanted and due; asked often, so that a machine that slept makes it later."""
    folder = settings().backup_dir
    if folder is None:
        return None
    try:
        return nightly(datetime.now(), folder, settings().backup_hour, settings().backups_kept)
    except (MivloError, OSError):
        log.exception("the nightly backup could not be made; it is tried again in ten minutes")
        return None


async def take_up_lost(app: procrastinate.App, turn: psycopg.AsyncConnection[Any]) -> int:
    """Put the tasks of dead workers back into the queue; how many. `turn` is a connection for this alone.

    One worker at a time looks: between seeing a lost job and putting it back, another one could have put it back and
    begun it, and it would be done twice at once.
    """
    manager = app.job_manager
    async with turn.transaction():
        await turn.execute("SELECT pg_advisory_xact_lock(%s)", (_TAKE_UP_LOCK,))
        lost = list(await manager.get_stalled_jobs(seconds_since_heartbeat=DEAD_AFTER_S))
        for job in lost:
            log.warning("the worker of job %s died; it is taken up again", job.id)
            await manager.retry_job(job)
        return len(lost) + await asyncio.to_thread(take_up_orphans)


async def _keep_taking_up(app: procrastinate.App) -> None:
    """Look for lost tasks until cancelled. No job of the queue: an idle machine would write to its disk each second."""
    while True:
        try:
            async with await psycopg.AsyncConnection.connect(settings().libpq_url) as turn:
                while True:
                    await take_up_lost(app, turn)
                    await asyncio.sleep(_LOOK_EVERY_S)
        except Exception as error:
            if not (isinstance(error, ConnectorException) or is_away(error) or is_full(error)):
                log.exception("looking for lost tasks failed; it is tried again")
        await asyncio.sleep(_LOOK_EVERY_S)


def ensure_schema() -> None:
    """Make the queue's own tables if they are not there."""
    if inspect_database(engine()).has_table("procrastinate_jobs"):
        return
    connector = procrastinate.SyncPsycopgConnector(conninfo=settings().libpq_url, min_size=1, max_size=1)
    app = procrastinate.App(connector=connector)
    with app.open():
        app.schema_manager.apply_schema()


def live_workers() -> int:
    """Workers that have given a sign of life lately."""
    query = text(
        "SELECT count(*) FROM procrastinate_workers WHERE last_heartbeat > now() - make_interval(secs => :seconds)"
    )
    with engine().connect() as connection:
        return int(connection.scalar(query, {"seconds": DEAD_AFTER_S}) or 0)


def work(*, concurrency: int | None = None) -> None:
    """Be a worker until stopped, behind those who listen and a server that comes back."""
    os.nice(_BEHIND)
    pause = _FIRST_PAUSE_S
    while True:
        began = time.monotonic()
        try:
            if asyncio.run(_until_stopped(concurrency or settings().worker_threads)):
                return
            log.warning("the worker has ended by itself; it comes back in %.1f s", pause)
        except KeyboardInterrupt:
            return
        except (ConnectorException, psycopg.Error):
            log.warning("the database is away; the worker comes back in %.1f s", pause)
        if time.monotonic() - began > _SETTLED_S:
            pause = _FIRST_PAUSE_S
        time.sleep(pause)
        pause = min(_LONGEST_PAUSE_S, 2 * pause)


async def _until_stopped(concurrency: int) -> bool:
    """Work; True once it was asked to stop, False where it has ended by itself."""
    stop = asyncio.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(number, stop.set)
    app = make_app()
    async with app.open_async():
        working = asyncio.create_task(
            app.run_worker_async(
                concurrency=concurrency,
                delete_jobs="successful",
                shutdown_graceful_timeout=3,
                update_heartbeat_interval=HEARTBEAT_S,
                stalled_worker_timeout=FORGOTTEN_AFTER_S,
                install_signal_handlers=False,
            )
        )
        looking = asyncio.create_task(_keep_taking_up(app))
        stopping = asyncio.create_task(stop.wait())
        await asyncio.wait({working, stopping}, return_when=asyncio.FIRST_COMPLETED)
        asked = stop.is_set()
        looking.cancel()
        stopping.cancel()
        await asyncio.gather(looking, return_exceptions=True)
        if asked:
            working.cancel()
            await asyncio.gather(working, return_exceptions=True)
        else:
            await working
        return asked


def describe() -> dict[str, Any]:
    """For the doctor: how many workers live, how many tasks wait."""
    with engine().connect() as connection:
        waiting = connection.scalar(text("SELECT count(*) FROM tasks WHERE state = 'waiting'"))
    return {"workers": live_workers(), "waiting": int(waiting or 0)}
