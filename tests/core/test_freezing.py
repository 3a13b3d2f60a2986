"""An adaptive move frozen into a few: what they take is compared with what it took, by rendering both."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from mivlo.core.freezing import MOST_STRETCHES, explained, freeze, through
from mivlo.core.moves import AdaptiveMove, Entry
from mivlo.core.units import Floats

RATE = 48_000


def _rings(seconds: float, places: tuple[tuple[float, float], ...], seed: int = 0) -> Floats:
    """Noise with narrow peaks of 12 dB (Hz, Q)."""
    x = np.random.default_rng(seed).standard_normal(round(seconds * RATE)) * 0.05
    for hz, q in places:
        b, a = signal.iirpeak(hz, q, fs=RATE)
        x = x + 3.0 * signal.lfilter(b, a, x)
    return np.asarray(x[:, None])


def test_steady_rings_become_cuts_that_always_act_at_their_places() -> None:
    x = _rings(4.0, ((700.0, 20.0), (2_500.0, 20.0)))
    frozen = freeze(x, Entry(move=AdaptiveMove(200.0, 12_000.0)), sample_rate=RATE)
    always = [e.move.frequency_hz for e in frozen.entries if not e.stretches]
    assert all(min(abs(np.log2(hz / place)) for hz in always) < 1 / 24 for place in (700.0, 2_500.0))
    assert frozen.share > 0.6


def test_a_tone_that_comes_and_goes_becomes_cuts_at_its_moments() -> None:
    x = 8.0 * _rings(4.0, ())  # so loud that a cut that always acts would take much of it
    t = np.arange(round(0.4 * RATE)) / RATE
    for at in (0.8, 2.3):
        x[round(at * RATE) : round(at * RATE) + len(t), 0] += 0.5 * np.sin(2 * np.pi * 1_500 * t) * np.hanning(len(t))
    frozen = freeze(x, Entry(move=AdaptiveMove(200.0, 12_000.0)), sample_rate=RATE, start_s=10.0)
    there = [e for e in frozen.entries if abs(np.log2(e.move.frequency_hz / 1_500.0)) < 1 / 24]
    assert frozen.share > 0.6
    assert any(e.stretches for e in there)
    for a, b in (span for e in there for span in e.stretches):  # counted from the song's start
        assert 9.9 < a < b < 14.1
    for at in (10.8, 12.3):  # the tone is taken both times
        assert any(a < at + 0.2 < b for e in there for a, b in e.stretches)
    assert all(len(e.stretches) <= MOST_STRETCHES for e in frozen.entries)


def test_the_share_is_what_rendering_both_gives() -> None:
    x = _rings(3.0, ((900.0, 15.0),), seed=3)
    entry = Entry(move=AdaptiveMove(300.0, 5_000.0, share=0.8), stretches=((0.5, 2.0),))
    frozen = freeze(x, entry, sample_rate=RATE)
    taken = x - through((entry,), x, sample_rate=RATE)
    mine = x - through(frozen.entries, x, sample_rate=RATE)
    assert frozen.share == pytest.approx(explained(taken, mine, sample_rate=RATE), abs=1e-6)
    for one in frozen.entries:  # it acts nowhere else
        assert one.stretches
        assert all(a >= 0.45 and b <= 2.05 for a, b in one.stretches)


@given(st.integers(0, 3_000), st.integers(1, 2), st.floats(0.0, 1.0), st.integers(0, 6))
@settings(max_examples=15)
def test_any_sound_however_short_is_frozen_or_refused(frames: int, channels: int, share: float, most: int) -> None:
    x = np.random.default_rng(frames).standard_normal((frames, channels)) * 0.1
    frozen = freeze(x, Entry(move=AdaptiveMove(200.0, 12_000.0, share=share)), sample_rate=RATE, most=most)
    assert len(frozen.entries) <= most
    assert 0.0 <= frozen.share <= 1.0


def test_taking_all_explains_all_and_taking_what_should_have_stayed_does_not() -> None:
    x = _rings(1.0, ())
    assert explained(x, x, sample_rate=RATE) == pytest.approx(1.0)
    assert explained(x, 2.0 * x, sample_rate=RATE) == pytest.approx(0.0, abs=1e-9)
    assert explained(x, 0.5 * x, sample_rate=RATE) == pytest.approx(0.75)
