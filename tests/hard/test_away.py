"""What the page says and does while the database is away: the real page, a real outage."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import time
import zipfile
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
import soundfile
from playwright.sync_api import Page, expect, sync_playwright

from tests.browser.conftest import ARGUMENTS, CHROMIUM
from tests.hard.starting import Installation, installation
from tests.hard.working import new_song, settled, the_task, upload
from tests.patience import until
from tests.sounds import play_phrase

pytestmark = pytest.mark.hard


def _song(made: Installation, folder: Path) -> int:
    song = new_song(made)
    upload(made, song, play_phrase(folder / "Marimba.wav", program=12), "Marimba.wav")
    until(lambda: settled(made, song), "the song is not made")
    return song


@contextlib.contextmanager
def _page(made: Installation) -> Iterator[Page]:
    """The tracks of its song, in a browser of its own."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        page = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=made.address).new_page()
        page.goto("/tracks")
        yield page
        browser.close()


def test_the_page_says_so_keeps_the_changes_and_goes_on_playing(running: Installation, tmp_path: Path) -> None:
    song = _song(running, tmp_path)
    with _page(running) as page:
        page.get_by_role("button", name="Play").click()
        expect(page.get_by_role("button", name="Pause")).to_be_visible()
        row = page.get_by_role("listitem", name="Marimba", exact=True)
        stopped = running.pids("postgres")
        running.kill("postgres")  # it is back within a second or two; the page need not be quick to see it
        for _ in range(3):
            row.get_by_role("button", name="Mute").click()
            time.sleep(0.05)
        away = page.locator("[data-test=away]")
        told = 0
        for _ in range(100):
            if away.count():
                said = away.text_content() or ""
                told += "is away since" in said
                break
            time.sleep(0.02)
        expect(away).to_have_count(0, timeout=20_000)
        expect(page.get_by_role("status").first).to_contain_text("Saved")
        assert told
        until(lambda: set(running.pids("postgres")).isdisjoint(stopped), "it was never gone")
        expect(page.get_by_role("button", name="Pause")).to_be_visible()
        # made once each: three switches are one
        history = httpx.get(f"{running.address}/api/songs/{song}/history", params={"most": 50}).json()
        assert sum(e["label"] == "Marimba: mute" for e in history) == 3, history
        assert httpx.get(f"{running.address}/api/songs/{song}").json()["tracks"][0]["mute"] is True


def test_a_stopped_database_lets_changes_wait_for_it(running: Installation, tmp_path: Path) -> None:
    song = _song(running, tmp_path)
    with _page(running) as page:
        row = page.get_by_role("listitem", name="Marimba", exact=True)
        expect(row).to_be_visible()
        pids = running.pids("postgres")
        for pid in pids:
            os.kill(pid, signal.SIGSTOP)
        row.get_by_role("button", name="Solo").click()
        expect(page.get_by_role("status").first).to_contain_text("Saving")
        for pid in pids:
            os.kill(pid, signal.SIGCONT)
        expect(page.get_by_role("status").first).to_contain_text("Saved")
    assert httpx.get(f"{running.address}/api/songs/{song}").json()["tracks"][0]["solo"] is True


def test_a_server_that_is_gone_is_said_too(running: Installation, tmp_path: Path) -> None:
    _song(running, tmp_path)
    with _page(running) as page:
        row = page.get_by_role("listitem", name="Marimba", exact=True)
        row.get_by_role("button", name="Solo").click()
        expect(page.get_by_role("status").first).to_contain_text("Saved")
        running.kill("serve")
        row.get_by_role("button", name="Mute").click()
        expect(page.locator("[data-test=away]")).to_contain_text("Not saved: the server is away since")
        expect(page.locator("[data-test=away]")).to_contain_text("1 change waits")
        expect(page.locator("[data-test=away]")).to_have_count(0)
        expect(row.get_by_role("button", name="Mute")).to_have_attribute("aria-pressed", "true")


def test_a_backup_brings_a_song_into_another_installation(running: Installation, tmp_path: Path) -> None:
    """By the command line, from one into another that knows nothing; the treated sound is the same to the bit."""
    song = _song(running, tmp_path)
    track = httpx.get(f"{running.address}/api/songs/{song}").json()["tracks"][0]["id"]
    move = {"shape": "bell", "frequency_hz": 700, "q": 8, "gain_db": -9}
    httpx.post(f"{running.address}/api/songs/{song}/tracks/{track}/moves", json=move).raise_for_status()
    file = running.root / "kept.zip"

    def mivlo(made: Installation, *arguments: object) -> str:
        command = [sys.executable, "-m", "mivlo.cli", *map(str, arguments)]
        done = subprocess.run(command, env=made.environment, capture_output=True, text=True, timeout=120)
        assert done.returncode == 0, done.stderr
        return done.stdout

    assert "1 song, 1 recording in" in mivlo(running, "backup", "Weir", "-o", file)
    with zipfile.ZipFile(file) as archive:
        assert archive.testzip() is None
    wanted = _exported(running, song)
    running.signal(signal.SIGTERM)
    running.wait()
    with installation() as other:
        other.start()
        other.wait_until_up()
        assert "1 song restored" in mivlo(other, "restore", file)
        (known,) = httpx.get(f"{other.address}/api/songs").json()
        assert known["name"] == "Weir"
        assert _exported(other, known["id"]) == wanted


def _exported(made: Installation, song: int) -> bytes:
    base = f"{made.address}/api/songs/{song}"
    track = httpx.get(base).json()["tracks"][0]["id"]
    task = httpx.post(f"{base}/exports", json={"track_ids": [track], "depth": "32f"}).json()["id"]
    until(lambda: the_task(made, song, task)["state"] == "done", "the export does not end")
    (name,) = the_task(made, song, task)["result"]["files"]
    path = made.root / name
    path.write_bytes(httpx.get(f"{made.address}/api/tasks/{task}/files/{name}").content)
    return soundfile.read(path, dtype="float32")[0].tobytes()
