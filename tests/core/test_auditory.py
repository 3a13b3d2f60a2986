"""The model of hearing against published thresholds, contours and another standard's loudness."""

from __future__ import annotations

import sys
from itertools import pairwise
from types import ModuleType

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from mivlo.core.auditory import (
    BAND_HZ,
    BANDS,
    COMPONENT_HZ,
    components,
    excitation,
    frame_count,
    partial_loudness,
    sones,
    specific_loudness,
)
from mivlo.core.auditory.outer import efficiency, threshold_db, to_cochlea_db
from mivlo.core.units import Floats

RATE = 48_000
FULL_SCALE_DB = 95.0
T = np.arange(RATE) / RATE


def tone(hz: float, spl: float) -> Floats:
    return np.asarray(np.sqrt(2.0) * 10.0 ** ((spl - FULL_SCALE_DB) / 20.0) * np.sin(2 * np.pi * hz * T))


def noise(spl: float, low_hz: float, high_hz: float, seconds: float = 2.0) -> Floats:
    x = np.random.default_rng(7).standard_normal(round(seconds * RATE))
    spectrum = np.fft.rfft(x)
    f = np.fft.rfftfreq(len(x), 1 / RATE)
    x = np.fft.irfft(np.where((f >= low_hz) & (f <= high_hz), spectrum, 0.0), len(x))
    return np.asarray(x * 10.0 ** ((spl - FULL_SCALE_DB) / 20.0) / np.sqrt(np.mean(x**2)))


def spread(x: Floats) -> np.ndarray:
    """(frames, BANDS) without the ends."""
    return excitation(components(x[:, None], sample_rate=RATE), full_scale_db=FULL_SCALE_DB)[0, 5:-5]


def loudness(x: Floats) -> float:
    return float(np.mean(sones(specific_loudness(spread(x)))))


def level_at(wanted: float, of: object) -> float:
    """The level in dB SPL at which a loudness that grows with it is as wanted."""
    low, high = -20.0, 100.0
    while high - low > 0.05:
        middle = 0.5 * (low + high)
        low, high = (middle, high) if of(middle) < wanted else (low, middle)  # type: ignore[operator]
    return low


def test_loudness_grows_as_the_sone_is_defined() -> None:
    """1 kHz at 40 dB is 1 sone (ISO 131); it doubles every 10 dB up to 90 dB."""
    heard = [loudness(tone(1_000.0, spl)) for spl in range(40, 100, 10)]
    assert heard[0] == pytest.approx(1.0, rel=0.05)
    for quieter, louder in pairwise(heard):
        assert louder / quieter == pytest.approx(2.0, rel=0.1)


@pytest.mark.parametrize(
    ("hz", "spl"),
    [(100, 26.5), (125, 22.1), (250, 11.4), (500, 4.4), (1_000, 2.4), (2_000, -1.3), (4_000, -5.4), (8_000, 12.6)],
)
def test_threshold_in_quiet(hz: float, spl: float) -> None:
    """ISO 389-7, free field (values from memory); a sound at its threshold has 0.003 sones (1997 and ANSI S3.4)."""
    assert level_at(0.003, lambda at: loudness(tone(hz, at))) == pytest.approx(spl, abs=1.5)


@pytest.mark.parametrize(
    ("hz", "ratio"), [(250, 16.5), (500, 17.0), (1_000, 18.0), (2_000, 20.0), (4_000, 23.0), (8_000, 26.0)]
)
def test_a_tone_in_white_noise_is_heard_from_its_critical_ratio_on(hz: float, ratio: float) -> None:
    """Level of a tone at its threshold over that of 1 Hz of the noise: Hawkins & Stevens 1950 (values from memory)."""
    density = 40.0
    masker = spread(noise(density + 10.0 * np.log10(20_000.0), 0.0, 20_000.0, 4.0)).mean(axis=0, keepdims=True)

    def heard(spl: float) -> float:
        return float(sones(partial_loudness(spread(tone(hz, spl)).mean(axis=0, keepdims=True), masker))[0])

    assert level_at(0.003, heard) - density == pytest.approx(ratio, abs=2.0)


