"""Tasks of the queue. Each one does a use case and writes down how it ended."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable
from typing import Any

import procrastinate
import psycopg
from procrastinate.exceptions import ConnectorException
from sqlalchemy import inspect as inspect_database
from sqlalchemy import text

from mivlo.audio.library import Cancelled
from mivlo.config import settings
from mivlo.core.errors import MivloError
from mivlo.services.analysing import request_stale, run_analysis
from mivlo.services.errors import NotFound
from mivlo.services.exporting import run_export
from mivlo.services.importing import run_import
from mivlo.services.tasks import get_task, set_task
from mivlo.store.database import engine, session

log = logging.getLogger("mivlo.jobs")

DEAD_AFTER_S = 30.0
"""A worker that has not been heard of for so long is taken for dead; its tasks are taken up again."""

_TAKE_UP_LOCK = 7_262_001
"""The advisory lock of the one worker that looks for lost jobs; any number that nothing else here uses."""

_RUNS: dict[str, Callable[[int], dict[str, Any]]] = {
    "import": run_import,
    "export": run_export,
    "analyse": run_analysis,
}


def make_app(url: str | None = None) -> procrastinate.App:
    """The queue on our database, with its tasks registered."""
    connector = procrastinate.PsycopgConnector(conninfo=url or settings().libpq_url, min_size=1, max_size=4)
    app = procrastinate.App(connector=connector)

    @app.task(name="mivlo.run", retry=False)
    def run(task_id: int) -> None:
        run_task(task_id)

    @app.periodic(cron="* * * * * */10")
    @app.task(name="mivlo.take_up", pass_context=True, queueing_lock="take_up")
    async def take_up(context: procrastinate.JobContext, timestamp: int) -> None:
        await take_up_lost(app)

    return app


async def take_up_lost(app: procrastinate.App) -> int:
    """Put the tasks of dead workers back into the queue; how many.

    One worker at a time looks: between seeing a lost job and putting it back, another one could have put it back and
    begun it, and it would be done twice at once.
    """
    manager = app.job_manager
    async with await psycopg.AsyncConnection.connect(settings().libpq_url) as turn:
        await turn.execute("SELECT pg_advisory_xact_lock(%s)", (_TAKE_UP_LOCK,))
        lost = list(await manager.get_stalled_jobs(seconds_since_heartbeat=DEAD_AFTER_S))
        for job in lost:
            log.warning("the worker of job %s died; it is taken up again", job.id)
            await manager.retry_job(job)
    return len(lost)


def run_task(task_id: int) -> None:
    """Do one task and write down how it ended; never raises for what the user can be told."""
    with session() as open_session:
        task = get_task(open_session, task_id)
        kind, state, result, song_id = task.kind, task.state, task.result, task.song_id
    if state not in ("waiting", "running"):
        return
    set_task(task_id, state="running")
    try:
        result = _RUNS[kind](task_id)
    except Cancelled as stopped:
        set_task(task_id, state="cancelled", message=str(stopped))
    except MivloError as refused:
        set_task(task_id, state="failed", message=str(refused))
    except Exception:
        log.exception("task %s failed", task_id)
        set_task(
            task_id,
            state="failed",
            message="Something went wrong inside; nothing was changed. Try again; the server's log has details.",
        )
    else:
        notices = result.get("notices") or ([result["notice"]] if result.get("notice") else [])
        set_task(task_id, state="done", progress=1.0, result=result, message=" ".join(str(n) for n in notices))
        if kind != "export":  # a new track wants to be looked at; one that was changed while it was, again
            look_again(song_id)


def defer(task_id: int, url: str | None = None) -> None:
    """Put a task into the queue."""
    connector = procrastinate.SyncPsycopgConnector(conninfo=url or settings().libpq_url, min_size=1, max_size=1)
    app = procrastinate.App(connector=connector)
    with app.open():
        app.configure_task("mivlo.run").defer(task_id=task_id)


def look_again(song_id: int) -> int:
    """Have all tracks looked at whose findings are out of date; how many."""
    try:
        with session() as open_session:
            tasks = request_stale(open_session, song_id)
    except NotFound:  # the song was deleted meanwhile
        return 0
    for task_id in tasks:
        defer(task_id)
    return len(tasks)


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
    """Be a worker until stopped."""

    async def forever() -> None:
        app = make_app()
        async with app.open_async():
            await app.run_worker_async(
                concurrency=concurrency or settings().worker_threads,
                delete_jobs="successful",
                shutdown_graceful_timeout=3,
            )

    try:
        asyncio.run(forever())
    except (KeyboardInterrupt, ConnectorException) as ended:
        if isinstance(ended, ConnectorException):
            raise


def describe() -> dict[str, Any]:
    """For the doctor: how many workers live, how many tasks wait."""
    with engine().connect() as connection:
        waiting = connection.scalar(text("SELECT count(*) FROM tasks WHERE state = 'waiting'"))
    return {"workers": live_workers(), "waiting": int(waiting or 0)}
