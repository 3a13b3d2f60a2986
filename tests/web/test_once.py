"""What a page sends again because the answer was lost is done once; backups over the interface; listening while the
database is away."""

from __future__ import annotations

import asyncio
import json
import time
from pathlib import Path

import httpx
import psycopg
import pytest
import websockets
from sqlalchemy.exc import OperationalError

from mivlo.live import session as live_session
from mivlo.live.session import LiveSession
from tests.conftest import run_apart
from tests.web.server import wait_for_task

BELL = {"shape": "bell", "frequency_hz": 412.0, "q": 14.4, "gain_db": -6.0}


def test_all_that_one_drag_changes_is_one_step_however_long_it_takes(address: str, song_id: int) -> None:
    base = f"{address}/api/songs/{song_id}"
    track = httpx.get(base).json()["tracks"][0]["id"]
    mine = {"Mivlo-Page": "mine"}

    def fader(db: float, name: str) -> None:
        headers = {**mine, "Mivlo-Change": name}
        httpx.patch(f"{base}/tracks/{track}", json={"fader_db": db}, headers=headers).raise_for_status()

    def undone() -> float:
        return float(httpx.post(f"{base}/undo", headers=mine).json()["tracks"][0]["fader_db"])

    for db, name in ((-1.0, "one.1"), (-2.0, "one.2"), (-3.0, "two.1"), (-4.0, "two.2"), (-5.0, ".x"), (-6.0, ".y")):
        fader(db, name)
        time.sleep(1.05)  # longer than the pause that ends a gesture without a name
    assert [undone() for _ in range(4)] == [-5.0, -4.0, -2.0, 0.0]


def test_a_named_change_is_made_once(address: str, song_id: int) -> None:
    base = f"{address}/api/songs/{song_id}"
    track, at = (httpx.get(base).json()["tracks"][0][key] for key in ("id", "revision"))
    mine = {"Mivlo-Page": "mine"}

    def twice(method: str, path: str, name: str, body: object = None) -> dict:  # type: ignore[type-arg]
        answers = [
            httpx.request(method, f"{base}{path}", json=body, headers={**mine, "Mivlo-Change": name}) for _ in range(2)
        ]
        assert [a.status_code for a in answers] in ([200, 200], [201, 200]), [a.text for a in answers]
        first, second = (answer.json() for answer in answers)
        for key in ("revision", "undo_label", "redo_label"):
            assert first[key] == second[key]
        told = ("open_findings", "decided_findings")  # what stands out may be told meanwhile
        strips = [[{k: v for k, v in s.items() if k not in told} for s in song["strips"]] for song in (first, second)]
        assert strips[0] == strips[1]
        return answers[1].json()

    song = twice("POST", f"/tracks/{track}/moves", "1", {**BELL, "strip_revision": at})
    assert len(song["tracks"][0]["moves"]) == 1
    move = song["tracks"][0]["moves"][0]["id"]
    song = twice("PATCH", f"/moves/{move}", "2", {"gain_db": -3.0, "strip_revision": at + 1})  # else a conflict
    song = twice("POST", f"/tracks/{track}/moves", "3", BELL)
    assert len(song["tracks"][0]["moves"]) == 2
    song = twice("POST", "/undo", "4")
    assert len(song["tracks"][0]["moves"]) == 1
    assert song["tracks"][0]["moves"][0]["gain_db"] == -3.0
    song = twice("POST", "/redo", "5")
    assert len(song["tracks"][0]["moves"]) == 2
    # without a name, or with another one, it is another change
    for headers in (mine, {**mine, "Mivlo-Change": "6"}, {**mine, "Mivlo-Change": "7"}):
        httpx.post(f"{base}/tracks/{track}/moves", json=BELL, headers=headers).raise_for_status()
    assert len(httpx.get(base).json()["tracks"][0]["moves"]) == 5


def test_a_backup_is_fetched_and_brought_back(address: str, song_id: int, tmp_path: Path) -> None:
    base = f"{address}/api/songs/{song_id}"
    track = httpx.get(base).json()["tracks"][0]["id"]
    httpx.post(f"{base}/tracks/{track}/moves", json=BELL).raise_for_status()
    task = wait_for_task(address, httpx.post(f"{base}/backups").json()["id"])
    assert task["state"] == "done", task
    (name,) = task["result"]["files"]  # type: ignore[index]
    assert name == "Sluice-backup.zip"
    content = httpx.get(f"{address}/api/tasks/{task['id']}/files/{name}").content
    answer = httpx.post(f"{address}/api/restore", params={"name": name}, content=content)
    assert answer.status_code == 201, answer.text
    (again,) = answer.json()["song_ids"]
    old, new = (httpx.get(f"{address}/api/songs/{i}").json() for i in (song_id, again))
    assert new["name"] == "Sluice (restored)"
    for key in ("sample_rate", "revision", "undo_label", "duration_s"):
        assert new[key] == old[key]
    assert new["tracks"][0]["audio_sha256"] == old["tracks"][0]["audio_sha256"]
    assert new["tracks"][0]["moves"][0]["gain_db"] == -6.0
    bad = httpx.post(f"{address}/api/restore", params={"name": "cut.zip"}, content=content[: len(content) // 2])
    assert bad.status_code == 400
    assert bad.json()["detail"].startswith("Could not use cut.zip: it is not a backup, or it is damaged")


def _away(*_: object) -> None:
    raise OperationalError("SELECT", {}, psycopg.OperationalError("the connection is closed"))


def test_listening_begins_without_the_database_where_the_song_is_known(
    address: str, song_id: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Two sessions, the second while nothing can be read."""

    async def first_words(most: float) -> list[dict]:  # type: ignore[type-arg]
        told: list[dict] = []  # type: ignore[type-arg]
        spoken = asyncio.Event()

        async def send(message: str | bytes) -> None:
            if isinstance(message, str):
                told.append(json.loads(message))
                if told[-1]["type"] in ("state", "waiting"):
                    spoken.set()

        listening = asyncio.create_task(LiveSession(song_id, send).run())
        await asyncio.wait_for(spoken.wait(), most)
        listening.cancel()
        await asyncio.gather(listening, return_exceptions=True)
        return told

    live_session._last_read.clear()
    assert run_apart(first_words(20))[0]["type"] == "hello"
    monkeypatch.setattr(live_session, "read_song", _away)
    assert [m["type"] for m in run_apart(first_words(20))][:2] == ["hello", "state"]
    live_session._last_read.clear()
    assert run_apart(first_words(20)) == [{"type": "waiting", "message": "The database is away; waiting for it."}]


def test_too_many_listeners_are_told_so(address: str, song_id: int) -> None:
    """More than a machine can render are not let in; those who listen are left alone."""
    url = f"{address.replace('http', 'ws')}/api/songs/{song_id}/live"

    async def crowd() -> tuple[int, str]:
        sockets = []
        try:
            for _ in range(80):
                socket = await websockets.connect(url)
                sockets.append(socket)
            await asyncio.wait_for(sockets[-1].wait_closed(), 20)
            await asyncio.wait_for(sockets[0].recv(), 20)
            return sockets[-1].close_code or 0, sockets[-1].close_reason or ""
        finally:
            await asyncio.gather(*(s.close() for s in sockets), return_exceptions=True)

    code, reason = run_apart(crowd())
    assert code == 4429
    assert "Too many listen" in reason
