"""Long work as the user sees it: waiting, running with progress, done, failed or cancelled."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any

from sqlalchemy import func, or_, select, text
from sqlalchemy.orm import Session

from mivlo.audio.working import Cancelled
from mivlo.core.errors import MivloError
from mivlo.services.errors import NotFound
from mivlo.store.database import session as open_session
from mivlo.store.database import tell
from mivlo.store.models import TaskRow
from mivlo.store.outages import is_away
from mivlo.store.queue import RUN, defer

OPEN_STATES = ("waiting", "running")
MOST_ATTEMPTS = 3
MOST_OPEN = 2000
"""Tasks of a song that may wait or run."""
GIVEN_UP = (
    "It was begun three times and never came to its end: its worker or the database was gone each time. "
    "Ask for it again; if it fails again, `mivlo doctor` and the server's log say more."
)
_HAS_NO_JOB = text(
    "NOT EXISTS (SELECT 1 FROM procrastinate_jobs j WHERE j.task_name = :run AND j.status IN ('todo', 'doing')"
    " AND (j.args ->> 'task_id')::bigint = tasks.id)"
).bindparams(run=RUN)


def create_task(session: Session, song_id: int, kind: str, label: str, payload: dict[str, Any]) -> TaskRow:
    """A new task, waiting for a worker, and its job: in one transaction."""
    waiting = select(func.count()).where(TaskRow.song_id == song_id, TaskRow.state.in_(OPEN_STATES))
    if int(session.scalar(waiting) or 0) >= MOST_OPEN:
        raise MivloError(f"{MOST_OPEN} tasks of this song wait already. Wait until some have ended, or cancel some.")
    task = TaskRow(song_id=song_id, kind=kind, label=label, payload=payload, state="waiting")
    session.add(task)
    session.flush()
    defer(session, task.id)
    tell(session, song_id, "task", task_id=task.id)
    return task


def get_task(session: Session, task_id: int) -> TaskRow:
    task = session.get(TaskRow, task_id, populate_existing=True)
    if task is None:
        raise NotFound("task", task_id)
    return task


def list_tasks(session: Session, song_id: int, most: int = 60) -> list[TaskRow]:
    """The newest tasks of a song, oldest of them first.

    Looks for findings come by themselves and often: once one has ended well, nobody needs to see it.
    """
    shown = or_(TaskRow.kind.not_in(("analyse", "compare")), TaskRow.state.in_((*OPEN_STATES, "failed")))
    query = select(TaskRow).where(TaskRow.song_id == song_id, shown).order_by(TaskRow.id.desc()).limit(most)
    return list(session.scalars(query))[::-1]


def open_tasks(session: Session, song_id: int, kind: str) -> list[TaskRow]:
    """Those of a kind that wait or run."""
    query = select(TaskRow).where(TaskRow.song_id == song_id, TaskRow.kind == kind, TaskRow.state.in_(OPEN_STATES))
    return list(session.scalars(query))


def cancel_task(session: Session, task_id: int) -> None:
    """Ask a task to stop; one that still waits is cancelled at once."""
    task = get_task(session, task_id)
    if task.state not in OPEN_STATES:
        return
    task.cancel = True
    if task.state == "waiting":
        task.state = "cancelled"
        task.message = "Cancelled before it began."
    tell(session, task.song_id, "task", task_id=task_id)


def set_task(task_id: int, **values: Any) -> None:
    """Write values of a task in a transaction of its own and tell the pages."""
    with open_session() as session:
        task = get_task(session, task_id)
        for key, value in values.items():
            setattr(task, key, value)
        tell(session, task.song_id, "task", task_id=task_id)


@dataclass(frozen=True, slots=True)
class TaskView:
    """A task that was begun."""

    id: int
    kind: str
    song_id: int


def begin_task(task_id: int) -> TaskView | None:
    """Take a task up, once more if it was before; None where there is nothing to do any more.

    One that was asked to stop, or was tried too often, ends here with a sentence.
    """
    with open_session() as session:
        task = session.get(TaskRow, task_id, populate_existing=True, with_for_update=True)
        if task is None or task.state not in OPEN_STATES:
            return None
        if not _ended_for_good(task):
            task.attempts += 1
            task.state = "running"
        tell(session, task.song_id, "task", task_id=task_id)
        return TaskView(task.id, task.kind, task.song_id) if task.state == "running" else None


def _ended_for_good(task: TaskRow) -> bool:
    """End a task that was asked to stop, or was begun too often; whether it was."""
    if task.cancel:
        task.state, task.message = "cancelled", f"{task.label} was cancelled."
    elif task.attempts >= MOST_ATTEMPTS:
        task.state, task.message = "failed", GIVEN_UP
    else:
        return False
    return True


def take_up_orphans() -> int:
    """Put open tasks that no job stands for back into the queue, or end them; how many.

    A task and its job are written together, and a task ends before its job does. So an open task without a job has
    lost it: the database was away when its end was to be written down, or the job was given up.
    """
    with open_session() as session:
        lost = session.scalars(select(TaskRow).where(TaskRow.state.in_(OPEN_STATES), _HAS_NO_JOB)).all()
        for seen in lost:
            task = session.get(TaskRow, seen.id, populate_existing=True, with_for_update={"skip_locked": True})
            if task is None or task.state not in OPEN_STATES:
                continue
            if not _ended_for_good(task):
                task.state = "waiting"
                defer(session, task.id)
            tell(session, task.song_id, "task", task_id=task.id)
        return len(lost)


class TaskProgress:
    """Writes progress a few times a second and notices a request to cancel.

    It goes on without a word while the database is away: the work need not wait for it.
    """

    def __init__(self, task_id: int, *, first: float = 0.0, last: float = 1.0, every_s: float = 0.2) -> None:
        self._task_id, self._first, self._last, self._every_s = task_id, first, last, every_s
        self._next = 0.0

    def __call__(self, share: float) -> None:
        now = time.monotonic()
        if now < self._next:
            return
        self._next = now + self._every_s
        progress = min(1.0, max(0.0, self._first + (self._last - self._first) * share))
        try:
            self._write(progress)
        except Exception as error:
            if not is_away(error):
                raise

    def _write(self, progress: float) -> None:
        with open_session() as session:
            task = get_task(session, self._task_id)
            if task.cancel:
                raise Cancelled(f"{task.label} was cancelled.")
            task.progress = progress
            tell(session, task.song_id, "task", task_id=self._task_id, progress=round(progress, 3))

    def part(self, index: int, count: int) -> TaskProgress:
        """The same progress for one of several equal parts."""
        span = (self._last - self._first) / count
        return TaskProgress(self._task_id, first=self._first + index * span, last=self._first + (index + 1) * span)