@pytest.mark.parametrize(
    ("hz", "spl"),
    [
        (63, 73.08),
        (100, 64.37),
        (200, 53.41),
        (400, 44.98),
        (800, 40.06),
        (2_000, 39.23),
        (3_150, 35.61),
        (5_000, 40.01),
        (8_000, 51.80),
    ],
)
def test_equally_loud_tones(hz: float, spl: float) -> None:
    """The 40 phon contour of ISO 226:2003 (values from memory). 7 phon at low frequencies is what the model of 1997 is
    known to be off by: it follows older contours there; from 200 Hz on it is within 4."""
    phons = 40.0 + 10.0 * np.log2(loudness(tone(hz, spl)))
    assert phons == pytest.approx(40.0, abs=4.5 if hz >= 200 else 7.0)


def _by_iso_532_1(x: Floats) -> float:
    """Sones by ISO 532-1 (stationary, free field) of the library mosqito."""
    for name in ("matplotlib", "matplotlib.pyplot"):  # it draws, too, which nothing here needs
        sys.modules.setdefault(name, ModuleType(name))
    from mosqito.sq_metrics.loudness.loudness_zwst.loudness_zwst import loudness_zwst

    pascal = x * 2e-5 * 10.0 ** (FULL_SCALE_DB / 20.0)
    return float(loudness_zwst(pascal, RATE, field_type="free")[0])


@pytest.mark.parametrize("spl", [50.0, 70.0])
@pytest.mark.parametrize(("low", "high"), [(450.0, 550.0), (920.0, 1_080.0), (500.0, 1_500.0), (3_700.0, 4_400.0)])
def test_bands_of_noise_are_about_as_loud_as_by_iso_532_1(low: float, high: float, spl: float) -> None:
    """Two models with other filters and other data: from 400 Hz on they agree within a quarter (2 to 3 dB of level).
    Below they don't: ISO 532-1 gives a tone at 125 Hz twice as many sones."""
    x = noise(spl, low, high)
    assert loudness(x) == pytest.approx(_by_iso_532_1(x), rel=0.25)


def test_a_filter_is_as_wide_as_its_erb() -> None:
    """Rounded-exponential filters at 51 dB per ERB: what they pass of white noise is one ERB of it (Glasberg & Moore)."""
    density = 51.0 - 10.0 * np.log10(24.7 * (4.37 + 1.0))
    x = noise(density + 10.0 * np.log10(20_000.0), 0.0, 20_000.0, 4.0)
    made = 10.0 * np.log10(spread(x).mean(axis=0))
    for hz in (500.0, 1_000.0, 2_000.0):
        band = int(np.argmin(np.abs(BAND_HZ - hz)))
        erb = 24.7 * (4.37 * BAND_HZ[band] / 1_000.0 + 1.0)
        assert made[band] == pytest.approx(density + 10.0 * np.log10(erb) + to_cochlea_db(BAND_HZ[band]), abs=0.6)


def test_loud_sounds_spread_upwards() -> None:
    """A fact of the trade: a loud low sound covers what lies above it, far more than what lies below."""
    db = [10.0 * np.log10(spread(tone(1_000.0, spl)).mean(axis=0) + 1e-9) for spl in (40.0, 80.0)]
    above, below = (int(np.argmin(np.abs(BAND_HZ - hz))) for hz in (2_000.0, 500.0))
    assert (db[1] - db[0])[above] > 50.0
    assert (db[1] - db[0])[below] == pytest.approx(40.0, abs=1.0)


# --- properties -----------------------------------------------------------------------------------

levels = st.floats(-20.0, 105.0)


