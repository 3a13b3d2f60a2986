"""Sections against the analogue prototype, scipy's freqz and scipy's Butterworth."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest
from scipy import signal

from mivlo.core.errors import InvalidValue
from mivlo.core.filters import SectionKind, analogue_response_db, design_section, response, response_db
from mivlo.core.moves import Shape, StaticMove, butterworth_qualities, treatment_db

AUDIBLE = np.geomspace(20.0, 20_000.0, 600)
RATES = (44_100, 48_000, 96_000)
CORNERS = (30.0, 412.0, 3_000.0, 9_000.0, 16_000.0)


def _cookbook_analogue(kind: SectionKind, q: float, gain_db: float) -> tuple[list[float], list[float]]:
    """H(s) as the Audio EQ Cookbook prints it (from memory); written again here to check ours."""
    a = 10 ** (gain_db / 40)
    r = math.sqrt(a)
    return {
        SectionKind.BELL: ([1, a / q, 1], [1, 1 / (a * q), 1]),
        SectionKind.LOW_SHELF: ([a, a * r / q, a * a], [a, r / q, 1]),
        SectionKind.HIGH_SHELF: ([a * a, a * r / q, a], [1, r / q, a]),
        SectionKind.NOTCH: ([1, 0, 1], [1, 1 / q, 1]),
        SectionKind.BAND_PASS: ([1 / q, 0], [1, 1 / q, 1]),
        SectionKind.LOW_CUT_2: ([1, 0, 0], [1, 1 / q, 1]),
        SectionKind.HIGH_CUT_2: ([1], [1, 1 / q, 1]),
        SectionKind.LOW_CUT_1: ([1, 0], [1, 1]),
        SectionKind.HIGH_CUT_1: ([1], [1, 1]),
    }[kind]


@pytest.mark.parametrize("kind", list(SectionKind))
def test_prototypes_are_those_of_the_cookbook(kind: SectionKind) -> None:
    num, den = _cookbook_analogue(kind, 1.3, -7.0)
    _, h = signal.freqs(num, den, AUDIBLE / 1000.0)
    audible = 20 * np.log10(np.maximum(np.abs(h), 1e-9))
    ours = analogue_response_db(kind, 1000.0, AUDIBLE, q=1.3, gain_db=-7.0)
    near = audible > -150
    assert np.max(np.abs(ours - audible)[near]) < 1e-6


@pytest.mark.parametrize(("rate", "corner"), list(itertools.product(RATES, CORNERS)))
@pytest.mark.parametrize("kind", [SectionKind.BELL, SectionKind.LOW_SHELF, SectionKind.HIGH_SHELF])
def test_bells_and_shelves_keep_the_analogue_shape(kind: SectionKind, rate: int, corner: float) -> None:
    qualities = (0.5, 1.0, 4.0, 14.4) if kind is SectionKind.BELL else (0.5, 0.71, 1.2)
    for q, gain in itertools.product(qualities, (-18.0, -6.0, 3.0, 12.0)):
        sections = design_section(kind, corner, q=q, gain_db=gain, sample_rate=rate)
        error = response_db(sections, AUDIBLE, sample_rate=rate) - analogue_response_db(
            kind, corner, AUDIBLE, q=q, gain_db=gain
        )
        # a wide shelf just below half of the sample rate bends by a little more at 20 kHz
        bound = 0.7 if corner / rate > 0.35 and kind is not SectionKind.BELL else 0.5
        assert np.max(np.abs(error)) < bound, f"Q {q}, {gain} dB"


def test_a_bell_at_16_khz_beats_the_bilinear_one() -> None:
    # the plain bilinear bell (cookbook, pre-warped) is wrong by decibels at 44.1 kHz
    q, gain, corner, rate = 1.0, -6.0, 16_000.0, 44_100
    a, w = 10 ** (gain / 40), 2 * math.pi * corner / rate
    alpha = math.sin(w) / (2 * q)
    b = [1 + alpha * a, -2 * math.cos(w), 1 - alpha * a]
    den = [1 + alpha / a, -2 * math.cos(w), 1 - alpha / a]
    _, h = signal.freqz(b, den, AUDIBLE, fs=rate)
    wanted = analogue_response_db(SectionKind.BELL, corner, AUDIBLE, q=q, gain_db=gain)
    bilinear = np.max(np.abs(20 * np.log10(np.abs(h)) - wanted))
    section = design_section(SectionKind.BELL, corner, q=q, gain_db=gain, sample_rate=rate)
    ours = np.max(np.abs(response_db(section, AUDIBLE, sample_rate=rate) - wanted))
    assert bilinear > 2.0
    assert ours < 0.25


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize(
    "kind", [SectionKind.NOTCH, SectionKind.BAND_PASS, SectionKind.HIGH_CUT_2, SectionKind.LOW_CUT_2]
)
def test_cuts_and_passes_keep_the_analogue_shape(kind: SectionKind, rate: int) -> None:
    # within 0.6 dB down to -40 dB: what lies below is not heard beside the rest
    for corner, q in itertools.product((60.0, 412.0, 3_000.0, 9_000.0), (0.5, 0.71, 4.0)):
        wanted = analogue_response_db(kind, corner, AUDIBLE, q=q)
        ours = response_db(design_section(kind, corner, q=q, sample_rate=rate), AUDIBLE, sample_rate=rate)
        heard = wanted > -40
        assert np.max(np.abs(ours - wanted)[heard]) < 0.6, f"{corner} Hz, Q {q}"


@pytest.mark.parametrize("kind", list(SectionKind))
def test_response_agrees_with_scipy(kind: SectionKind) -> None:
    # reference-library check: within 0.01 dB of scipy.signal.freqz_sos
    sections = np.stack([design_section(kind, f, q=2.0, gain_db=-5.0, sample_rate=48_000) for f in (200.0, 7_000.0)])
    _, h = signal.freqz_sos(sections, AUDIBLE, fs=48_000)
    ours = response(sections, AUDIBLE, sample_rate=48_000)
    assert np.max(np.abs(ours - h)) < 1e-9


def test_every_section_is_stable_and_of_minimum_phase() -> None:
    random = np.random.default_rng(3)
    for _ in range(600):
        kind = SectionKind(int(random.integers(0, 9)))
        rate = float(random.choice([8_000, 44_100, 48_000, 192_000]))
        corner, q = 10 ** random.uniform(1, 4.35), 10 ** random.uniform(-1, 1.9)
        section = design_section(kind, corner, q=q, gain_db=random.uniform(-30, 30), sample_rate=rate)
        where = f"{kind.name} {corner:.1f} Hz Q {q:.2f} at {rate}"
        assert np.all(np.isfinite(section)), where
        assert np.all(np.abs(np.roots(section[3:])) < 1.0), where
        assert np.all(np.abs(np.roots(section[:3])) < 1.0 + 1e-6), where


def test_a_cut_undoes_the_boost() -> None:
    up = design_section(SectionKind.BELL, 12_000.0, q=2.0, gain_db=9.0, sample_rate=44_100)
    down = design_section(SectionKind.BELL, 12_000.0, q=2.0, gain_db=-9.0, sample_rate=44_100)
    assert np.max(np.abs(response_db([up, down], AUDIBLE, sample_rate=44_100))) < 1e-9


@pytest.mark.parametrize("slope", [6, 12, 18, 24, 36, 48])
@pytest.mark.parametrize(("shape", "kind"), [(Shape.LOW_CUT, "highpass"), (Shape.HIGH_CUT, "lowpass")])
def test_cuts_are_butterworth(shape: Shape, kind: str, slope: int) -> None:
    # scipy.signal.butter as an analogue filter: -3.01 dB at the corner, `slope` dB an octave beyond
    corner, order = 1_000.0, slope // 6
    at = np.geomspace(60, 15_000, 300)
    _, h = signal.freqs(*signal.butter(order, corner, kind, analog=True), at)
    wanted = 20 * np.log10(np.abs(h))
    ours = treatment_db([StaticMove(shape, corner, slope_db_per_octave=slope)], at, sample_rate=48_000)
    heard = wanted > -60
    assert np.max(np.abs(ours - wanted)[heard]) < 0.25
    at_corner = treatment_db([StaticMove(shape, corner, slope_db_per_octave=slope)], [corner], sample_rate=48_000)
    assert at_corner[0] == pytest.approx(-3.01, abs=0.02)


def test_butterworth_qualities_come_from_the_pole_angles() -> None:
    # order 4: 0.5412, 1.3066; order 3: 1 (handbook values, e.g. any active filter table)
    assert butterworth_qualities(4) == pytest.approx([0.5412, 1.3066], abs=1e-4)
    assert butterworth_qualities(3) == pytest.approx([1.0])
    assert butterworth_qualities(1) == []


def test_q_of_a_cut_is_its_level_at_the_corner_whatever_the_slope() -> None:
    for slope in (12, 24, 48):
        move = StaticMove(Shape.LOW_CUT, 100.0, q=1.0, slope_db_per_octave=slope)
        assert treatment_db([move], [100.0], sample_rate=48_000)[0] == pytest.approx(0.0, abs=0.02)


def test_a_corner_above_half_the_rate_still_keeps_its_skirt() -> None:
    at = np.geomspace(100, 3_500, 100)
    section = design_section(SectionKind.BELL, 6_000.0, q=0.7, gain_db=-12.0, sample_rate=8_000)
    wanted = analogue_response_db(SectionKind.BELL, 6_000.0, at, q=0.7, gain_db=-12.0)
    assert np.max(np.abs(response_db(section, at, sample_rate=8_000) - wanted)) < 0.5


@pytest.mark.parametrize(
    ("values", "name"),
    [
        ({"frequency_hz": 5.0}, "frequency_hz"),
        ({"frequency_hz": math.nan}, "frequency_hz"),
        ({"q": 0.0}, "q"),
        ({"gain_db": 31.0}, "gain_db"),
        ({"slope_db_per_octave": 20}, "slope_db_per_octave"),
    ],
)
def test_impossible_moves_are_refused_by_name(values: dict[str, float], name: str) -> None:
    with pytest.raises(InvalidValue, match=f"^{name} is"):
        StaticMove(**{"shape": Shape.LOW_CUT, "frequency_hz": 100.0, **values})


def test_a_first_order_cut_has_no_q() -> None:
    with pytest.raises(InvalidValue, match="a cut of 6 dB/octave has none"):
        StaticMove(Shape.LOW_CUT, 100.0, q=2.0, slope_db_per_octave=6)
