"""Linear and analogue phase against their definitions, the prototypes and scipy."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import signal

from mivlo.core.filters import response
from mivlo.core.graph import treat
from mivlo.core.moves import Channels, Entry, Phase, Shape, StaticMove, Treatment, treatment_sections
from mivlo.core.phase import linear_taps, prototype_response, rings_before_s
from mivlo.core.units import Floats

RATE = 48_000
SETS = {
    "a narrow low bell": [StaticMove(Shape.BELL, 60.0, q=14.0, gain_db=-12.0)],
    "a steep low cut and a bell": [
        StaticMove(Shape.LOW_CUT, 80.0, slope_db_per_octave=24), StaticMove(Shape.BELL, 1_000.0, q=2.0, gain_db=6.0)
    ],
    "near the top": [
        StaticMove(Shape.HIGH_SHELF, 9_000.0, gain_db=6.0), StaticMove(Shape.BELL, 16_000.0, q=1.0, gain_db=-9.0)
    ],
    "a steep high cut": [StaticMove(Shape.HIGH_CUT, 12_000.0, slope_db_per_octave=36)],
}  # fmt: skip


def _impulse(moves: list[StaticMove], phase: Phase, rate: int, *, at: int = 40_000, count: int = 80_000) -> Floats:
    x = np.zeros((count, 1))
    x[at] = 1.0
    entries = tuple(Entry(id=i, move=move) for i, move in enumerate(moves))
    return treat(x, Treatment(entries=entries, phase=phase), sample_rate=rate)[:, 0]


def _response(h: Floats, hz: Floats, at: int, rate: int) -> np.ndarray:  # type: ignore[type-arg]
    return np.asarray(signal.freqz(h, worN=hz, fs=rate)[1] * np.exp(2j * np.pi * hz * at / rate))


@pytest.mark.parametrize("moves", SETS.values(), ids=SETS.keys())
def test_linear_phase_is_symmetric_and_meets_the_curve_to_a_tenth_of_a_db(moves: list[StaticMove]) -> None:
    h = _impulse(moves, Phase.LINEAR, RATE)
    assert np.argmax(np.abs(h)) == 40_000  # aligned, whatever the filter delays
    assert np.max(np.abs(h[40_000 - 30_000 : 40_000] - h[40_001 : 40_001 + 30_000][::-1])) < 1e-7
    hz = np.geomspace(20, 20_000, 400)
    wanted = np.abs(response(treatment_sections(moves, sample_rate=RATE), hz, sample_rate=RATE))
    heard = wanted > 10 ** (-40 / 20)
    error = 20 * np.log10(np.abs(_response(h, hz, 40_000, RATE))[heard] / wanted[heard])
    assert np.max(np.abs(error)) < 0.1


def test_the_taps_are_as_many_as_it_takes_and_say_how_long_they_ring_before() -> None:
    narrow, broad = (tuple(SETS[name]) for name in ("a narrow low bell", "near the top"))
    assert len(linear_taps(narrow, RATE)) == 65_535
    assert len(linear_taps(broad, RATE)) < 4_096
    assert rings_before_s(linear_taps(narrow, RATE), RATE) > 0.1
    assert rings_before_s(linear_taps(broad, RATE), RATE) < 0.005
    assert rings_before_s(linear_taps((), RATE), RATE) == 0.0


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize("moves", SETS.values(), ids=SETS.keys())
def test_analogue_phase_meets_magnitude_and_phase_of_the_prototype(moves: list[StaticMove], rate: int) -> None:
    h = _impulse(moves, Phase.ANALOGUE, rate)
    hz = np.geomspace(20, min(20_000, 0.45 * rate), 400)
    wanted = prototype_response(moves, hz)
    heard = np.abs(wanted) > 10 ** (-40 / 20)
    ratio = _response(h, hz, 40_000, rate)[heard] / wanted[heard]
    assert np.max(np.abs(20 * np.log10(np.abs(ratio)))) < 0.2
    assert np.max(np.abs(np.degrees(np.angle(ratio)))) < 5.0


def test_the_prototypes_are_those_of_scipy() -> None:
    hz = np.geomspace(20, 20_000, 50)
    b, a = signal.butter(4, 2 * np.pi * 300.0, "high", analog=True)
    wanted = signal.freqs(b, a, 2 * np.pi * hz)[1]
    cut = [StaticMove(Shape.LOW_CUT, 300.0, slope_db_per_octave=24)]
    assert np.max(np.abs(prototype_response(cut, hz) - wanted)) < 1e-9


def test_minimum_phase_is_the_one_that_belongs_to_the_curve() -> None:
    # the phase of a minimum-phase system is the Hilbert transform of its log magnitude (cepstrum)
    moves = SETS["a steep low cut and a bell"]
    size = 1 << 17
    hz = np.fft.rfftfreq(size, 1 / RATE)
    h = response(treatment_sections(moves, sample_rate=RATE), hz, sample_rate=RATE)
    log = np.log(np.maximum(np.abs(h), 1e-8))
    cepstrum = np.fft.irfft(log, size)
    cepstrum[1 : size // 2] *= 2
    cepstrum[size // 2 + 1 :] = 0
    phase = np.imag(np.fft.rfft(cepstrum))
    heard = (hz > 300) & (hz < 20_000)
    assert np.max(np.abs(np.angle(h[heard] * np.exp(-1j * phase[heard])))) < 0.01


def test_moves_in_stretches_keep_their_own_phase_behind_the_others() -> None:
    x = np.random.default_rng(0).standard_normal((RATE, 2)) * 0.1
    first = Entry(id=1, move=StaticMove(Shape.BELL, 500.0, q=1.0, gain_db=-6.0), stretches=((0.2, 0.5),))
    always = Entry(id=2, move=StaticMove(Shape.BELL, 2_000.0, q=1.0, gain_db=6.0))
    both = treat(x, Treatment(entries=(first, always), phase=Phase.LINEAR), sample_rate=RATE)
    one = treat(x, Treatment(entries=(always,), phase=Phase.LINEAR), sample_rate=RATE)
    wanted = treat(one, Treatment(entries=(first,)), sample_rate=RATE)
    assert np.max(np.abs(both - wanted)) < 1e-6


@pytest.mark.parametrize("phase", [Phase.LINEAR, Phase.ANALOGUE])
def test_each_part_of_a_stereo_sound_has_a_filter_of_its_own(phase: Phase) -> None:
    x = np.random.default_rng(1).standard_normal((20_000, 2)) * 0.1
    move = StaticMove(Shape.BELL, 800.0, q=2.0, gain_db=-12.0)
    whole = treat(x, Treatment(entries=(Entry(id=1, move=move),), phase=phase), sample_rate=RATE)
    left = treat(x, Treatment(entries=(Entry(id=1, move=move, channels=Channels.LEFT),), phase=phase), sample_rate=RATE)
    assert np.max(np.abs(left[:, 0] - whole[:, 0])) < 1e-6
    assert np.max(np.abs(left[:, 1] - x[:, 1])) < 1e-6
