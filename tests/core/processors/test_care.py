"""What comes behind the moves, against its definitions."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivlo.core.graph import treat
from mivlo.core.making.thresholds import ACTIVE_DB, compressor_taking
from mivlo.core.moves import (
    Aftercare,
    Air,
    Clip,
    Compressor,
    Entry,
    Place,
    Reverb,
    Shape,
    StaticMove,
    Treatment,
    Warmth,
)
from mivlo.core.processors import Step
from mivlo.core.processors.dynamic import CompressorProcessor
from mivlo.core.units import Floats

RATE = 44_100


def _sine(hz: float, db: float = 0.0, seconds: float = 2.0) -> Floats:
    t = np.arange(round(seconds * RATE)) / RATE
    return np.asarray((10 ** (db / 20) * np.sin(2 * np.pi * hz * t))[:, None])


def _care(x: Floats, **parts: object) -> Floats:
    return treat(x, Treatment(aftercare=Aftercare(**parts)), sample_rate=RATE)  # type: ignore[arg-type]


def _lines(x: Floats, hz: float) -> tuple[list[float], float]:
    """Level in dB of the harmonics of hz, and of the loudest line that is none."""
    y = x[len(x) // 2 :, 0]
    window = np.kaiser(len(y), 20)
    level = 20 * np.log10(np.abs(np.fft.rfft(y * window)) / (window.sum() / 2) + 1e-15)
    at = np.fft.rfftfreq(len(y), 1 / RATE)
    rest = at > 5
    harmonics = []
    for k in range(1, int(RATE / 2 / hz) + 1):
        near = np.abs(at - k * hz) < 30
        harmonics.append(float(np.max(level[near])))
        rest &= ~near
    return harmonics, float(np.max(level[rest]))


@pytest.mark.parametrize("detector", ["rms", "peak"])
@pytest.mark.parametrize("level", [-30.0, -18.0, -6.0])
def test_a_compressors_curve(detector: str, level: float) -> None:
    compressor = Compressor(threshold_db=-20.0, ratio=3.0, knee_db=6.0, detector=detector, gain_db=2.0)  # type: ignore[arg-type]
    excess = level + 20.0
    excess = (excess + 3) ** 2 / 12 if abs(excess) < 3 else max(excess, 0.0)
    out = _care(_sine(1_000.0, level), compressors=(compressor,))[RATE:]
    assert 10 * np.log10(2 * np.mean(out**2)) - level == pytest.approx(2.0 - excess * 2 / 3, abs=0.1)


def test_what_lies_below_its_low_cut_does_not_move_a_compressor() -> None:
    deaf = Compressor(threshold_db=-30.0, detector_low_cut_hz=500.0, knee_db=0.0)
    hears = Compressor(threshold_db=-30.0, detector_low_cut_hz=0.0, knee_db=0.0)
    x = _sine(60.0, -12.0)
    low = [
        10 * np.log10(np.mean(_care(x, compressors=(c,))[RATE:] ** 2) / np.mean(x[RATE:] ** 2)) for c in (deaf, hears)
    ]
    assert low[0] > -1.0
    assert low[1] < -11.0


def test_a_mix_lays_the_untouched_sound_beside() -> None:
    x = _sine(1_000.0, -6.0)
    full, half = (_care(x, compressors=(Compressor(threshold_db=-30.0, mix=mix),))[RATE:] for mix in (1.0, 0.5))
    assert np.max(np.abs(half - 0.5 * (full + x[RATE:]))) < 1e-6


@pytest.mark.parametrize(("hardness", "below"), [(1.0, -70.0), (0.0, -100.0)])
def test_a_clip_folds_nothing_back(hardness: float, below: float) -> None:
    # a full-scale 5 kHz sine, 12 dB of drive
    harmonics, other = _lines(_care(_sine(5_000.0), clip=Clip(drive_db=12.0, hardness=hardness)), 5_000.0)
    assert harmonics[2] > -15.0
    assert other < below


def test_a_clip_keeps_to_its_ceiling_and_leaves_alone_what_is_far_below() -> None:
    out = _care(_sine(200.0), clip=Clip(drive_db=20.0, ceiling_db=-6.0, hardness=1.0))
    assert 20 * np.log10(np.max(np.abs(out[RATE:]))) == pytest.approx(-6.0, abs=1.0)
    quiet = _sine(1_000.0, -40.0)
    change = _care(quiet, clip=Clip(hardness=0.9))[100:-100] - quiet[100:-100]
    assert np.max(np.abs(change)) < 0.01 * 10 ** (-40 / 20)  # but for a sixteenth of a frame that it is late


@pytest.mark.parametrize("part", [{"air": Air(above_hz=3_000.0, level_db=-12.0)}, {"warmth": Warmth(below_hz=8_000.0, level_db=-12.0)}])  # fmt: skip
def test_harmonics_are_at_their_level_and_fold_nothing_back(part: dict[str, object]) -> None:
    harmonics, other = _lines(_care(_sine(5_000.0), **part), 5_000.0)
    assert harmonics[1] == pytest.approx(-12.0, abs=1.0)
    assert harmonics[2] == pytest.approx(-18.0, abs=1.5)
    assert other < -80.0


def test_harmonics_come_from_their_band_alone() -> None:
    low, high = _sine(100.0, -6.0), _sine(6_000.0, -6.0)
    assert _lines(_care(high, warmth=Warmth(below_hz=200.0, level_db=0.0)), 6_000.0)[0][1] < -80.0
    assert _lines(_care(low, air=Air(above_hz=4_000.0, level_db=0.0)), 100.0)[0][1] < -80.0
    assert _lines(_care(low, warmth=Warmth(below_hz=200.0, level_db=-20.0)), 100.0)[0][1] == pytest.approx(
        -26.0, abs=1.5
    )


@pytest.mark.parametrize("decay", [0.6, 1.2, 2.5])
def test_a_reverb_falls_by_60_db_in_its_time_and_begins_after_20_ms(decay: float) -> None:
    x = np.zeros((round((0.5 + decay) * RATE), 2))
    x[0] = 1.0
    wet = _care(x, reverb=Reverb(send_db=0.0, decay_s=decay)) - x
    assert np.max(np.abs(wet[: round(0.02 * RATE)])) == 0.0
    left = np.cumsum(np.sum(wet[::-1] ** 2, axis=1))[::-1]  # Schroeder's integral
    db = 10 * np.log10(left / left[round(0.06 * RATE)])
    assert (np.argmax(db < -25) - np.argmax(db < -5)) / RATE * 3 == pytest.approx(decay, rel=0.2)
    assert abs(np.corrcoef(wet[RATE // 10 :, 0], wet[RATE // 10 :, 1])[0, 1]) < 0.3


def test_a_file_gets_no_reverb_unless_asked_and_can_do_without_the_rest() -> None:
    care = Aftercare(compressors=(Compressor(threshold_db=-30.0),), reverb=Reverb(), output_db=-2.0)
    treatment = Treatment(aftercare=care)
    assert treatment.exported().aftercare == Aftercare(compressors=care.compressors, output_db=-2.0)
    assert treatment.exported(reverb=True).aftercare == care
    assert treatment.exported(aftercare=False).aftercare == Aftercare(output_db=-2.0)


def test_a_move_may_stand_behind_a_compressor() -> None:
    x = np.random.default_rng(0).standard_normal((RATE, 2)) * 0.2
    move = StaticMove(Shape.LOW_CUT, 400.0, slope_db_per_octave=24)
    care = Aftercare(compressors=(Compressor(threshold_db=-40.0, detector_low_cut_hz=0.0),))
    before, behind = (
        treat(x, Treatment(entries=(Entry(move=move, place=place),), aftercare=care), sample_rate=RATE)
        for place in (Place.BEFORE, Place.BEHIND)
    )
    by_hand = treat(treat(x, Treatment(aftercare=care), sample_rate=RATE), [move], sample_rate=RATE)
    assert np.max(np.abs(behind - by_hand)) < 1e-6
    assert np.max(np.abs(before - by_hand)) > 1e-3


@settings(max_examples=12)
@given(st.floats(0.5, 8.0), st.integers(0, 100), st.sampled_from([1, 2]))
def test_a_fitted_threshold_takes_what_was_asked_on_average(take: float, seed: int, channels: int) -> None:
    random = np.random.default_rng(seed)
    loudness = np.repeat(10.0 ** (random.uniform(-25.0, 0.0, 20) / 20.0), RATE // 10)
    x = (random.standard_normal((len(loudness), channels)) * 0.1) * loudness[:, None]
    fitted = compressor_taking(Compressor(threshold_db=0.0), x, take, sample_rate=RATE)
    rows = CompressorProcessor(RATE, channels, [Step(0, fitted)]).trace(x)[0]
    level, gain = rows[:, :, 0].max(axis=1), rows[:, :, 1].min(axis=1)
    assert -np.mean(gain[level > level.max() - ACTIVE_DB]) == pytest.approx(take, abs=0.15)


def test_silence_fits_no_threshold() -> None:
    value = Compressor(threshold_db=-24.0)
    for frames in (0, 5, 4_800):
        assert compressor_taking(value, np.zeros((frames, 1)), 3.0, sample_rate=RATE) == value
