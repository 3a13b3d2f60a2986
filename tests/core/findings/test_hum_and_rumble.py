"""Hum and rumble. Mains runs at 50 or 60 Hz with its multiples (IEC 60038, standard frequencies; from memory)."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from mivlo.core.findings.frames import View, look
from mivlo.core.findings.hum import find_hum
from mivlo.core.findings.rumble import Rumble, find_rumble
from mivlo.core.units import Floats
from tests.core.findings.sounds import RATE, melody, seconds


def _view(x: Floats) -> View:
    return look(x[:, None], 0, len(x), sample_rate=RATE, progress=lambda share: None)


def _rumble_of(x: Floats) -> Rumble | None:
    return find_rumble(_view(x))


def _hum_of(x: Floats) -> tuple[float, tuple[float, ...]] | None:
    found = find_hum(_view(x))
    return found and (found.mains_hz, tuple(f for f, _ in found.lines))


@pytest.mark.parametrize("mains", [50.0, 60.0])
def test_mains_and_its_multiples_are_named(mains: float) -> None:
    t = seconds(10.0)
    hum = sum(a * np.sin(2 * np.pi * k * mains * t) for k, a in ((1, 0.004), (2, 0.006), (3, 0.003), (5, 0.002)))
    found = _hum_of(melody() + hum)
    assert found is not None
    assert found[0] == mains
    assert set(found[1]) >= {mains, 2 * mains}


def test_a_bass_that_plays_g1_is_no_hum() -> None:
    """G1 is 49 Hz, a third of a semitone off mains; notes stop, mains does not."""
    t = seconds(10.0)
    gate = (np.floor(t / 0.5) % 2 == 0).astype(float)
    tone = sum(np.sin(2 * np.pi * 49.0 * k * t) / k for k in range(1, 6))
    assert _hum_of(0.2 * tone * signal.lfilter([0.002], [1, -0.998], gate) + 1e-4 * melody(seed=3)) is None


def test_music_alone_has_no_hum() -> None:
    assert _hum_of(melody()) is None


def _traffic(n: int, rate: float, seed: int = 5) -> Floats:
    """Noise from 22 to 55 Hz, RMS 1."""
    band = signal.butter(2, (22, 55), "bandpass", fs=rate, output="sos")
    noise = signal.sosfilt(band, np.random.default_rng(seed).standard_normal(n))
    return np.asarray(noise / np.std(noise))


def _strokes(low_hz: float) -> Floats:
    """10 s of a kick that falls to a pitch."""
    t = seconds(0.5)
    stroke = np.sin(2 * np.pi * (low_hz * t + 1.5 * (1 - np.exp(-t / 0.03)))) * np.exp(-t / 0.12)
    x = np.zeros(10 * RATE)
    for a in np.arange(0, 9.4, 0.5):
        x[int(a * RATE) : int(a * RATE) + len(t)] += stroke * 0.5
    return x


@settings(max_examples=10)
@given(st.floats(-32.0, -6.0), st.integers(0, 1_000))
def test_rumble_below_a_melody_is_found_however_loud_and_cut_under_what_is_played(level_db: float, seed: int) -> None:
    x = melody()
    found = _rumble_of(x + _traffic(len(x), RATE, seed) * np.std(x) * 10.0 ** (level_db / 20.0))
    assert found is not None
    assert 20 < found.frequency_hz < 62
    assert found.cut_hz <= 80
    assert found.cut_hz < found.plays_from_hz
    assert found.confidence > 0.6


@pytest.mark.parametrize("rate", [22_050, 44_100, 96_000])
def test_rumble_is_the_same_at_any_sample_rate(rate: int) -> None:
    x = melody()
    whole = x + _traffic(len(x), RATE) * 0.02
    other = signal.resample_poly(whole, rate // 150, RATE // 150)
    here = _rumble_of(whole)
    there = find_rumble(look(other[:, None], 0, len(other), sample_rate=rate, progress=lambda share: None))
    assert here is not None
    assert there is not None
    assert there.confidence == pytest.approx(here.confidence, abs=0.05)
    assert there.plays_from_hz == pytest.approx(here.plays_from_hz, rel=0.05)


def test_rumble_that_comes_for_a_third_of_the_time_is_found() -> None:
    x = np.concatenate([melody(seed=k) for k in range(3)])
    passing = np.zeros(len(x))
    passing[: len(x) // 3] = 1.0
    found = _rumble_of(x + _traffic(len(x), RATE) * passing * 0.02)
    assert found is not None
    assert found.confidence > 0.6


def test_a_bass_keeps_its_lowest_string() -> None:
    """E1 of a four-string bass is 41.2 Hz (equal temperament, A4 = 440 Hz)."""
    t = seconds(10.0)
    notes = 41.2 * 2.0 ** (np.floor(t / 0.5) % 5 / 12.0)
    envelope = np.exp(-(t % 0.5) / 0.3)
    phase = 2 * np.pi * np.cumsum(notes) / RATE
    x = envelope * sum(np.sin(k * phase) / k for k in range(1, 8)) * 0.2
    found = _rumble_of(x + _traffic(len(x), RATE) * 0.02)
    assert found is None or found.cut_hz < 35.0


def test_a_held_tone_is_no_rumble() -> None:
    """C1 of an organ pedal, 32.7 Hz."""
    t = seconds(10.0)
    assert _rumble_of(melody(seed=2) + 0.02 * np.sin(2 * np.pi * 32.7 * t)) is None


def test_nothing_but_rumble_is_looked_at() -> None:
    x = _traffic(10 * RATE, RATE) * 0.1
    found = _rumble_of(x)
    assert found is None or found.cut_hz <= 80


def test_too_short_a_sound_has_no_rumble() -> None:
    x = melody()[: 2 * RATE]
    assert _rumble_of(x + _traffic(len(x), RATE) * 0.02) is None


@pytest.mark.parametrize("seed", range(6))
def test_a_melody_alone_has_no_rumble(seed: int) -> None:
    assert _rumble_of(melody(seed=seed)) is None


@pytest.mark.parametrize("seed", range(6))
def test_plain_noise_has_no_rumble(seed: int) -> None:
    assert _rumble_of(np.random.default_rng(seed).standard_normal(10 * RATE) * 0.1) is None


@settings(max_examples=10)
@given(st.floats(38.0, 70.0))
def test_a_kick_keeps_its_low_end(low_hz: float) -> None:
    found = _rumble_of(_strokes(low_hz))
    assert found is None or found.confidence < 0.45
