"""A disk that is full: said by name, nothing lost, and all goes on without a restart once there is room."""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import numpy as np
import pytest
import soundfile

from tests.hard.starting import Installation, installation, small_disk
from tests.hard.working import new_song, send, settled, the_task, upload, works
from tests.patience import until

RATE = 48_000
pytestmark = pytest.mark.hard


@pytest.fixture
def disk() -> Iterator[Path]:
    with small_disk(420) as folder:
        yield folder


@pytest.fixture
def small(disk: Path) -> Iterator[Installation]:
    """All of it on one small disk, the database too; nothing is kept free, so that it can be full to the last byte."""
    with installation(disk, {"MIVLO_KEEP_FREE_MB": "0", "MIVLO_TREATED_CACHE_GB": "0"}) as made:
        made.start()
        made.wait_until_up()
        yield made


def _free(folder: Path) -> int:
    known = os.statvfs(folder)
    return known.f_bavail * known.f_frsize


def _fill(folder: Path, leave: int) -> Path:
    """Take the room of a disk but for some bytes."""
    filler = folder / "filler"
    with filler.open("ab") as file:
        while (size := _free(folder) - leave) > 0:
            try:
                os.posix_fallocate(file.fileno(), os.fstat(file.fileno()).st_size, max(1, size))
            except OSError:
                if size < 1 << 16:
                    break
                with contextlib.suppress(OSError):
                    file.write(b"\0" * (size // 2))
                    file.flush()
    return filler


def _noise(path: Path, seconds: float, seed: int = 1) -> Path:
    x = np.random.default_rng(seed).standard_normal((round(RATE * seconds), 2)) * 0.05
    soundfile.write(path, x, RATE, subtype="PCM_16")
    return path


def _silence(path: Path, seconds: float) -> Path:
    """Nearly nothing as a file, much as a working copy."""
    soundfile.write(path, np.zeros((round(RATE * seconds), 2)) + 0.01, RATE, subtype="PCM_16")
    return path


def test_what_has_no_room_is_refused_before_it_begins(small: Installation, tmp_path: Path) -> None:
    song = new_song(small)
    first = upload(small, song, _noise(tmp_path / "a.wav", 20), "A.wav")
    until(lambda: settled(small, song), "the import does not end")
    assert the_task(small, song, first)["state"] == "done"
    filler = _fill(small.root, 30_000_000)
    answer = send(small, song, _noise(tmp_path / "b.wav", 200), "B.wav")
    assert answer.status_code == 507, answer.text
    said = answer.json()["detail"]
    assert said.startswith("The disk is full: B.wav needs 38.4 MB, ")
    assert " MB are free in " in said
    second = upload(small, song, _silence(tmp_path / "c.flac", 600), "C.flac")
    until(lambda: settled(small, song), "the import does not end")
    task = the_task(small, song, second)
    assert task["state"] == "failed"
    assert task["message"].startswith("The disk is full: reading C.flac needs ")
    track = httpx.get(f"{small.address}/api/songs/{song}").json()["tracks"][0]["id"]
    _fill(small.root, 2_000_000)
    export = httpx.post(f"{small.address}/api/songs/{song}/exports", json={"track_ids": [track], "depth": "32f"})
    assert export.status_code == 507
    assert "the export of A needs 7.7 MB" in export.json()["detail"]
    filler.unlink()
    again = httpx.post(f"{small.address}/api/songs/{song}/exports", json={"track_ids": [track]}).raise_for_status()
    until(lambda: settled(small, song), "the export does not end")
    assert the_task(small, song, again.json()["id"])["state"] == "done"
    use = httpx.get(f"{small.address}/api/disk").json()
    assert use["exports"] > 5_000_000
    freed = httpx.post(f"{small.address}/api/disk/tidy", json={"exports": True}).json()["freed"]
    assert freed == use["exports"]
    assert httpx.get(f"{small.address}/api/disk").json()["exports"] == 0
    task = the_task(small, song, again.json()["id"])
    assert "removed to make room" in task["message"]
    assert httpx.get(f"{small.address}/api/songs/{song}").json()["tracks"][0]["id"] == track


@pytest.mark.parametrize("work", ["import", "export"])
def test_a_disk_that_fills_up_in_the_middle(work: str, small: Installation, tmp_path: Path) -> None:
    song = new_song(small)
    if work == "export":
        upload(small, song, _silence(tmp_path / "a.flac", 240), "A.flac")
        until(lambda: settled(small, song), "the import does not end")
        track = httpx.get(f"{small.address}/api/songs/{song}").json()["tracks"][0]["id"]
        move = {"shape": "bell", "frequency_hz": 400, "q": 3, "gain_db": -6}
        httpx.post(f"{small.address}/api/songs/{song}/tracks/{track}/moves", json=move).raise_for_status()
        until(lambda: settled(small, song), "the look does not end")
        body = {"track_ids": [track], "depth": "16"}
        task = httpx.post(f"{small.address}/api/songs/{song}/exports", json=body).json()["id"]
    else:
        task = upload(small, song, _silence(tmp_path / "a.flac", 400), "A.flac")
    until(lambda: works(small, song, task), "it never began")
    pids = {name: small.pids(name) for name in ("serve", "worker")}
    filler = _fill(small.root, 0)
    time.sleep(4.0)
    # nobody dies of it but, if it must, the database
    assert {name: small.pids(name) for name in pids} == pids
    name = httpx.patch(f"{small.address}/api/songs/{song}", json={"name": "Written on a full disk"})
    assert name.status_code in (200, 503, 507), name.text
    filler.unlink()
    until(small.up, "it did not come back")
    until(lambda: settled(small, song), f"still open: {the_task(small, song, task)}")
    ended = the_task(small, song, task)
    assert ended["state"] in ("failed", "done"), ended
    if ended["state"] == "failed":
        assert "The disk is full" in ended["message"]
    if name.status_code == 200:
        assert httpx.get(f"{small.address}/api/songs/{song}").json()["name"] == "Written on a full disk"
    again = upload(small, song, _noise(tmp_path / "b.wav", 5, seed=2), "B.wav")
    until(lambda: the_task(small, song, again)["state"] == "done", f"{the_task(small, song, again)}")
    assert {name: small.pids(name) for name in pids} == pids
    assert "Traceback" not in small.said()
    # only our own half files may be left, and they are swept
    assert not list((small.root / "data").rglob("*.core"))


def test_a_first_start_on_a_full_disk_says_so(disk: Path) -> None:
    filler = _fill(disk, 20_000_000)
    with installation(disk) as made:
        made.start()
        assert made.wait(30) == 1
        assert "mivlo: The disk is full: starting needs 100.0 MB, 20.0 MB are free" in made.said()
        assert "Traceback" not in made.said()
        filler.unlink()
        made.start()
        made.wait_until_up()


def test_the_demo_on_a_disk_that_it_does_not_fit_on() -> None:
    with small_disk(900) as disk:
        _fill(disk, 140_000_000)
        _demo_in_two_starts(disk)


def _demo_in_two_starts(disk: Path) -> None:
    with installation(disk, {"MIVLO_DEMO": "1", "MIVLO_KEEP_FREE_MB": "20"}) as made:
        made.start()
        assert made.wait(120) == 1
        assert "The disk is full" in made.said()
        assert "Traceback" not in made.said()
        until(made.gone, "something runs on")
        (disk / "filler").unlink()
        made.start()
        until(lambda: made.up() or made.ended(), "it did not come up", 150)
        assert made.up(), made.said()
        songs = httpx.get(f"{made.address}/api/songs").json()
        assert [s["tracks"] for s in songs] == [9]


def test_the_command_line_on_a_full_disk(disk: Path, tmp_path: Path) -> None:
    source = _noise(tmp_path / "a.wav", 120)
    sheet = tmp_path / "sheet.json"
    sheet.write_text('{"format": "mivlo-sheet", "version": 1, "moves": []}')
    _fill(disk, 300_000)
    arguments = ["treat", str(source), "--moves", str(sheet), "-o", str(disk / "o.wav")]
    done = subprocess.run([sys.executable, "-m", "mivlo.cli", *arguments], capture_output=True, text=True, timeout=120)
    assert done.returncode == 1
    assert "The disk is full" in done.stderr
    assert done.stderr.count("\n") == 1
    assert not list(disk.rglob("*.part"))
    assert not (disk / "o.wav").exists()
