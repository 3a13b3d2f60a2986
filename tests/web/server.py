"""A real server and a real worker for tests, as a user runs them."""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import httpx

from mivlo.cluster import free_port
from tests.patience import PATIENCE_S


def beside_others() -> bool:
    """Whether this is one of several test processes."""
    return "PYTEST_XDIST_WORKER" in os.environ


def number() -> int:
    """Which of the test processes that run at a time this is, from 0."""
    return int(os.environ.get("PYTEST_XDIST_WORKER", "gw0").removeprefix("gw"))


@contextlib.contextmanager
def running(
    *,
    worker: bool = True,
    worker_environment: dict[str, str] | None = None,
    environment: dict[str, str] | None = None,
) -> Iterator[str]:
    """Its address; settings are those of this process, some of them others, or others for the worker alone."""
    port = free_port(54_417 + 20 * number())
    address = f"http://127.0.0.1:{port}"
    environment = {**os.environ, "MIVLO_PORT": str(port), **(environment or {})}
    command = [sys.executable, "-m", "mivlo.cli"]
    children = [subprocess.Popen([*command, "serve"], env=environment)]
    if worker:
        other = {**environment, **(worker_environment or {})}
        children.append(subprocess.Popen([*command, "worker"], env=other))
    try:
        deadline = time.monotonic() + PATIENCE_S
        while True:
            with contextlib.suppress(httpx.TransportError):
                health = httpx.get(f"{address}/api/health", timeout=30)
                if health.status_code == 200 and (health.json()["workers"] or not worker):
                    break
            assert time.monotonic() < deadline, "the server did not come up"
            time.sleep(0.1)
        yield address
    finally:
        for child in children:
            child.terminate()
        for child in children:
            child.wait(60)


def go_back(address: str, song_id: int, edit_id: int) -> None:
    """Bring a song back to how it stood behind an edit."""
    answer = httpx.post(f"{address}/api/songs/{song_id}/history/{edit_id}/go")
    assert answer.status_code == 200, answer.text


def last_edit(address: str, song_id: int) -> int:
    """The edit that was made last."""
    return int(httpx.get(f"{address}/api/songs/{song_id}/history", params={"most": 1, "steps": True}).json()[0]["id"])


def wait_for_task(address: str, task_id: int, seconds: float = 180.0) -> dict[str, object]:
    """The task once it has ended."""
    deadline = time.monotonic() + seconds
    while True:
        task = httpx.get(f"{address}/api/tasks/{task_id}").json()
        if task["state"] not in ("waiting", "running"):
            return dict(task)
        assert time.monotonic() < deadline, task
        time.sleep(0.05)


def send_file(address: str, song_id: int, path: Path, name: str | None = None) -> dict[str, object]:
    """Upload a file and wait for its import."""
    return wait_for_task(address, bring(address, song_id, path, name))


def bring(address: str, song_id: int, path: Path, name: str | None = None) -> int:
    """Upload a file; the task that imports it."""
    answer = httpx.post(
        f"{address}/api/songs/{song_id}/files", params={"name": name or path.name}, content=path.read_bytes()
    )
    assert answer.status_code == 202, answer.text
    return int(answer.json()["id"])
