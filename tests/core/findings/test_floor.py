"""Hum and rumble. Mains runs at 50 or 60 Hz with its multiples (IEC 60038, standard frequencies; from memory)."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import signal

from mivlo.core.findings.floor import Rumble, find_hum, find_rumble
from mivlo.core.findings.frames import View, look
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


def test_rumble_below_a_melody_is_found_and_cut_under_it() -> None:
    x = melody()
    band = signal.butter(2, (22, 55), "bandpass", fs=RATE, output="sos")
    rumble = signal.sosfilt(band, np.random.default_rng(5).standard_normal(len(x))) * 0.02
    found = _rumble_of(x + rumble)
    assert found is not None
    assert 20 < found.frequency_hz < 62
    assert found.cut_hz <= 80
    assert found.cut_hz < found.plays_from_hz


def test_a_melody_alone_has_no_rumble() -> None:
    x = melody()
    assert _rumble_of(x) is None


def test_a_kick_keeps_its_low_end() -> None:
    t = seconds(0.5)
    stroke = np.sin(2 * np.pi * (52 * t + 1.5 * (1 - np.exp(-t / 0.03)))) * np.exp(-t / 0.12)
    x = np.zeros(10 * RATE)
    for a in np.arange(0, 9.4, 0.5):
        x[int(a * RATE) : int(a * RATE) + len(t)] += stroke * 0.5
    assert _rumble_of(x) is None
