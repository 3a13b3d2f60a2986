"""Rungs, balance, re-tuning and watching as others script them."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
import soundfile
from scipy import signal

from mivlo.audio.marks import read_marks
from mivlo.core.fitting import moves_db
from mivlo.core.graph import treat
from mivlo.core.moves import Move, Shape, StaticMove, treatment_sections
from mivlo.core.units import Floats, cents_between, octaves_to_q
from mivlo.services.handover.watching import REST_S, Watch
from tests.audio.test_marks import MARKS, marked
from tests.conftest import Done
from tests.patience import until

RATE = 48_000
HALF = {"format": "mivlo-sheet", "version": 1, "moves": [{"shape": "bell", "frequency_hz": 900, "q": 2, "gain_db": -9}]}
Run = Callable[..., Done]


# --- rungs ------------------------------------------------------------------------------------------


def test_rungs_say_where_a_tone_is(run: Run, tmp_path: Path, write_wav) -> None:  # type: ignore[no-untyped-def]
    tone = 0.5 * np.sin(2 * np.pi * 1_000.0 * np.arange(3 * RATE) / RATE)[:, None]
    done = run("rungs", write_wav(tone), "--count", 30, "--json")
    assert (done.returncode, done.stderr) == (0, "")
    rungs = json.loads(done.stdout)["rungs"]
    assert len(rungs) == 30
    assert [a["to_hz"] for a in rungs[:-1]] == [b["from_hz"] for b in rungs[1:]]
    loudest = max(rungs, key=lambda r: r["level_db"])
    assert loudest["from_hz"] < 1_000.0 < loudest["to_hz"]
    assert loudest["level_db"] == pytest.approx(-6.02, abs=0.05)  # a sine of full scale has 0 dB (AES17)
    assert loudest["share"] == pytest.approx(1.0, abs=1e-3)
    assert sum(r["share"] for r in rungs) == pytest.approx(1.0, abs=1e-4)


# --- balance ----------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def tilted(marimba_wav: Path, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Floats, Floats]:
    """A sampled instrument with a tilt of 1 dB an octave and two bells; and what was done to it, in dB."""
    x, rate = soundfile.read(marimba_wav, always_2d=True)
    bells = [StaticMove(Shape.BELL, 350.0, q=1.5, gain_db=5.0), StaticMove(Shape.BELL, 2_500.0, q=1.0, gain_db=-5.0)]

    def done_db(hz: Floats) -> Floats:
        return np.log2(hz / 1_000.0) + moves_db(bells, hz)

    spectrum = np.fft.rfft(x, axis=0)
    gain = 10.0 ** (done_db(np.maximum(np.fft.rfftfreq(len(x), 1 / rate), 10.0)) / 20.0)
    path = tmp_path_factory.mktemp("tilted") / "tilted.wav"
    soundfile.write(path, 0.3 * np.fft.irfft(spectrum * gain[:, None], len(x), axis=0), rate, subtype="FLOAT")
    at = np.geomspace(60.0, 12_000.0, 300)
    return path, at, done_db(at)


def _moves(sheet: Path) -> list[StaticMove]:
    found = json.loads(sheet.read_text())["moves"]
    return [StaticMove(Shape(m["shape"]), m["frequency_hz"], q=m["q"], gain_db=m["gain_db"]) for m in found]


def test_balance_undoes_a_known_tilt_and_two_known_bells(
    run: Run, tmp_path: Path, tilted: tuple[Path, Floats, Floats], marimba_wav: Path
) -> None:
    path, at, done_db = tilted
    out = tmp_path / "out.json"
    done = run("balance", path, "--towards", marimba_wav, "-o", out, "--json")
    assert (done.returncode, done.stderr) == (0, "")
    document = json.loads(done.stdout)
    left = done_db + moves_db(_moves(out), at)
    assert np.sqrt(np.mean((left - np.mean(left)) ** 2)) < 0.5
    assert document["before_db"] > 2.0
    assert document["after_db"] < 0.3
    assert document["moves"] == json.loads(out.read_text())["moves"]
    # half of it leaves half of it
    half = json.loads(run("balance", path, "--towards", marimba_wav, "--strength", 50, "-o", out, "--json").stdout)
    assert half["after_db"] == pytest.approx(0.5 * half["before_db"], rel=0.1)


def test_balance_by_cuts_alone_turns_nothing_up_and_stays_within_its_count(
    run: Run, tmp_path: Path, tilted: tuple[Path, Floats, Floats], marimba_wav: Path
) -> None:
    out = tmp_path / "out.json"
    done = run("balance", tilted[0], "--towards", marimba_wav, "--only-cuts", "--most", 3, "-o", out)
    assert done.returncode == 0
    assert 1 <= len(_moves(out)) <= 3
    assert all(m.gain_db < 0.0 for m in _moves(out))


def test_balance_towards_itself_is_no_move(run: Run, tmp_path: Path, marimba_wav: Path) -> None:
    out = tmp_path / "out.json"
    assert json.loads(run("balance", marimba_wav, "--towards", marimba_wav, "-o", out, "--json").stdout)["moves"] == []


def test_what_can_not_be_balanced_is_one_sentence(
    refused: Callable[..., str],
    tmp_path: Path,
    write_wav,
    marimba_wav: Path,  # type: ignore[no-untyped-def]
) -> None:
    silent, out = write_wav(np.zeros((RATE, 1))), tmp_path / "out.json"
    assert "nothing to be heard" in refused("balance", silent, "--towards", marimba_wav, "-o", out)
    assert "ends in .json" in refused("balance", marimba_wav, "--towards", marimba_wav, "-o", tmp_path / "out.wav")
    assert "no folder" in refused("balance", marimba_wav, "--towards", marimba_wav, "-o", tmp_path / "none" / "o.json")
    assert "no file" in refused("rungs", tmp_path / "none.wav")
    assert not out.exists()


# --- re-tuning --------------------------------------------------------------------------------------


def _ringing(path: Path, x: Floats, *bells: tuple[float, float]) -> Path:
    moves: list[Move] = [StaticMove(Shape.BELL, hz, q=octaves_to_q(0.1), gain_db=gain) for hz, gain in bells]
    soundfile.write(path, treat(x, moves, sample_rate=RATE), RATE, subtype="FLOAT")
    return path


@pytest.fixture
def takes(tmp_path: Path) -> tuple[Path, Path]:
    """Two takes of noise: a ring at 500 Hz lies at 550 in the other and is 10 dB high in place of 14; one is gone."""
    first, second = (np.random.default_rng(n).standard_normal((5 * RATE, 1)) * 0.02 for n in (1, 2))
    return (
        _ringing(tmp_path / "one.wav", first, (500.0, 14.0), (3_000.0, 14.0)),
        _ringing(tmp_path / "two.wav", second, (550.0, 10.0)),
    )


def test_moves_go_where_their_rings_are_in_another_take(run: Run, tmp_path: Path, takes: tuple[Path, Path]) -> None:
    bell = {"shape": "bell", "q": octaves_to_q(0.1), "gain_db": -8.0}
    moves = [
        {"id": "low", **bell, "frequency_hz": 500.0, "note": "the ring"}, {"id": "high", **bell, "frequency_hz": 3_000.0},
        {"id": "floor", "shape": "low_cut", "frequency_hz": 60.0},
        {"id": "air", "shape": "high_shelf", "frequency_hz": 9_000.0, "gain_db": 2.0},
    ]  # fmt: skip
    sheet, out = tmp_path / "sheet.json", tmp_path / "out.json"
    sheet.write_text(json.dumps({"format": "mivlo-sheet", "version": 2, "phase": "linear", "moves": moves}))
    done = run("retune", sheet, "--to", takes[1], "--from", takes[0], "-o", out, "--json")
    assert (done.returncode, done.stderr) == (0, "")
    low, high, floor, air = json.loads(done.stdout)["moves"]
    assert (low["id"], low["from_hz"], low["left_out"]) == ("low", 500.0, None)
    assert abs(cents_between(550.0, low["to_hz"])) < 25.0
    assert low["gain_db"] == pytest.approx(-8.0 * 10.0 / 14.0, abs=2.0)  # what stands out is known to a few dB
    assert (high["id"], high["to_hz"], high["gain_db"]) == ("high", None, None)
    assert "within a third octave" in high["left_out"]
    assert (floor["to_hz"], floor["left_out"], air["gain_db"]) == (60.0, None, 2.0)
    written = json.loads(out.read_text())
    assert [m["id"] for m in written["moves"]] == ["low", "floor", "air"]
    assert (written["phase"], written["moves"][0]["note"]) == ("linear", "the ring")
    # it can be given to treat
    assert run("treat", takes[1], "--moves", out, "-o", tmp_path / "treated.wav").returncode == 0


def test_without_the_first_take_a_cut_is_as_deep_as_what_stands_out(
    run: Run, tmp_path: Path, takes: tuple[Path, Path]
) -> None:
    sheet, out = tmp_path / "sheet.json", tmp_path / "out.json"
    move = {"shape": "bell", "frequency_hz": 500.0, "q": octaves_to_q(0.1), "gain_db": -3.0}
    sheet.write_text(json.dumps({"format": "mivlo-sheet", "version": 1, "moves": [move]}))
    (made,) = json.loads(run("retune", sheet, "--to", takes[1], "-o", out, "--json").stdout)["moves"]
    assert made["id"] == 1
    assert made["gain_db"] == pytest.approx(-10.0, abs=2.5)


def test_what_can_not_be_retuned_is_one_sentence(
    refused: Callable[..., str], tmp_path: Path, takes: tuple[Path, Path]
) -> None:
    sheet, out = tmp_path / "sheet.json", tmp_path / "out.json"
    sheet.write_text("{}")
    assert "Could not use sheet.json" in refused("retune", sheet, "--to", takes[0], "-o", out)
    sheet.write_text(json.dumps(HALF))
    assert "not a sound file" in refused("retune", sheet, "--to", sheet, "-o", out)
    assert not out.exists()


# --- a watched folder -------------------------------------------------------------------------------


@pytest.fixture
def stems(tmp_path: Path) -> Path:
    """A folder with three stems, one with a sheet of its own that listens to another."""
    folder = tmp_path / "in"
    folder.mkdir()
    for seed, name in enumerate(("Cajon", "Bass", "Voice")):
        x = np.random.default_rng(seed).standard_normal((RATE // 2, 1)) * 0.1
        soundfile.write(folder / f"{name}.wav", x, RATE, subtype="FLOAT")
    keyed = {"mode": "dynamic", "shape": "bell", "frequency_hz": 200, "q": 1, "threshold_db": -40, "range_db": -6}
    sheet = {"format": "mivlo-sheet", "version": 2, "moves": [{**keyed, "key": {"source": "Cajon"}}]}
    (folder / "Bass.json").write_text(json.dumps(sheet))
    (tmp_path / "all.json").write_text(json.dumps(HALF))
    _old(folder)
    return folder


def _old(folder: Path) -> None:
    """As if nothing there was changed just now."""
    for path in folder.iterdir():
        before = time.time() - 60.0
        os.utime(path, (before, before))


def test_every_stem_is_treated_with_its_sheet_or_that_for_all(run: Run, tmp_path: Path, stems: Path) -> None:
    out = tmp_path / "out"
    done = run("watch", stems, "-o", out, "--sheet", tmp_path / "all.json", "--once")
    assert done.returncode == 0, done.stderr
    assert sorted(p.name for p in out.iterdir() if not p.name.startswith(".")) == ["Bass.wav", "Cajon.wav", "Voice.wav"]
    alone = tmp_path / "alone.wav"
    bass = stems / "Bass.wav"
    assert (
        run(
            "treat", bass, "--moves", stems / "Bass.json", "--key", f"Cajon={stems / 'Cajon.wav'}", "-o", alone
        ).returncode
        == 0
    )
    assert (out / "Bass.wav").read_bytes() == alone.read_bytes()
    assert run("treat", stems / "Voice.wav", "--moves", tmp_path / "all.json", "-o", alone).returncode == 0
    assert (out / "Voice.wav").read_bytes() == alone.read_bytes()


def test_nothing_is_done_twice_and_what_changed_is_done_again(tmp_path: Path, stems: Path) -> None:
    said: list[str] = []
    out = tmp_path / "out"

    def once() -> list[str]:
        said.clear()
        watch = Watch(stems, out, tmp_path / "all.json", said.append)
        watch.prepare()
        assert watch.run(once=True)
        return sorted(said)

    assert once() == ["Bass.wav was written.", "Cajon.wav was written.", "Voice.wav was written."]
    assert once() == []
    (out / "Voice.wav").unlink()
    assert once() == ["Voice.wav was written."]
    (tmp_path / "all.json").write_text(json.dumps({**HALF, "moves": []}))
    _old(tmp_path)
    assert once() == ["Cajon.wav was written.", "Voice.wav was written."]
    soundfile.write(stems / "Cajon.wav", np.zeros((1_000, 1)), RATE, subtype="FLOAT")
    _old(stems)
    assert "Bass.wav was written." in once()  # it listens to it


@pytest.fixture
def watching(tmp_path: Path, stems: Path) -> Iterator[tuple[Path, list[str]]]:
    """A watch that runs until the test ends."""
    said: list[str] = []
    ended = threading.Event()
    watch = Watch(stems, tmp_path / "out", tmp_path / "all.json", said.append)
    watch.prepare()
    thread = threading.Thread(target=watch.run, kwargs={"ended": ended.is_set})
    thread.start()
    yield tmp_path / "out", said
    ended.set()
    thread.join(20)
    assert not thread.is_alive()


def test_a_stem_that_is_replaced_while_it_is_written_is_not_read_half(
    watching: tuple[Path, list[str]], stems: Path
) -> None:
    out, said = watching
    place = out / "Voice.wav"
    until(place.exists)
    longer = np.full((3 * RATE, 1), 0.25)
    soundfile.write(stems.parent / "new.wav", longer, RATE, subtype="FLOAT")
    content = (stems.parent / "new.wav").read_bytes()
    seen: set[int] = {soundfile.info(place).frames}
    with (stems / "Voice.wav").open("wb") as file:
        for at in range(0, len(content), len(content) // 12 + 1):
            file.write(content[at : at + len(content) // 12 + 1])
            file.flush()
            for _ in range(10):
                seen.add(soundfile.info(place).frames)
                time.sleep(0.02)
    until(lambda: soundfile.info(place).frames == 3 * RATE)
    assert seen == {RATE // 2}  # until all of it was there, and rested, the old one stood there whole
    assert not [text for text in said if "Could not" in text]
    assert not [p for p in out.iterdir() if p.suffix == ".part" or p.name.startswith(".wav")]


def test_a_stem_that_appears_is_treated_and_a_bad_one_is_said_once(
    watching: tuple[Path, list[str]], stems: Path, marimba_wav: Path
) -> None:
    out, said = watching
    (stems / "Notes.wav").write_bytes(b"no sound at all")
    (stems / "Marimba.wav").write_bytes(marimba_wav.read_bytes())
    until((out / "Marimba.wav").exists)
    until(lambda: any("Notes.wav" in text for text in said))
    time.sleep(2 * REST_S)
    assert sum("Notes.wav" in text for text in said) == 1
    assert not (out / "Notes.wav").exists()


def test_what_can_not_be_watched_is_refused_before_anything_is_written(
    refused: Callable[..., str], tmp_path: Path, stems: Path
) -> None:
    out = tmp_path / "out"
    everything = ("--sheet", tmp_path / "all.json", "--once")
    assert "no folder" in refused("watch", tmp_path / "none", "-o", out)
    assert "replace the input" in refused("watch", stems, "-o", stems, *everything)
    (stems / "Bass.json").write_text(json.dumps({**HALF, "moves": [{"shape": "bell"}]}))
    _old(stems)
    assert "Bass.json" in refused("watch", stems, "-o", out, *everything)
    (stems / "Bass.json").unlink()
    (stems / "Bad.wav").write_bytes(b"no sound")
    _old(stems)
    assert "Bad.wav" in refused("watch", stems, "-o", out, *everything)
    assert not out.exists()


def test_marks_are_kept_and_a_stem_without_a_sheet_is_left_out(run: Run, tmp_path: Path) -> None:
    folder, out = tmp_path / "in", tmp_path / "out"
    folder.mkdir()
    marked(folder / "Take.wav")
    (folder / "Take.json").write_text(json.dumps(HALF))
    marked(folder / "Other.wav")
    _old(folder)
    done = run("watch", folder, "-o", out, "--once")
    assert done.returncode == 0
    assert "Other.wav has no sheet Other.json" in done.stderr
    assert read_marks(out / "Take.wav") == MARKS
    assert not (out / "Other.wav").exists()


def test_a_watch_ends_when_it_is_interrupted(tmp_path: Path, stems: Path) -> None:
    command = [
        sys.executable,
        "-m",
        "mivlo.cli",
        "watch",
        stems,
        "-o",
        tmp_path / "out",
        "--sheet",
        tmp_path / "all.json",
    ]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    until((tmp_path / "out" / "Voice.wav").exists)
    process.send_signal(2)
    assert process.wait(20) == 0


def test_a_flat_fit_is_what_scipy_says_it_is() -> None:
    moves = [StaticMove(Shape.LOW_SHELF, 200.0, gain_db=4.0), StaticMove(Shape.BELL, 1_000.0, q=2.0, gain_db=-6.0)]
    at = np.geomspace(30.0, 15_000.0, 200)
    h = signal.freqz_sos(treatment_sections(moves, sample_rate=192_000), at, fs=192_000)[1]
    assert np.max(np.abs(20 * np.log10(np.abs(h)) - moves_db(moves, at))) < 0.05
