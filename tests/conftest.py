"""What all tests share: a scratch database, a sound library in a temporary folder, small sounds."""

from __future__ import annotations

import asyncio
import os
import shutil
from collections.abc import Coroutine, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, TypeVar

import httpx
import numpy as np
import pytest
import soundfile
from sqlalchemy import text

from mivlo.cluster import Cluster
from mivlo.config import settings
from mivlo.core.units import Floats
from mivlo.jobs import queue
from mivlo.services import importing
from mivlo.services.state import SongState, read_song
from mivlo.store import database
from tests import sounds
from tests.web import server

T = TypeVar("T")

SCRATCH_PORT = 54_391
TABLES = "songs, tracks, moves, edits, tasks, procrastinate_jobs, procrastinate_events"


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
    """The database, emptied before the test."""
    with database.engine().begin() as connection:
        connection.execute(text(f"TRUNCATE {TABLES} RESTART IDENTITY CASCADE"))
    return


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


def bring_in(song_id: int, path: Path) -> int:
    """Import a file without the queue; the track's id."""
    digest = importing.library().keep_file(path)
    task = importing.request_import(song_id, path.name, digest)
    return int(importing.run_import(task.id)["track_id"])


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
