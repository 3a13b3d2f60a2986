"""Start everything on one machine: database, migrations, demo song, worker, web server."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable
from pathlib import Path

from mivlo.audio.room import check_room
from mivlo.cluster import Cluster, free_port
from mivlo.config import PROJECT, settings, url_file
from mivlo.core.errors import MivloError
from mivlo.demo import song as demo_song
from mivlo.holding import FolderLock, make_private
from mivlo.jobs import queue
from mivlo.jobs.running import look_again
from mivlo.services.recordings import files as sounds
from mivlo.services.recordings import importing
from mivlo.services.recordings.sweeping import sweep
from mivlo.services.song import songs
from mivlo.services.song.state import read_song
from mivlo.services.tasks.tasks import set_task
from mivlo.store import database
from mivlo.store.database import session
from mivlo.supervising import Database, Program, Supervisor
from mivlo.web.doors import EVERYWHERE

Say = Callable[[str], None]
START_WITHIN_S = 30.0
LEAST_FREE = 100_000_000
"""Bytes: a new database, and its first segments of log."""
_STOP_SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


def _cluster_folder() -> Path:
    return Path(os.environ.get("MIVLO_PG_DIR", PROJECT / "var" / "postgres"))


def own_cluster() -> Cluster:
    """The project's own cluster (MIVLO_PG_DIR, MIVLO_PG_PORT)."""
    return Cluster(_cluster_folder(), int(os.environ.get("MIVLO_PG_PORT", "54317")))


def prepare_database() -> None:
    """Bring our tables and those of the queue up to date."""
    database.migrate()
    queue.ensure_schema()


def load_demo(say: Say) -> None:
    """Load the demo song when there is no song at all; go on with it where an earlier start was interrupted."""
    begun = settings().data_dir / "demo-begun"  # there as long as the demo is not whole
    with session() as open_session:
        known = songs.list_songs(open_session)
    if known and not begun.exists():
        return
    folder = settings().data_dir.parent / "demo"
    say("Synthesising the demo song (once)")
    files = demo_song.write_song(folder)
    begun.parent.mkdir(parents=True, exist_ok=True)
    begun.touch()
    song_id = next((song.id for song, _ in known if song.name == demo_song.NAME), None)
    with session() as open_session:
        if song_id is None:
            song_id = songs.create_song(open_session, demo_song.NAME, demo_song.SAMPLE_RATE).id
        there = {strip.file_name for strip in read_song(open_session, song_id).tracks}
    for file in files:
        if file.name in there:
            continue
        say(f"  reading {file.name}")
        digest = sounds.originals().keep_file(file)
        task = importing.request_import(song_id, file.name, digest)
        result = importing.run_import(task.id)
        set_task(task.id, state="done", progress=1.0, result=result)
    look_again(song_id)
    with session() as open_session:
        start, stop = demo_song.PASSAGE_S
        values = {"passage_from_s": start, "passage_to_s": stop}
        songs.change_song_values(open_session, song_id, None, values)
    begun.unlink()  # our own mark


def _wait_until_up(address: str, supervisor: Supervisor, server: Program) -> None:
    deadline = time.monotonic() + START_WITHIN_S
    while time.monotonic() < deadline:
        supervisor.look()
        with contextlib.suppress(OSError), urllib.request.urlopen(f"{address}/api/health", timeout=2):
            return
        time.sleep(0.1)
    raise MivloError(f"The server did not answer within {START_WITHIN_S:.0f} s. Its log: {server.log}")


def start(say: Say) -> None:
    """Run until Ctrl-C, a hang-up or SIGTERM, then stop all that was started.

    Raises
    ------
    Held : another start holds the folders.
    GaveUp : a part kept dying.
    """
    host = settings().host
    address = f"http://{'127.0.0.1' if host in EVERYWHERE else host}:{settings().port}"
    for number in _STOP_SIGNALS:
        signal.signal(number, _stop_once)
    with contextlib.ExitStack() as stack:
        own = "MIVLO_DATABASE_URL" not in os.environ
        for folder in (settings().data_dir, *([_cluster_folder()] if own else [])):
            lock = FolderLock(folder, address)
            lock.take()
            stack.callback(lock.release)
        if free_port(settings().port) != settings().port:
            raise MivloError(f"Port {settings().port} is in use. Choose another one: MIVLO_PORT=8500 make start")
        supervisor = Supervisor(say)
        with contextlib.suppress(KeyboardInterrupt):
            try:
                _run(supervisor, address, own, say)
            finally:
                _no_more_signals()
                say("Stopping")
                supervisor.stop()


def _run(supervisor: Supervisor, address: str, own: bool, say: Say) -> None:
    logs = settings().data_dir.parent / "log"
    for folder in (settings().data_dir, logs):
        make_private(folder)
    if own:
        check_room(_cluster_folder(), LEAST_FREE, "starting")
        _start_cluster(supervisor, say)
    prepare_database()
    if (swept := sweep()).files:
        say(f"Removed {swept.files} half-made files of earlier runs ({swept.bytes / 1e6:.1f} MB)")
    if settings().demo:
        load_demo(say)
    command = [sys.executable, "-m", "mivlo.cli"]
    server = Program("server", [*command, "serve"], logs / "server.log")
    supervisor.add(Program("worker", [*command, "worker"], logs / "worker.log"))
    supervisor.add(server)
    _wait_until_up(address, supervisor, server)
    say(f"Mivlo is at {address} (Ctrl-C stops it)")
    while True:
        supervisor.look()
        time.sleep(0.2)


def _stop_once(number: int, frame: object) -> None:
    """The first signal begins to stop; further ones change nothing."""
    _no_more_signals()
    raise KeyboardInterrupt


def _no_more_signals() -> None:
    for number in _STOP_SIGNALS:
        signal.signal(number, signal.SIG_IGN)


def _start_cluster(supervisor: Supervisor, say: Say) -> None:
    cluster = own_cluster()

    def guard() -> subprocess.Popen[bytes]:
        command = [sys.executable, "-m", "mivlo.guard", str(_cluster_folder())]
        return subprocess.Popen(command, stdin=subprocess.PIPE, start_new_session=True)

    supervisor.add(Database(cluster, guard))
    say(f"Database started in {cluster.folder} on port {cluster.port}")
    noted = url_file(settings().data_dir)
    noted.touch(0o600)
    noted.write_text(cluster.url)
    os.environ["MIVLO_DATABASE_URL"] = cluster.url
    settings.cache_clear()
