"""Doing tasks: which use case does which kind, and writing down how it ended."""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Any

from mivlo.audio.working import Cancelled
from mivlo.core.errors import MivloError
from mivlo.services.backup.saving import run_backup
from mivlo.services.clashes.surveying import run_survey
from mivlo.services.errors import NotFound
from mivlo.services.findings.comparing import request_comparison, run_comparison
from mivlo.services.findings.looking import request_stale, run_analysis
from mivlo.services.handover.exporting import run_export
from mivlo.services.making.freezing import run_freezing
from mivlo.services.recordings.importing import run_import
from mivlo.services.recordings.pairing import run_pairing
from mivlo.services.recordings.tidying import full_disk
from mivlo.services.tasks.tasks import TaskView, begin_task, set_task
from mivlo.store.database import session
from mivlo.store.outages import is_away, patiently

log = logging.getLogger("mivlo.jobs")

_RUNS: dict[str, Callable[[int], dict[str, Any]]] = {
    "import": run_import,
    "export": run_export,
    "analyse": run_analysis,
    "backup": run_backup,
    "freeze": run_freezing,
    "survey": run_survey,
    "pair": run_pairing,
    "compare": run_comparison,
}


INSIDE = "Something went wrong inside; nothing was changed. Try again; the server's log has details."


def run_task(task_id: int) -> None:
    """Do one task and write down how it ended; never raises for what the user can be told.

    While the database is away it waits, then does the task again: what was made on disk is found there.
    """
    while (task := patiently(lambda: begin_task(task_id))) is not None:
        ended = _attempt(task)
        if ended is None:
            log.warning("the database broke off during task %s; it is taken up again", task_id)
            continue
        patiently(lambda: set_task(task_id, **ended))  # noqa: B023
        if ended["state"] == "done" and task.kind in ("import", "pair", "analyse", "compare"):
            # a new track wants to be looked at; one that was changed while it was, again
            patiently(lambda: look_again(task.song_id))
        return


def _attempt(task: TaskView) -> dict[str, Any] | None:
    """Do it once: what is to be written down of its end; None where the database broke off."""
    try:
        result = _RUNS[task.kind](task.id)
    except Cancelled as stopped:
        return {"state": "cancelled", "message": str(stopped)}
    except MivloError as refused:
        return {"state": "failed", "message": full_disk(refused) or str(refused)}
    except Exception as error:
        if said := full_disk(error):
            return {"state": "failed", "message": said}
        if is_away(error):
            return None
        log.exception("task %s failed", task.id)
        return {"state": "failed", "message": INSIDE}
    notices = result.get("notices") or ([result["notice"]] if result.get("notice") else [])
    return {"state": "done", "progress": 1.0, "result": result, "message": " ".join(str(n) for n in notices)}


def look_again(song_id: int) -> int:
    """Have all tracks looked at whose findings are out of date; how many. Once none is, they are compared."""
    try:
        with session() as open_session:
            stale = request_stale(open_session, song_id)
            if not stale:
                request_comparison(open_session, song_id)
            return len(stale)
    except NotFound:  # the song was deleted meanwhile
        return 0
