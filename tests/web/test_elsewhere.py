"""A worker and a server that share the database and the store and nothing else, as on two machines."""

from __future__ import annotations

import io
import shutil
from collections.abc import Iterator
from pathlib import Path

import httpx
import numpy as np
import pytest
import soundfile
from bench.scratch import scratch

from mivlo import doctor
from mivlo.config import settings
from mivlo.core.units import Floats
from tests.web.server import running, send_file, wait_for_task


@pytest.fixture
def two_machines(tmp_path: Path) -> Iterator[tuple[Path, Path]]:
    """The folders of the server and of the worker; the store is a third one. A database of their own: no other worker."""
    with scratch(54_461, MIVLO_STORE=str(tmp_path / "store"), MIVLO_DATA_DIR=str(tmp_path / "server")):
        yield tmp_path / "server", tmp_path / "worker"


def _sounds_check() -> doctor.Check:
    return next(check for check in doctor.examine() if check.name == "sounds")


def test_work_is_done_on_a_machine_that_begins_with_an_empty_folder(
    two_machines: tuple[Path, Path], write_wav, noise: Floats
) -> None:  # type: ignore[no-untyped-def]
    server, worker = two_machines
    with running(worker_environment={"MIVLO_DATA_DIR": str(worker)}) as address:
        song = httpx.post(f"{address}/api/songs", json={"name": "Lock", "sample_rate": 48_000}).json()["id"]
        path = write_wav(noise, name="Cello.wav", subtype="FLOAT")
        assert send_file(address, song, path)["state"] == "done"
        assert list((worker / "working").iterdir())
        assert not (server / "working").exists()  # the server has made nothing yet
        assert (
            _sounds_check().says
            == "1 in the store; 1 have no current working copy here and get one when they are used."
        )

        (track,) = httpx.get(f"{address}/api/songs/{song}").json()["tracks"]
        waves = httpx.get(f"{address}/api/songs/{song}/tracks/{track['id']}/waveform", params={"points": 50})
        assert waves.status_code == 200
        assert _sounds_check().says == "1 in the store, all ready."

        shutil.rmtree(worker)  # another worker takes over, with nothing
        body = {"track_ids": [track["id"]], "depth": "32f", "container": "wav"}
        task = httpx.post(f"{address}/api/songs/{song}/exports", json=body).json()
        done = wait_for_task(address, task["id"])
        assert done["state"] == "done", done
        (name,) = done["result"]["files"]  # type: ignore[index]
        stem, _ = soundfile.read(io.BytesIO(httpx.get(f"{address}/api/tasks/{task['id']}/files/{name}").content))
        assert np.max(np.abs(stem - noise)) < 1e-6

        next((settings().data_dir.parent / "store" / "originals").rglob("*.wav")).unlink()
        check = _sounds_check()
        assert not check.ok
        assert "1 of 1 are missing in the store (Cello.wav)" in check.says
