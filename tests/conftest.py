"""What all tests share: a scratch database, a sound library in a temporary folder, small sounds."""

from __future__ import annotations

import asyncio
import os
import shutil
import time
from collections.abc import Coroutine, Iterator
from concurrent.futures import Future, ProcessPoolExecutor, ThreadPoolExecutor
from multiprocessing import get_context
from pathlib import Path
from typing import Any, TypeVar

import httpx
import numpy as np
import pytest
import soundfile
from sqlalchemy import text
from sqlalchemy.exc import OperationalError

from mivlo.cluster import Cluster
from mivlo.config import settings
from mivlo.core.units import Floats
from mivlo.demo import song
from mivlo.jobs import queue
from mivlo.services.handover import exporting
from mivlo.services.recordings import files, importing
from mivlo.services.song.state import SongState, read_song
from mivlo.store import database
from tests import sounds
from tests.web import server

T = TypeVar("T")
Made = tuple[dict[str, Floats], list[song.Trouble]]
_BESIDE: pytest.StashKey[Future[Made]] = pytest.StashKey()

SCRATCH_PORT = 54_391
BUSY = """
    SELECT count(*) FROM procrastinate_jobs JOIN procrastinate_workers ON procrastinate_workers.id = worker_id
    WHERE status = 'doing' AND last_heartbeat > now() - make_interval(secs => :seconds)
"""
TABLES = "songs, strips, moves, edits, tasks, procrastinate_jobs, procrastinate_events"


@pytest.fixture(scope="session")
def database_url(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """A cluster of its own for this run, thrown away afterwards."""
    folder = tmp_path_factory.mktemp("cluster") / "postgres"
    cluster = Cluster(folder, SCRATCH_PORT, durable=False)
    cluster.start()
    os.environ["MIVLO_DATABASE_URL"] = cluster.url
    os.environ["MIVLO_DATA_DIR"] = str(tmp_path_factory.mktemp("data"))
    settings.cache_clear()
    database.migrate()
    queue.ensure_schema()
    yield cluster.url
    database.engine().dispose()
    cluster.stop()
    shutil.rmtree(cluster.folder, ignore_errors=True)  # it may lie outside of pytest's folder


@pytest.fixture
def db(database_url: str) -> None:
    """The database, emptied before the test, once no worker is busy with what the test before has left behind.

    Numbers are not given out again: a worker that ends late must not take a new job for its own.
    """
    deadline = time.monotonic() + 20
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


@pytest.fixture
def noise() -> Floats:
    """Two seconds of stereo noise at 48 kHz, always the same."""
    return np.random.default_rng(7).standard_normal((96_000, 2)) * 0.1


@pytest.fixture
def write_wav(tmp_path: Path):  # type: ignore[no-untyped-def]
    """Write samples to a WAV file in the test's folder."""

    def write(samples: Floats, *, name: str = "take.wav", rate: int = 48_000, subtype: str = "PCM_24") -> Path:
        path = tmp_path / name
        soundfile.write(path, samples, rate, subtype=subtype)
        return path

    return write


MANY = 100
"""So many tests take long enough for the demo song to be made beside them."""


def pytest_collection_finish(session: pytest.Session) -> None:
    wanted = any("made" in getattr(item, "fixturenames", ()) for item in session.items)
    if wanted and len(session.items) > MANY and not session.config.option.collectonly:
        pool = ProcessPoolExecutor(1, mp_context=get_context("spawn"))
        session.config.stash[_BESIDE] = pool.submit(song.make_song)
        pool.shutdown(wait=False)


@pytest.fixture(scope="session")
def made(pytestconfig: pytest.Config) -> Made:
    """The demo song: its tracks and what was planted."""
    beside = pytestconfig.stash.get(_BESIDE, None)
    return song.make_song() if beside is None else beside.result()


def bring_in(song_id: int, path: Path) -> int:
    """Import a file without the queue; the track's id."""
    digest = files.originals().keep_file(path)
    task = importing.request_import(song_id, path.name, digest)
    return int(importing.run_import(task.id)["track_id"])


def exported(task_id: int, name: str) -> Path:
    """A file that an export made."""
    found = files.store().here(exporting.exported_name(task_id, name))
    assert found is not None
    return found


def run_apart(coroutine: Coroutine[Any, Any, T]) -> T:
    """asyncio.run in a thread of its own: the browser's driver keeps a loop running in this one."""
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(asyncio.run, coroutine).result()


def song_state(song_id: int) -> SongState:
    with database.session() as session:
        return read_song(session, song_id)


@pytest.fixture(scope="session")
def marimba_wav(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A sampled marimba that plays a phrase: recorded sound."""
    return sounds.play_phrase(tmp_path_factory.mktemp("sampled") / "marimba.wav", program=12)


@pytest.fixture(scope="session")
def address(database_url: str) -> Iterator[str]:
    """A running server with a worker."""
    with server.running() as found:
        yield found


@pytest.fixture
def song_id(address: str, db: None, marimba_wav: Path) -> int:
    """A new song with one sampled track, made through the interface."""
    made = httpx.post(f"{address}/api/songs", json={"name": "Sluice", "sample_rate": 48_000})
    song = int(made.json()["id"])
    assert server.send_file(address, song, marimba_wav)["state"] == "done"
    return song
