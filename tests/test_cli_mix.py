"""`mivlo clash`, `carve` and `floor` as others script them."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile

from mivlo.services.handover.sheets import read_sheet
from tests.conftest import Done
from tests.core.test_auditory import RATE
from tests.core.test_clashes import _band, _covered_pair

Run = Callable[..., Done]


@pytest.fixture
def pair(tmp_path: Path) -> tuple[Path, Path]:
    """A voice that strings cover, at two rates."""
    voice, strings = _covered_pair()
    paths = tmp_path / "Voice take 2.wav", tmp_path / "Strings.wav"
    soundfile.write(paths[0], voice, RATE, subtype="PCM_24")
    soundfile.write(paths[1], np.stack([strings, strings], axis=1), RATE, subtype="PCM_16")
    return paths


def test_clash_says_who_covers_whom_and_which_carve_frees_it(run: Run, pair: tuple[Path, Path]) -> None:
    code, out, err = run("clash", *pair, "--json")
    assert (code, err) == (0, "")
    said = json.loads(out)
    assert [t["file"] for t in said["tracks"]] == ["Voice take 2.wav", "Strings.wav"]
    for track in said["tracks"]:
        assert track["kept"] == pytest.approx(track["loudness_in_mix"] / track["loudness_alone"], abs=2e-3)
    worst = next(c for c in said["clashes"] if c["covered"] == "Voice take 2.wav")
    assert worst["by"] == "Strings.wav"
    assert 300.0 < worst["from_hz"] < worst["to_hz"] < 5_500.0
    assert 0.05 < worst["lost"] < 1.0
    assert 0.3 < worst["share_of_time"] <= 1.0
    assert {c["id"] for c in said["clashes"]} == set(range(1, len(said["clashes"]) + 1))
    carve = worst["carve"]
    assert carve["on"] == "Strings.wav"
    assert carve["move"]["shape"] == "bell"
    if carve["key"] is not None:
        assert (carve["key"], carve["move"]["key"]["source"]) == ("Voice take 2.wav", "Voice take 2")


def test_what_carve_writes_can_be_made_again_from_its_sheet(run: Run, pair: tuple[Path, Path], tmp_path: Path) -> None:
    out = tmp_path / "carved"
    code, printed, _ = run("carve", *pair, "--keep", pair[0], "-o", out, "--json")
    said = json.loads(printed)
    assert code == 0
    assert said == json.loads((out / "carve.json").read_text())
    assert sorted(p.name for p in out.iterdir()) == ["Strings.json", "Strings.wav", "Voice take 2.wav", "carve.json"]
    assert (out / "Voice take 2.wav").read_bytes() == pair[0].read_bytes()
    assert said["gained"] > 0.8 * said["promised"] > 0.0
    voice, strings = said["tracks"]
    assert voice["kept"]["after"] - voice["kept"]["before"] == pytest.approx(said["gained"], abs=1e-3)
    assert voice["lufs"]["after"] == voice["lufs"]["before"]
    assert strings["lufs"]["after"] < strings["lufs"]["before"]
    assert all(abs(c["move"].get("range_db", c["move"].get("gain_db"))) <= 4.05 for c in said["carves"])
    sheet = read_sheet(out / "Strings.json")
    keys = [f"--key={name}={pair[0]}" for name in sheet.keys.values()]
    again = tmp_path / "again.wav"
    assert run("treat", pair[1], "--moves", out / "Strings.json", "-o", again, *keys).returncode == 0
    assert again.read_bytes() == (out / "Strings.wav").read_bytes()


def test_carve_keeps_to_the_deepest_cut_that_is_allowed(run: Run, pair: tuple[Path, Path], tmp_path: Path) -> None:
    code, printed, _ = run("carve", *pair, "--keep", pair[0], "-o", tmp_path / "o", "--max-cut", "1.5", "--json")
    assert code == 0
    for carve in json.loads(printed)["carves"]:
        assert abs(carve["move"].get("range_db", carve["move"].get("gain_db"))) <= 1.55


def test_floor_says_what_each_track_carries_down_there(run: Run, tmp_path: Path) -> None:
    names = ["bass.wav", "guitar.wav", "shaker.wav"]
    for name, x in zip(names, _band()[1], strict=True):
        soundfile.write(tmp_path / name, x, RATE, subtype="FLOAT")
    code, out, _ = run("floor", *(tmp_path / n for n in names), "--json")
    said = json.loads(out)
    assert code == 0
    assert [t["file"] for t in said["tracks"]] == names
    assert sum(t["share"] for t in said["tracks"]) == pytest.approx(1.0, abs=1e-3)
    assert said["tracks"][0]["left_alone"] == "it lives in the low end"
    assert said["tracks"][1]["corner_in_mix_hz"] > 60.0
    assert said["sum_db"]["after"] <= said["sum_db"]["before"]


def test_a_person_reads_tables(run: Run, pair: tuple[Path, Path], tmp_path: Path) -> None:
    assert "Voice take 2.wav < Strings.wav" in run("clash", *pair).stdout
    assert "Strings.wav: " in run("carve", *pair, "--keep", pair[0].name, "-o", tmp_path / "o").stdout
    assert "sum of the lows" in run("floor", *pair).stdout


def test_tracks_of_other_rates_and_lengths_are_compared(run: Run, tmp_path: Path) -> None:
    voice, strings = _covered_pair()
    soundfile.write(tmp_path / "a.wav", voice[: 4 * RATE], RATE)
    soundfile.write(tmp_path / "b.flac", strings[::2], RATE // 2)  # half the rate: an octave lower, as long
    code, out, _ = run(
        "carve", tmp_path / "a.wav", tmp_path / "b.flac", "--keep", tmp_path / "a.wav", "-o", tmp_path / "o", "--json"
    )
    assert code == 0
    assert soundfile.info(tmp_path / "o" / "b.flac").frames == len(strings[::2])
    assert soundfile.info(tmp_path / "o" / "b.flac").samplerate == RATE // 2
    assert json.loads(out)["tracks"][1]["file"] == "b.flac"


def test_what_can_only_be_read_is_written_as_wav(run: Run, pair: tuple[Path, Path], tmp_path: Path) -> None:
    strings, rate = soundfile.read(pair[1])
    soundfile.write(tmp_path / "Strings.mp3", strings, rate, format="MP3")
    code, out, _ = run("carve", pair[0], tmp_path / "Strings.mp3", "--keep", pair[0], "-o", tmp_path / "o", "--json")
    assert code == 0
    assert [t["written"] for t in json.loads(out)["tracks"]] == [pair[0].name, "Strings.wav"]
    assert soundfile.info(tmp_path / "o" / "Strings.wav").format == "WAV"


def test_highs_count_whatever_the_first_file_has(run: Run, tmp_path: Path) -> None:
    """Two orders of the same two files, one of 8 kHz: the same figures."""
    bright = np.random.default_rng(0).standard_normal(2 * RATE) * 0.05
    soundfile.write(tmp_path / "bright.wav", bright, RATE)
    soundfile.write(tmp_path / "dull.wav", bright[:16_000], 8_000)
    paths = [tmp_path / "bright.wav", tmp_path / "dull.wav"]
    said = [json.loads(run("clash", *some, "--json").stdout)["tracks"] for some in (paths, paths[::-1])]
    assert said[0] == said[1][::-1]


def test_what_is_wrong_is_said_in_a_sentence(run: Run, pair: tuple[Path, Path], tmp_path: Path) -> None:
    voice, strings = pair
    twin = tmp_path / "other" / strings.name
    twin.parent.mkdir()
    twin.write_bytes(strings.read_bytes())
    out = tmp_path / "out"
    for words, says in (
        (("clash", voice), "Give at least two tracks"),
        (("clash", voice, tmp_path / "none.wav"), "There is no file"),
        (("clash", strings, twin), "Two files are called Strings"),
        (("carve", voice, strings, "--keep", "Nobody.wav", "-o", out), "Nobody.wav is not among the tracks"),
        (("carve", voice, strings, "--keep", voice, "-o", tmp_path), "The output would replace the input"),
        (("carve", voice, strings, "--keep", voice, "-o", voice), "is a file"),
    ):
        code, _, err = run(*words)
        assert code == 1, words
        assert says in err
        assert err.count("\n") == 1
    assert not out.exists()
