"""Instruments that nobody built, which networks learn from, and those played from recordings, which they are judged by."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile
from bench.findings import recorded
from bench.findings.made import SECONDS, made_up
from bench.findings.sources import RATE
from bench.findings.variants import varied

from mivlo.core.units import Floats
from tests.core.findings.sounds import melody


@pytest.mark.parametrize("number", range(4))
def test_a_made_up_instrument_is_always_the_same_and_heard(number: int) -> None:
    x = made_up(np.random.default_rng(number))
    assert len(x) == round(SECONDS * RATE)
    assert np.max(np.abs(x)) == pytest.approx(0.5)
    assert np.array_equal(x, made_up(np.random.default_rng(number)))
    parts = np.array_split(x, 9)
    assert np.median([np.std(part) for part in parts]) > 0.001, "something sounds in most seconds"


def test_no_two_of_them_sound_alike() -> None:
    spectra = [np.abs(np.fft.rfft(made_up(np.random.default_rng(n)), 1 << 15)) for n in range(5)]
    together = np.corrcoef(np.log(np.stack(spectra) + 1e-9))
    assert np.max(together - np.eye(5)) < 0.97


@pytest.mark.parametrize("number", range(6))
def test_another_instrument_from_one_that_is_there_is_as_long_and_heard(number: int) -> None:
    clean = melody()

    def another() -> Floats:
        return clean[::-1].copy()

    x = varied(clean, np.random.default_rng(number), another)
    assert np.isfinite(x).all()
    assert len(x) <= len(clean)
    assert len(x) > 0.5 * len(clean)
    assert np.max(np.abs(x)) == pytest.approx(0.5)


def test_a_recorded_instrument_plays_its_notes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    notes = {}
    for note in (57, 60):
        hz = 440.0 * 2.0 ** ((note - 69) / 12.0)
        notes[note] = tmp_path / f"{note}.wav"
        soundfile.write(notes[note], 0.3 * np.sin(2 * np.pi * hz * np.arange(RATE) / RATE), RATE)
    monkeypatch.setattr(recorded, "NPM", tmp_path)
    monkeypatch.setattr(recorded, "_notes", lambda package: notes)
    (play,) = (p for name, _, _, p in recorded.recorded() if name == "recorded violin")
    x = play(np.random.default_rng(1))
    assert len(x) == 13 * RATE
    level = np.abs(np.fft.rfft(x))
    hz = np.arange(len(level)) * RATE / len(x)
    loudest = 69.0 + 12.0 * np.log2(hz[int(np.argmax(level))] / 440.0)
    assert 54.8 <= loudest <= 62.2, "within a tone of what was recorded"
