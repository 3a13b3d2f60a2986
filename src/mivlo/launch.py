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

from mivlo.cluster import Cluster, free_port
from mivlo.config import PROJECT, URL_FILE, settings
from mivlo.core.errors import MivloError
from mivlo.demo import song as demo_song
from mivlo.jobs import queue
from mivlo.jobs.running import look_again
from mivlo.services.recordings import files as sounds
from mivlo.services.recordings import importing
from mivlo.services.song import songs
from mivlo.services.tasks.tasks import set_task
from mivlo.store import database
from mivlo.store.database import session

Say = Callable[[str], None]


def own_cluster() -> Cluster:
    """The project's own cluster (MIVLO_PG_DIR, MIVLO_PG_PORT)."""
    folder = Path(os.environ.get("MIVLO_PG_DIR", PROJECT / "var" / "postgres"))
    return Cluster(folder, int(os.environ.get("MIVLO_PG_PORT", "54317")))


def prepare_database() -> None:
    """Bring our tables and those of the queue up to date."""
    database.migrate()
    queue.ensure_schema()


def load_demo(say: Say) -> None:
    """Load the demo song when there is no song at all."""
    with session() as open_session:
        if songs.list_songs(open_session):
            return
    folder = settings().data_dir.parent / "demo"
    say("Synthesising the demo song (once)")
    files = demo_song.write_song(folder)
    with session() as open_session:
        song = songs.create_song(open_session, demo_song.NAME, demo_song.SAMPLE_RATE)
    for file in files:
        say(f"  reading {file.name}")
        digest = sounds.originals().keep_file(file)
        task = importing.request_import(song.id, file.name, digest)
        result = importing.run_import(task.id)
        set_task(task.id, state="done", progress=1.0, result=result)
    look_again(song.id)
    with session() as open_session:
        start, stop = demo_song.PASSAGE_S
        values = {"passage_from_s": start, "passage_to_s": stop}
        songs.change_song_values(open_session, song.id, None, values)


def _wait_until_up(address: str, server: subprocess.Popen[bytes]) -> None:
    for _ in range(300):
        if server.poll() is not None:
            raise MivloError("The web server stopped at once; what it said stands above.")
        with contextlib.suppress(OSError), urllib.request.urlopen(f"{address}/api/health", timeout=2):
            return
        time.sleep(0.1)
    raise MivloError("The web server did not answer within 30 s. Run `mivlo doctor`.")


def start(say: Say) -> None:
    """Run until Ctrl-C (or SIGTERM), then stop all that was started."""
    if free_port(settings().port) != settings().port:
        raise MivloError(f"Port {settings().port} is in use. Choose another one: MIVLO_PORT=8500 make start")
    with contextlib.ExitStack() as stack:
        signal.signal(signal.SIGTERM, _as_interrupt)
        if "MIVLO_DATABASE_URL" not in os.environ:
            _start_cluster(stack, say)
        prepare_database()
        load_demo(say)
        command = [sys.executable, "-m", "mivlo.cli"]
        worker = stack.enter_context(_process([*command, "worker"]))
        server = stack.enter_context(_process([*command, "serve"]))
        address = f"http://{settings().host}:{settings().port}"
        _wait_until_up(address, server)
        say(f"Mivlo is at {address} (Ctrl-C stops it)")
        with contextlib.suppress(KeyboardInterrupt):
            while server.poll() is None:
                if worker.poll() is not None:  # long work must go on
                    worker = stack.enter_context(_process([*command, "worker"]))
                time.sleep(0.5)
        say("Stopping")


def _as_interrupt(number: int, frame: object) -> None:
    raise KeyboardInterrupt


def _start_cluster(stack: contextlib.ExitStack, say: Say) -> None:
    cluster = own_cluster()
    if cluster.start():
        say(f"Database started in {cluster.folder} on port {cluster.port}")
        stack.callback(cluster.stop)
    URL_FILE.parent.mkdir(parents=True, exist_ok=True)
    URL_FILE.touch(0o600)
    URL_FILE.write_text(cluster.url)
    os.environ["MIVLO_DATABASE_URL"] = cluster.url
    settings.cache_clear()


@contextlib.contextmanager
def _process(command: list[str]):  # type: ignore[no-untyped-def]
    """A child that is ended with us; in a session of its own, so that Ctrl-C reaches us first."""
    child = subprocess.Popen(command, start_new_session=True)
    try:
        yield child
    finally:
        child.terminate()
        try:
            child.wait(8)
        except subprocess.TimeoutExpired:
            child.kill()
            child.wait()
