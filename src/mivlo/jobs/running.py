"""Doing tasks: which use case does which kind, and writing down how it ended."""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Any

from mivlo.audio.working import Cancelled
from mivlo.core.errors import MivloError
from mivlo.services.errors import NotFound
from mivlo.services.findings.looking import request_stale, run_analysis
from mivlo.services.handover.exporting import run_export
from mivlo.services.recordings.importing import run_import
from mivlo.services.tasks.tasks import get_task, set_task
from mivlo.store.database import session

log = logging.getLogger("mivlo.jobs")

_RUNS: dict[str, Callable[[int], dict[str, Any]]] = {
    "import": run_import,
    "export": run_export,
    "analyse": run_analysis,
}


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


def look_again(song_id: int) -> int:
    """Have all tracks looked at whose findings are out of date; how many."""
    try:
        with session() as open_session:
            return len(request_stale(open_session, song_id))
    except NotFound:  # the song was deleted meanwhile
        return 0
