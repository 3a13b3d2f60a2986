"""The queue: what happens to the work of a worker that died, and to tasks that are run twice or cancelled."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import psycopg
import pytest
from sqlalchemy import text

from mivlo.config import settings
from mivlo.core.units import Floats
from mivlo.jobs import queue, running
from mivlo.services.recordings import files, importing
from mivlo.services.song import songs
from mivlo.services.tasks import tasks
from mivlo.store import database
from mivlo.store.models import TaskRow
from tests.conftest import run_apart, song_state
from tests.patience import until

HELD = "SELECT count(*) FROM procrastinate_jobs WHERE worker_id = :worker AND status = 'doing'"

QUEUED = (
    "SELECT count(*) FROM procrastinate_jobs WHERE (args ->> 'task_id')::bigint = :task AND status IN ('todo', 'doing')"
)


@pytest.fixture
def song(db: None) -> int:
    with database.session() as session:
        return songs.create_song(session, "Weir", 48_000).id


def _request(song: int, path: Path) -> int:
    digest = files.originals().keep_file(path)
    return importing.request_import(song, path.name, digest).id


def _task(task_id: int) -> tuple[str, str]:
    with database.session() as session:
        task = tasks.get_task(session, task_id)
        return task.state, task.message


def _ended(task_id: int) -> tuple[str, str]:
    """State and message once the task is no longer waiting or running."""
    until(lambda: _task(task_id)[0] not in tasks.OPEN_STATES)
    return _task(task_id)


def test_the_task_of_a_dead_worker_is_taken_up_again(song: int, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    task_id = _request(song, write_wav(noise, name="Kick.wav"))
    tasks.set_task(task_id, state="running")  # it had begun
    with database.engine().begin() as connection:
        worker = connection.scalar(
            text("INSERT INTO procrastinate_workers (last_heartbeat) VALUES (now() - interval '5 min') RETURNING id")
        )
        # a job that this worker was doing when it died
        connection.execute(
            text(
                "INSERT INTO procrastinate_jobs (queue_name, task_name, args, status, worker_id) "
                "VALUES ('lost', 'mivlo.run', jsonb_build_object('task_id', CAST(:task AS int)), 'doing', :worker)"
            ),
            {"task": task_id, "worker": worker},
        )

    async def another_worker() -> None:
        app = queue.make_app()
        async with app.open_async(), await psycopg.AsyncConnection.connect(settings().libpq_url) as turn:
            await queue.take_up_lost(app, turn)
            with database.engine().begin() as connection:  # the dead one has nothing to do any more
                assert connection.scalar(text(HELD), {"worker": worker}) == 0
            await app.run_worker_async(wait=False, queues=["lost"], install_signal_handlers=False)

    run_apart(another_worker())
    # the worker of the browser tests may have been quicker: whoever took it up, it gets done
    assert _ended(task_id) == ("done", "")
    assert [t.name for t in song_state(song).tracks] == ["Kick"]


@pytest.mark.parametrize(
    ("state", "attempts", "cancel", "becomes"),
    [
        ("waiting", 0, False, ("done", "")),
        ("running", 1, False, ("done", "")),
        ("running", 3, False, ("failed", tasks.GIVEN_UP)),
        ("running", 1, True, ("cancelled", "Kick.wav was cancelled.")),
        ("waiting", 0, True, ("cancelled", "Kick.wav was cancelled.")),
        ("done", 1, False, ("done", "")),
    ],
)
def test_an_open_task_that_has_lost_its_job_is_taken_up_or_ended(
    song: int, write_wav, noise: Floats, state: str, attempts: int, cancel: bool, becomes: tuple[str, str]
) -> None:  # type: ignore[no-untyped-def]
    digest = files.originals().keep_file(write_wav(noise, name="Kick.wav"))
    with database.session() as session:  # as an outage leaves it: the task without its job
        task = TaskRow(
            song_id=song, kind="import", label="Kick.wav", state=state, attempts=attempts, cancel=cancel,
            payload={"file_name": "Kick.wav", "sha256": digest, "position": 0, "page": ""},
        )  # fmt: skip
        session.add(task)
        session.flush()
        task_id = task.id
    tasks.take_up_orphans()
    with database.session() as session:
        queued = session.scalar(text(QUEUED), {"task": task_id})
    if becomes[0] == "done" and state != "done":
        assert queued or _task(task_id)[0] != "waiting"  # a worker may have begun it already
        running.run_task(task_id)
    else:
        assert not queued
    assert _ended(task_id) == becomes


def test_a_task_run_twice_makes_one_track(song: int, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    task_id = _request(song, write_wav(noise))
    first = importing.run_import(task_id)
    assert importing.run_import(task_id) == first
    assert len(song_state(song).tracks) == 1


def test_a_task_run_by_two_workers_at_once_makes_one_track(song: int, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    task_id = _request(song, write_wav(noise))
    with ThreadPoolExecutor(2) as workers:
        first, second = workers.map(importing.run_import, [task_id, task_id])
    assert first == second
    assert len(song_state(song).tracks) == 1


def test_a_cancelled_waiting_task_is_not_done(song: int, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    task_id = _request(song, write_wav(noise))
    with database.session() as session:
        tasks.cancel_task(session, task_id)
    running.run_task(task_id)
    assert _task(task_id) == ("cancelled", "Cancelled before it began.")
    assert song_state(song).tracks == ()


def test_what_breaks_inside_is_told_without_its_innards(
    song: int, write_wav, noise: Floats, monkeypatch: pytest.MonkeyPatch
) -> None:  # type: ignore[no-untyped-def]
    def broken(task_id: int) -> dict[str, object]:
        raise ZeroDivisionError("secret detail")

    task_id = _request(song, write_wav(noise))
    monkeypatch.setitem(running._RUNS, "import", broken)
    running.run_task(task_id)
    state, message = _task(task_id)
    assert state == "failed"
    assert "nothing was changed" in message
    assert "secret" not in message


def test_tracks_come_in_the_order_of_the_files_whoever_is_done_first(song: int, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    paths = [write_wav(noise[: 5_000 + i], name=f"0{i}_Take.wav") for i in range(3)]
    requested = [_request(song, path) for path in paths]
    for task_id in reversed(requested):
        running.run_task(task_id)
    assert [t.file_name for t in song_state(song).tracks] == ["00_Take.wav", "01_Take.wav", "02_Take.wav"]
