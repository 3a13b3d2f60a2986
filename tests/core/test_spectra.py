"""Levels of bands, the grid, the time map."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.ndimage import gaussian_filter1d

from mivlo.core import spectra
from mivlo.core.errors import InvalidValue
from mivlo.core.units import Floats

RATE = 48_000


def _tone(hz: float, level_db: float, seconds: float = 6.0, rate: int = RATE) -> Floats:
    t = np.arange(int(seconds * rate)) / rate
    return (10 ** (level_db / 20) * np.sin(2 * np.pi * hz * t))[:, None]


def test_the_grid_is_that_of_iec_61260() -> None:
    # IEC 61260-1 with base two: exact centres 1000 * 2^(k/b)
    grid = spectra.log_grid(3)
    assert np.all(np.diff(np.log2(grid)) == pytest.approx(1 / 3))
    assert 1000.0 in grid
    assert 20.0 <= spectra.log_grid()[0] < 20.6
    assert 19_700 < spectra.log_grid()[-1] <= 20_000


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize("hz", [100.0, 1_000.0, 9_000.0])
def test_a_sine_reads_its_own_level(hz: float, rate: int) -> None:
    grid = np.array([hz])
    levels = spectra.long_term_levels(_tone(hz, -20.0, rate=rate), grid, sample_rate=rate, bands_per_octave=3)
    assert levels[0] == pytest.approx(-20.0, abs=0.1)


def test_white_noise_rises_by_3_db_an_octave() -> None:
    # a fact of fractional-octave bands: their width doubles with each octave
    x = np.random.default_rng(2).standard_normal((RATE * 30, 1)) * 0.1
    levels = spectra.long_term_levels(x, [500.0, 1_000.0, 4_000.0], sample_rate=RATE, bands_per_octave=3)
    assert np.diff(levels) == pytest.approx([3.01, 6.02], abs=0.35)


def test_all_bands_together_hold_all_the_power(noise: Floats) -> None:
    # Parseval: the sum over contiguous bands is the mean square
    grid = spectra.log_grid(12, 21.0, 23_000.0)
    levels = spectra.long_term_levels(noise, grid, sample_rate=RATE, bands_per_octave=12)
    total = 10 * np.log10(np.sum(10 ** (levels / 10)))
    wanted = 10 * np.log10(np.mean(noise**2)) + 10 * np.log10(2)
    assert total == pytest.approx(wanted, abs=0.25)


def test_a_stream_gives_the_same_as_the_whole(noise: Floats) -> None:
    streamed = spectra.LongTermSpectrum(RATE, 2)
    for start in range(0, len(noise), 1_000):
        streamed.add(noise[start : start + 1_000])
    whole = spectra.LongTermSpectrum(RATE, 2)
    whole.add(noise)
    assert np.allclose(streamed.power(), whole.power(), rtol=1e-5)


def test_what_is_shorter_than_a_window_still_has_a_spectrum() -> None:
    levels = spectra.long_term_levels(_tone(1_000, -20, 0.1), [1_000.0], sample_rate=RATE, bands_per_octave=1)
    assert levels[0] == pytest.approx(-20, abs=0.5)
    empty = spectra.long_term_levels(np.zeros((0, 1)), [1_000.0], sample_rate=RATE)
    assert empty[0] < -140


@pytest.mark.parametrize("hz", [60.0, 400.0, 3_000.0, 12_000.0])
def test_the_map_shows_a_tone_in_its_row_at_its_level(hz: float) -> None:
    rows = spectra.map_frequencies()
    centre = rows[np.argmin(np.abs(np.log(rows / hz)))]
    time_map = spectra.TimeMap(RATE)
    power = time_map.columns(_tone(centre, -12.0, 1.0), 24_000, 8)
    assert rows[np.argmax(power[3])] == pytest.approx(centre)
    total = 10 * np.log10(np.sum(power[3])) + 10 * np.log10(2)
    assert total == pytest.approx(-12.0, abs=0.3)


def test_the_map_shows_when_something_sounds() -> None:
    x = np.zeros((RATE, 1))
    x[24_000:26_400] = _tone(5_000, -6.0, 0.05)
    time_map = spectra.TimeMap(RATE)
    power = time_map.columns(x, 0, 90)
    loudest = np.argmax(np.sum(power, axis=1)) * time_map.hop / RATE
    assert loudest == pytest.approx(0.525, abs=0.02)


def test_the_map_in_pieces_is_the_whole_map(noise: Floats) -> None:
    time_map = spectra.TimeMap(RATE)
    whole = time_map.columns(noise, 0, 128)
    later = time_map.columns(noise, 64 * time_map.hop, 64)
    assert np.allclose(whole[64:], later, rtol=1e-3, atol=1e-12)


def test_coarser_levels_keep_the_power() -> None:
    power = np.random.default_rng(1).random((7, spectra.MAP_ROWS)).astype(np.float32)
    halved = spectra.halve_columns(power)
    assert halved.shape == (4, spectra.MAP_ROWS)
    assert halved[0] == pytest.approx(0.5 * (power[0] + power[1]))
    with pytest.raises(InvalidValue, match="shape"):
        spectra.halve_columns(power[0])


def test_bytes_are_half_decibels_above_the_floor() -> None:
    assert spectra.quantise([-120.0, -119.5, 0.0, -300.0, 90.0]).tolist() == [0, 1, 240, 0, 255]


@settings(max_examples=40)
@given(st.integers(1, 6), st.integers(2, 300), st.floats(0.3, 80.0), st.integers(0, 2**31))
def test_levels_are_smoothed_as_the_library_does_it(rows: int, points: int, sigma: float, seed: int) -> None:
    levels = np.random.default_rng(seed).normal(-60.0, 10.0, (rows, points)).astype(np.float32)
    expected = gaussian_filter1d(levels, sigma, axis=-1, mode="nearest")
    np.testing.assert_allclose(spectra.smoothed(levels, sigma), expected, atol=2e-3)
