"""What all tests share: a scratch database, a sound library in a temporary folder, small sounds."""

from __future__ import annotations

import asyncio
import fcntl
import os
import pickle
import shutil
import sys
from collections.abc import Callable, Coroutine, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

import hypothesis
import numpy as np
import pytest
import soundfile

from mivlo import cli
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
from tests.emptying import empty_database
from tests.scenes import song_with
from tests.web import server

# what passes once passes again: random stories are sought with `make explore`, and those that show a fault become
# examples; a slow machine is no fault of either
EXPLORING = bool(os.environ.get("MIVLO_EXPLORE"))
hypothesis.settings.register_profile("ours", derandomize=not EXPLORING, deadline=None)
hypothesis.settings.load_profile("ours")

T = TypeVar("T")
Made = tuple[dict[str, Floats], list[song.Trouble]]

SCRATCH_PORT = 54_391


@pytest.fixture(scope="session")
def database_url(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """A cluster of its own for this run, thrown away afterwards."""
    folder = tmp_path_factory.mktemp("cluster") / "postgres"
    cluster = Cluster(folder, SCRATCH_PORT + server.number(), durable=False)
    cluster.start()
    os.environ["MIVLO_DATABASE_URL"] = cluster.url
    os.environ["MIVLO_DATA_DIR"] = str(tmp_path_factory.mktemp("data"))
    os.environ["MIVLO_WATCH_DIRS"] = str(tmp_path_factory.mktemp("sessions"))
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
    empty_database()


@pytest.fixture(scope="module")
def db_of_module(database_url: str) -> None:
    """The database, emptied before the first test of a module whose tests share what was made then."""
    empty_database()


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


@pytest.fixture(scope="session")
def made(tmp_path_factory: pytest.TempPathFactory) -> Made:
    """The demo song: its tracks and what was planted. Made once for all test processes of a run."""
    base = tmp_path_factory.getbasetemp()
    place = (base.parent if server.beside_others() else base) / "demo-song.pickle"
    with place.with_suffix(".lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not place.exists():
            whole = song.make_song()
            place.write_bytes(pickle.dumps(whole))
            return whole
    found: Made = pickle.loads(place.read_bytes())
    return found


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


def as_made(song: SongState) -> SongState:
    """All of a song that somebody made: a worker may look at its tracks meanwhile, and what it finds is no step."""
    return replace(song, strips=tuple(replace(strip, open_findings=0) for strip in song.strips))


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
def song_id(address: str, marimba_wav: Path) -> int:
    """A song with one sampled track, made through the interface."""
    return song_with(address, (marimba_wav.name, marimba_wav))


class Done(NamedTuple):
    """How a command ended, and what it said."""

    returncode: int
    stdout: str
    stderr: str


@pytest.fixture
def run(capfd: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch) -> Iterator[Callable[..., Done]]:
    """The command line's own entry point, in this process: starting one costs seconds each time."""

    def call(*arguments: object) -> Done:
        monkeypatch.setattr(sys, "argv", ["mivlo", *map(str, arguments)])
        settings.cache_clear()
        code = 0
        try:
            cli.main()
        except SystemExit as ended:
            code = int(ended.code or 0)
        told = capfd.readouterr()
        return Done(code, told.out, told.err)

    yield call
    settings.cache_clear()


@pytest.fixture
def refused(run: Callable[..., Done], tmp_path: Path) -> Callable[..., str]:
    """Its one sentence on standard error, exit code 1, and nothing half-written anywhere."""

    def call(*arguments: object) -> str:
        before = {path: path.read_bytes() for path in tmp_path.rglob("*") if path.is_file()}
        done = run(*arguments)
        assert done.returncode == 1, (arguments, done)
        assert done.stderr.count("\n") == 1, done.stderr
        assert "Traceback" not in done.stderr
        assert {path: path.read_bytes() for path in tmp_path.rglob("*") if path.is_file()} == before
        return done.stderr

    return call
