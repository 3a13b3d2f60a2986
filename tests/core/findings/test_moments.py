"""A voice's moments: what outdoes its vowels for a short time. The voices are made up of noise and tones."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import signal

from mivlo.core.findings.moments import VoiceFrames, find_plosives, find_sibilance, find_whistles, voice_frames
from mivlo.core.units import Floats
from tests.core.findings.sounds import RATE, note, seconds

TIMES = (1.0, 2.4, 3.8, 5.2, 6.6)


def _vowels() -> Floats:
    x = np.random.default_rng(1).standard_normal(8 * RATE) * 1e-4
    for i, a in enumerate(np.arange(0.1, 7.4, 0.7)):
        y = 0.3 * note(210.0 + 9 * (i % 3), 0.35)
        x[int(a * RATE) : int(a * RATE) + len(y)] += y
    return x


def _with_hiss(gain: float) -> Floats:
    x = _vowels()
    band = signal.butter(2, (5_500, 9_500), "bandpass", fs=RATE, output="sos")
    hiss = signal.sosfilt(band, np.random.default_rng(2).standard_normal(len(x)))
    for a in TIMES:
        span = slice(int(a * RATE), int((a + 0.1) * RATE))
        x[span] += gain * hiss[span] * np.hanning(span.stop - span.start)
    return x


def _frames(x: Floats) -> VoiceFrames:
    return voice_frames(x[:, None], 0, len(x), sample_rate=RATE)


def test_sharp_sibilants_are_found_with_their_times() -> None:
    found = find_sibilance(_frames(_with_hiss(0.6)))
    assert found is not None
    assert len(found.spans_s) == len(TIMES)
    for t, (start, end) in zip(TIMES, found.spans_s, strict=True):
        assert t - 0.03 <= start < end <= t + 0.14
    assert 5_500 < found.frequency_hz < 9_500
    assert found.similar > 0.7


@pytest.mark.parametrize("gain", [0.0, 0.01, 0.06, 0.1, 0.2, 0.3])
def test_gentle_sibilants_are_left_alone(gain: float) -> None:
    assert find_sibilance(_frames(_with_hiss(gain))) is None


def test_sharper_sibilants_are_said_to_be_sharper_by_as_much() -> None:
    excesses = [found.excess_db for g in (0.4, 0.5, 0.6, 0.8) if (found := find_sibilance(_frames(_with_hiss(g))))]
    assert len(excesses) == 4
    assert np.diff(excesses) == pytest.approx(20 * np.log10([5 / 4, 6 / 5, 8 / 6]), abs=0.5)


def test_pops_are_found_with_their_times() -> None:
    x = _vowels()
    for a in TIMES:
        t = seconds(0.1)
        x[int(a * RATE) : int(a * RATE) + len(t)] += 0.9 * np.sin(2 * np.pi * 60 * t) * np.exp(-t / 0.03)
    found = find_plosives(_frames(x))
    assert found is not None
    assert len(found.spans_s) == len(TIMES)
    assert find_plosives(_frames(_vowels())) is None


def test_a_whistle_at_one_place_is_found_to_10_cents() -> None:
    x = _with_hiss(0.2)
    for a in TIMES[:3]:
        t = seconds(0.1)
        x[int(a * RATE) : int(a * RATE) + len(t)] += 0.15 * np.sin(2 * np.pi * 5_870 * t) * np.hanning(len(t))
    found = find_whistles(_frames(x))
    assert found is not None
    assert len(found.spans_s) == 3
    assert abs(1200 * np.log2(found.frequency_hz / 5_870)) < 10
    assert find_whistles(_frames(_with_hiss(0.6))) is None


def test_a_sound_shorter_than_a_frame_has_no_moments() -> None:
    frames = _frames(np.zeros(500))
    assert find_sibilance(frames) is None
    assert find_plosives(frames) is None
    assert find_whistles(frames) is None
