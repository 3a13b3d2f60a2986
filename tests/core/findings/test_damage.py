"""The benchmark's own damage: a mode that is said to ring for so long does."""

from __future__ import annotations

import numpy as np
import pytest
from bench.findings.damage import apply, levels, mode_bell, shell
from bench.findings.sources import RATE
from hypothesis import given, settings
from hypothesis import strategies as st


@settings(max_examples=20)
@given(hz=st.floats(120.0, 700.0), ring_s=st.floats(0.05, 0.4), gain_db=st.floats(6.0, 16.0))
def test_a_mode_rings_as_long_as_it_says_and_stands_out_as_far(hz: float, ring_s: float, gain_db: float) -> None:
    impulse = np.zeros(2 * RATE)
    impulse[0] = 1.0
    rung = apply(impulse, (mode_bell(hz, ring_s, gain_db),))
    spectrum = np.abs(np.fft.rfft(rung))
    at = np.arange(len(spectrum)) * RATE / len(rung)
    assert 20.0 * np.log10(np.max(spectrum)) == pytest.approx(gain_db, abs=0.5)
    assert at[int(np.argmax(spectrum))] == pytest.approx(hz, abs=2.0)
    left = np.cumsum(rung[::-1][:-1] ** 2)[::-1]  # Schroeder, JASA 37, 1965: the decay by backward integration
    fall_db = 10.0 * np.log10(left / left[0] + 1e-30)
    first, last = (int(np.argmax(fall_db < db)) for db in (-5.0, -35.0))
    assert 2.0 * (last - first) / RATE == pytest.approx(ring_s, rel=0.15)


def test_what_a_shell_is_said_to_do_lifts_its_bands() -> None:
    noise = np.random.default_rng(1).standard_normal(3 * RATE) * 0.05
    heard = 0
    for seed in range(6):
        damaged, modes = shell(noise, np.random.default_rng(seed))
        lifted = levels(damaged) - levels(noise)
        heard += len(modes)
        assert all(1.0 <= mode.gain_db <= 16.0 for mode in modes)
        assert bool(modes) == bool(np.max(lifted) > 3.0)
    assert heard > 3
