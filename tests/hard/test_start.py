"""One start, one folder: who holds it, what ends with it, what is started again."""

from __future__ import annotations

import signal
import subprocess
import sys
import time

import httpx
import pytest

from mivlo.cluster import free_port
from tests.hard.starting import Installation
from tests.patience import PATIENCE_S, until


def _song(made: Installation, name: str) -> int:
    return int(httpx.post(f"{made.address}/api/songs", json={"name": name, "sample_rate": 48_000}).json()["id"])


def _names(made: Installation) -> set[str]:
    return {song["name"] for song in httpx.get(f"{made.address}/api/songs").json()}


def test_a_second_start_says_who_holds_the_folder_and_touches_nothing(running: Installation) -> None:
    _song(running, "Weir")
    for port in (running.port, free_port(running.port)):
        other = Installation(running.root, port)
        other.out = running.root / "second.txt"
        other.start()
        assert other.wait(30) == 1
        assert running.address in other.said()
        assert f"process {running.process.pid}" in other.said()  # type: ignore[union-attr]
        assert "Traceback" not in other.said()
    assert _names(running) == {"Weir"}
    assert running.up()


@pytest.mark.hard
@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGHUP, signal.SIGTERM])
def test_any_number_of_signals_ends_everything(running: Installation, number: signal.Signals) -> None:
    for _ in range(3):
        running.signal(number)
        time.sleep(0.1)
    assert running.wait(PATIENCE_S) == 0  # on a machine that does nothing else within ten seconds
    until(running.gone, "something is left")
    assert running.said().rstrip().endswith("Stopping")


@pytest.mark.hard
def test_what_was_started_ends_when_the_start_command_is_killed_and_the_next_start_goes_on(
    running: Installation,
) -> None:
    _song(running, "Weir")
    running.signal(signal.SIGKILL)
    running.wait()
    until(running.gone, f"left: {[running.pids(n) for n in ('serve', 'worker', 'postgres')]}")
    running.start()
    running.wait_until_up()
    assert _names(running) == {"Weir"}


@pytest.mark.hard
def test_each_part_that_dies_is_started_again_and_said(running: Installation) -> None:
    _song(running, "Weir")
    for name, part in (("serve", "server"), ("worker", "worker"), ("postgres", "database")):
        before = running.pids(name)
        running.kill(name)
        took = until(
            lambda n=name, b=before: set(running.pids(n)) - set(b) and running.up(), f"the {part} did not come back"
        )  # type: ignore[misc]
        assert took < 10, (part, took)
        assert f"The {part} ended" in running.said()
    assert _names(running) == {"Weir"}


@pytest.mark.hard
def test_a_part_that_keeps_dying_ends_it_all_with_a_sentence(running: Installation) -> None:
    deadline = time.monotonic() + PATIENCE_S
    while not running.ended():
        assert time.monotonic() < deadline, running.said()
        running.kill("worker")
        time.sleep(0.1)
    assert running.wait() == 1
    assert "The worker ended 5 times within a minute" in running.said()
    assert str(running.root / "log" / "worker.log") in running.said()
    until(running.gone, "something is left")


@pytest.mark.hard
def test_a_lost_password_file_leaves_the_songs_and_says_what_to_do(running: Installation) -> None:
    _song(running, "Weir")
    running.signal(signal.SIGTERM)
    running.wait()
    (running.root / "postgres.secret").unlink()
    running.start()
    assert running.wait(30) == 1
    assert "mivlo doctor --new-password" in running.said()
    doctor = [sys.executable, "-m", "mivlo.cli", "doctor", "--new-password"]
    assert subprocess.run(doctor, env=running.environment, check=False).returncode == 0
    running.start()
    running.wait_until_up()
    assert _names(running) == {"Weir"}
