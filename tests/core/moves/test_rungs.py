"""Rungs: one smooth filter, whatever their gains, and the same by every way that it is made."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from mivlo.core.errors import InvalidValue
from mivlo.core.moves import RungsMove, auditory_bands, treatment_sections
from mivlo.core.phase import analogue_taps, linear_taps
from mivlo.core.processors import StaticProcessor, Step
from mivlo.core.units import Floats

RATE = 48_000
heard_hz: Floats = np.geomspace(20.0, 20_000.0, 3_000)
COUNTS = st.sampled_from([26, 33, 40])


def _curve(move: RungsMove, at_hz: Floats) -> Floats:
    """By scipy, in dB."""
    sections = np.concatenate([treatment_sections([move], sample_rate=RATE), [[1.0, 0.0, 0.0, 1.0, 0.0, 0.0]]])
    h = signal.freqz_sos(sections, at_hz, fs=RATE)[1]
    return np.asarray(20.0 * np.log10(np.abs(h)))


@settings(max_examples=25)
@given(COUNTS, st.floats(-24.0, 24.0))
def test_equal_gains_are_a_level_without_ripple(count: int, gain: float) -> None:
    assert np.max(np.abs(_curve(RungsMove(count, (gain,) * count), heard_hz) - gain)) < 0.1


@settings(max_examples=25)
@given(COUNTS, st.floats(-12.0, 12.0), st.data())
def test_nearly_equal_gains_ripple_as_little(count: int, gain: float, data: st.DataObject) -> None:
    near = data.draw(st.lists(st.floats(gain - 0.02, gain + 0.02), min_size=count, max_size=count))
    assert np.max(np.abs(_curve(RungsMove(count, tuple(near)), heard_hz) - gain)) < 0.1


@settings(max_examples=40)
@given(COUNTS, st.data())
def test_each_gain_is_met_in_its_band(count: int, data: st.DataObject) -> None:
    gains = data.draw(st.lists(st.floats(-6.0, 6.0), min_size=count, max_size=count))
    centres = np.array([band.centre_hz for band in auditory_bands(count)])
    assert np.max(np.abs(_curve(RungsMove(count, tuple(gains)), centres) - gains)) < 0.5


def test_the_smallest_number_is_no_gain() -> None:
    assert RungsMove(26, (5e-324, *(0.0,) * 25)).made_of == (0.0, ())
    assert np.max(np.abs(_curve(RungsMove(26, (1e-300, -6.0, *(1e-9,) * 24)), heard_hz))) < 6.5


def test_one_rung_is_heard_in_its_band_and_little_beyond_its_neighbours() -> None:
    gains = [0.0] * 30
    gains[12] = -9.0
    bands = auditory_bands(30)
    curve = _curve(RungsMove(30, tuple(gains)), heard_hz)
    inside = (heard_hz > bands[11].centre_hz) & (heard_hz < bands[13].centre_hz)
    assert curve[inside].min() == pytest.approx(-9.0, abs=0.1)
    far = (heard_hz < bands[9].from_hz) | (heard_hz > bands[15].to_hz)
    assert np.max(np.abs(curve[far])) < 0.35


def test_bands_are_even_on_the_scale_of_the_ear() -> None:
    bands = auditory_bands(40)
    assert (bands[0].from_hz, bands[-1].to_hz) == (pytest.approx(20.0), pytest.approx(20_000.0))
    # Glasberg & Moore 1990: number = 21.4 log10(4.37 F + 1), F in kHz
    numbers = [21.4 * np.log10(4.37e-3 * hz + 1.0) for band in bands for hz in (band.from_hz, band.to_hz)]
    assert np.ptp(np.diff(numbers)[::2]) < 1e-9


@pytest.mark.parametrize(("count", "gains"), [(25, 25), (41, 41), (30, 29), (30, 31), (30.5, 30), (0, 0), (26, 0)])
def test_what_can_not_be_is_refused(count: float, gains: int) -> None:
    with pytest.raises(InvalidValue):
        RungsMove(count, (0.0,) * gains)  # type: ignore[arg-type]
    with pytest.raises(InvalidValue):
        RungsMove(26, (*(0.0,) * 25, 24.5))


_UNEVEN = RungsMove(30, tuple(float(g) for g in np.random.default_rng(4).uniform(-6.0, 6.0, 30)))


def test_linear_and_analogue_phase_have_the_same_curve() -> None:
    at = np.geomspace(20.0, 18_000.0, 400)
    taps = linear_taps((_UNEVEN,), float(RATE))
    linear = 20.0 * np.log10(np.abs(signal.freqz(taps, worN=at, fs=RATE)[1]))
    assert np.max(np.abs(linear - _curve(_UNEVEN, at))) < 0.1
    turned = 20.0 * np.log10(np.abs(signal.freqz(analogue_taps((_UNEVEN,), float(RATE)), worN=at, fs=RATE)[1]))
    assert np.max(np.abs(turned)) < 0.2


@settings(max_examples=20)
@given(st.lists(st.integers(1, 3_000), min_size=1, max_size=10), st.integers(0, 5_000))
def test_blocks_of_any_size_give_the_same_while_rungs_move(sizes: list[int], change: int) -> None:
    x = np.random.default_rng(1).standard_normal((sum(sizes), 2))
    other = RungsMove(30, tuple(-g for g in _UNEVEN.gains_db))

    def through(cuts: list[int]) -> Floats:
        processor, parts, at = StaticProcessor(RATE, 2, [Step(1, _UNEVEN)]), [], 0
        for stop in sorted({*cuts, min(change, len(x)), len(x)}):
            if at == min(change, len(x)):
                processor.aim([Step(1, other)])
            parts.append(processor.process(x[at:stop]))
            at = stop
        return np.concatenate(parts)

    assert np.max(np.abs(through(list(np.cumsum(sizes))) - through([]))) < 1e-9


def test_a_moved_rung_glides() -> None:
    t = np.arange(RATE) / RATE
    tone = np.sin(2 * np.pi * 1_000.0 * t)[:, None]
    processor = StaticProcessor(RATE, 1, [Step(1, RungsMove(26, (0.0,) * 26))])
    before = processor.process(tone[:24_000])
    processor.aim([Step(1, RungsMove(26, (-12.0,) * 26))])
    after = np.concatenate([before, processor.process(tone[24_000:])])[:, 0]
    # a jump would have energy far above the tone; what is left there is that of the tone's own ends
    high = signal.sosfilt(signal.butter(6, 6_000, "highpass", fs=RATE, output="sos"), after)
    assert np.max(np.abs(high[20_000:40_000])) < 1e-4
    assert np.max(np.abs(after[36_000:])) == pytest.approx(10 ** (-12 / 20), rel=1e-3)