@given(st.sampled_from([8_000, 22_050, 44_100, 48_000, 96_000]), st.floats(60.0, 3_500.0), st.integers(2_000, 20_000))
@settings(max_examples=30)
def test_components_hold_the_power_of_a_sound(rate: int, hz: float, length: int) -> None:
    """A sine's mean square, weighted by the ear at its frequency, whatever the rate and the length."""
    x = np.sin(2 * np.pi * hz * np.arange(length) / rate)
    made = components(x[:, None], sample_rate=rate)
    assert made.shape == (1, frame_count(length, rate), COMPONENT_HZ.size)
    whole = made[0, 4:-5].sum(axis=1)
    if len(whole):
        assert 10.0 * np.log10(2.0 * whole.mean()) == pytest.approx(float(to_cochlea_db(hz)), abs=1.0)


@given(levels, levels, st.integers(0, BANDS - 1))
@settings(max_examples=300)
def test_partial_loudness_is_the_papers_formula(signal_db: float, noise_db: float, band: int) -> None:
    """Moore, Glasberg & Baer 1997, equations 17 to 20 (from memory), in double precision, below 100 dB."""
    e, n = 10.0 ** (signal_db / 10.0), 10.0 ** (noise_db / 10.0)
    if e + 2.0 * n > 0.9e10:
        return
    hz = BAND_HZ[band]
    quiet, k = 10.0 ** (float(threshold_db(hz)) / 10.0), float(efficiency(hz))
    g = 10.0 ** (float(threshold_db(1_000.0)) / 10.0) / quiet
    alpha = np.interp(
        10.0 * np.log10(g), [-25.0, -20.0, -15.0, -10.0, -5.0, 0.0], [0.26692, 0.25016, 0.23679, 0.22228, 0.21055, 0.2]
    )
    grid = np.linspace(4.0, 10.0, 60_001)
    at_quiet = (g * quiet + grid) ** alpha - grid**alpha
    a = grid[np.argmin(np.abs(at_quiet - ((3 * g * quiet) ** 0.2 - (2 * g * quiet) ** 0.2)))]
    masked = k * n + quiet

    def f(x: float) -> float:
        return float((g * x + a) ** alpha)

    if e >= masked:
        wanted = f(e + n) - a**alpha - (f(n * (1 + k) + quiet) - f(quiet)) * (masked / e) ** 0.3
    else:
        wanted = (
            (2 * e / (e + masked)) ** 1.5 * (f(quiet) - a**alpha) / (f(n * (1 + k) + quiet) - f(n)) * (f(e + n) - f(n))
        )
    row = np.zeros((1, BANDS), dtype=np.float32)
    own, other = row.copy(), row.copy()
    own[0, band], other[0, band] = e, n
    made = float(partial_loudness(own, other)[0, band]) / (0.047 / 1.045)
    assert made == pytest.approx(max(wanted, 0.0), rel=0.01, abs=2e-3)


@given(levels, levels, st.floats(0.5, 30.0), st.integers(0, BANDS - 1))
@settings(max_examples=300)
def test_more_noise_never_makes_louder(signal_db: float, noise_db: float, more_db: float, band: int) -> None:
    own, some, more = (
        np.full((1, BANDS), 10.0 ** (db / 10.0), np.float32) for db in (signal_db, noise_db, noise_db + more_db)
    )
    alone = specific_loudness(own)[0, band]
    little, less = (partial_loudness(own, n)[0, band] for n in (some, more))
    assert 0.0 <= less <= little * 1.001 + 2e-4
    assert little <= alone * 1.001 + 2e-4


def test_silence_is_no_loudness() -> None:
    assert loudness(np.zeros(RATE)) == 0.0
    assert components(np.zeros((0, 2)), sample_rate=RATE).shape[:2] == (2, 0)


def test_bands_of_a_click_are_found_where_it_is() -> None:
    """Frames are aligned with the sound: an impulse in the middle of frame 20 is loudest there."""
    x = np.zeros((RATE, 1))
    x[round(20.5 * 0.02 * RATE)] = 1.0
    power = components(x, sample_rate=RATE)[0]
    high = power[:, COMPONENT_HZ > 3_000.0].sum(axis=1)
    assert int(np.argmax(high)) == 20
    assert high[20] > 0.95 * high.sum()
    assert signal.find_peaks(power[:, COMPONENT_HZ < 200.0].sum(axis=1))[0].tolist() == [20]
