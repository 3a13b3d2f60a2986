"""The command line as others script it: outputs, exit codes, one sentence on standard error."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
import soundfile
from scipy import signal

from mivlo import cli
from mivlo.config import settings
from mivlo.core.moves import Move, Shape, treatment_sections
from mivlo.core.units import Floats
from mivlo.jobs import queue

SHEET = {
    "format": "mivlo-sheet",
    "version": 1,
    "moves": [
        {"shape": "bell", "frequency_hz": 412.0, "q": 14.4, "gain_db": -6.0, "mode": "static", "enabled": True},
        {"shape": "low_cut", "frequency_hz": 80.0, "slope_db_per_octave": 24},
    ],
}
MOVES = (Move(Shape.BELL, 412.0, q=14.4, gain_db=-6.0), Move(Shape.LOW_CUT, 80.0, slope_db_per_octave=24))


@dataclass
class Done:
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
def sheet(tmp_path: Path) -> Path:
    path = tmp_path / "sheet.json"
    path.write_text(json.dumps(SHEET))
    return path


@pytest.mark.parametrize(
    ("bits", "subtype", "error"), [("32f", "FLOAT", 1e-6), ("24", "PCM_24", 1e-6), ("16", "PCM_16", 5e-5)]
)
def test_treat_gives_the_treated_file(
    run: Callable[..., Done],
    tmp_path: Path,
    write_wav,
    noise: Floats,
    sheet: Path,
    bits: str,
    subtype: str,
    error: float,
) -> None:  # type: ignore[no-untyped-def]
    source, out = write_wav(noise, rate=44_100), tmp_path / "out.wav"
    done = run("treat", source, "--moves", sheet, "-o", out, "--bits", bits)
    assert (done.returncode, done.stderr) == (0, "")
    x, _ = soundfile.read(source, always_2d=True)
    y, rate = soundfile.read(out, always_2d=True)
    reference = signal.sosfilt(treatment_sections(MOVES, sample_rate=44_100), x, axis=0)
    assert rate == 44_100
    assert y.shape == x.shape
    assert soundfile.info(out).subtype == subtype
    assert np.max(np.abs(y - reference)) < error


def test_treat_keeps_the_depth_of_its_input(
    run: Callable[..., Done], tmp_path: Path, write_wav, noise: Floats, sheet: Path
) -> None:  # type: ignore[no-untyped-def]
    source, out = write_wav(noise[:, :1], subtype="PCM_16"), tmp_path / "out.wav"
    assert run("treat", source, "--moves", sheet, "-o", out).returncode == 0
    info = soundfile.info(out)
    assert (info.subtype, info.channels, info.frames) == ("PCM_16", 1, len(noise))


def test_a_bad_input_is_one_sentence_and_exit_code_1(
    run: Callable[..., Done], tmp_path: Path, write_wav, noise: Floats, sheet: Path
) -> None:  # type: ignore[no-untyped-def]
    text = tmp_path / "text.wav"
    text.write_text("not sound")
    bad = tmp_path / "bad.json"
    bad.write_text(json.dumps({**SHEET, "moves": [{"shape": "bell", "frequency_hz": 412, "gain_db": -3, "wide": 2}]}))
    good = write_wav(noise)
    for arguments, says in (
        (("treat", text, "--moves", sheet, "-o", tmp_path / "o.wav"), "text.wav: this is not a sound file"),
        (("treat", tmp_path / "no.wav", "--moves", sheet, "-o", tmp_path / "o.wav"), "There is no file"),
        (("treat", good, "--moves", bad, "-o", tmp_path / "o.wav"), "moves.0.wide is not a known key"),
        (("treat", good, "--moves", sheet, "-o", good), "would replace the input"),
        (("find", text), "text.wav: this is not a sound file"),
        (("find", good, "--from", 5), "There is no sound between"),
    ):
        done = run(*arguments)
        assert done.returncode == 1, arguments
        assert says in done.stderr
        assert len(done.stderr.strip().splitlines()) == 1
    assert not (tmp_path / "o.wav").exists()
    assert not (tmp_path / "o.wav.part").exists()


def test_wrong_usage_is_exit_code_2(run: Callable[..., Done], sheet: Path) -> None:
    assert run("treat").returncode == 2
    assert run("treat", "a.wav", "--moves", sheet, "-o", "b.wav", "--bits", "20").returncode == 2
    assert run("nonsense").returncode == 2


def test_find_speaks_json(run: Callable[..., Done], write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    t = np.arange(len(noise)) / 48_000
    x = 0.02 * noise + 0.1 * np.sin(2 * np.pi * 1_234.0 * t)[:, None]
    done = run("find", write_wav(x), "--json", "--from", "0.2", "--to", "1.8")
    assert done.returncode == 0
    told = json.loads(done.stdout)
    assert set(told) == {"file", "sample_rate", "duration_s", "findings"}
    assert (told["sample_rate"], told["duration_s"]) == (48_000, 2.0)
    first = told["findings"][0]
    assert set(first) == {"kind", "frequency_hz", "bandwidth_oct", "excess_db", "confidence", "move"}
    assert first["frequency_hz"] == pytest.approx(1_234.0, rel=0.01)
    assert first["move"]["shape"] == "bell"


def test_what_find_proposes_can_be_given_to_treat(
    run: Callable[..., Done], tmp_path: Path, write_wav, noise: Floats
) -> None:  # type: ignore[no-untyped-def]
    t = np.arange(len(noise)) / 48_000
    source = write_wav(0.02 * noise + 0.1 * np.sin(2 * np.pi * 1_234.0 * t)[:, None])
    findings = json.loads(run("find", source, "--json").stdout)["findings"]
    sheet = tmp_path / "found.json"
    sheet.write_text(json.dumps({"format": "mivlo-sheet", "version": 1, "moves": [f["move"] for f in findings]}))
    done = run("treat", source, "--moves", sheet, "-o", tmp_path / "out.wav")
    assert (done.returncode, done.stderr) == (0, "")


def test_help_names_every_command_of_the_installed_program() -> None:
    program = Path(sys.executable).with_name("mivlo")
    text = subprocess.run([program, "--help"], capture_output=True, text=True, timeout=120).stdout
    assert all(name in text for name in ("treat", "find", "doctor", "serve", "worker", "demo", "start"))


def test_doctor_says_what_is_wrong_and_what_to_do(
    run: Callable[..., Done], database_url: str, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setenv("MIVLO_PAGE_DIR", str(tmp_path))
    monkeypatch.setattr(queue, "DEAD_AFTER_S", -1.0)  # whatever worker runs counts as dead
    done = run("doctor")
    assert done.returncode == 1
    assert "ok   database" in done.stdout
    assert "BAD  worker: none runs" in done.stdout
    assert "Run `mivlo worker`" in done.stdout
    assert "BAD  page: not built. Run `make setup`." in done.stdout
    # in a process of its own: this one keeps its connection to the database
    elsewhere = {**os.environ, "MIVLO_DATABASE_URL": "postgresql+psycopg://nobody@127.0.0.1:1/none"}
    program = Path(sys.executable).with_name("mivlo")
    told = subprocess.run([program, "doctor"], capture_output=True, text=True, timeout=120, env=elsewhere)
    assert told.returncode == 1
    assert "BAD  database: not reachable. Run `make start`" in told.stdout
