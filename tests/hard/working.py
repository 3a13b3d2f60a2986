"""Songs, uploads and tasks of an installation, asked over its interface as a page does."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import httpx

from tests.hard.starting import Installation

OPEN = ("waiting", "running", "unknown")


def new_song(made: Installation, name: str = "Weir", rate: int = 48_000) -> int:
    answer = httpx.post(f"{made.address}/api/songs", json={"name": name, "sample_rate": rate})
    return int(answer.raise_for_status().json()["id"])


def send(made: Installation, song: int, path: Path, name: str) -> httpx.Response:
    """The answer to an upload."""
    return httpx.post(f"{made.address}/api/songs/{song}/files", params={"name": name}, content=path.read_bytes())


def upload(made: Installation, song: int, path: Path, name: str) -> int:
    """The task of an upload that was taken."""
    answer = send(made, song, path, name)
    assert answer.status_code == 202, answer.text
    return int(answer.json()["id"])


def tasks(made: Installation, song: int) -> list[dict[str, Any]]:
    """All tasks of a song; one of unknown state where nobody answers."""
    try:
        answer = httpx.get(f"{made.address}/api/songs/{song}/tasks")
    except httpx.TransportError:
        return [{"state": "unknown", "id": 0}]
    return list(answer.json()) if answer.status_code == 200 else [{"state": "unknown", "id": 0}]


def the_task(made: Installation, song: int, task: int) -> dict[str, Any]:
    return next((t for t in tasks(made, song) if t["id"] == task), {"state": "unknown", "id": task, "progress": 0.0})


def settled(made: Installation, song: int) -> bool:
    return not [t for t in tasks(made, song) if t["state"] in OPEN]


def works(made: Installation, song: int, task: int) -> bool:
    """Whether a task is in the middle of its work."""
    known = the_task(made, song, task)
    return bool(known["state"] == "running" and known["progress"] > 0.02)
