"""Loudness and true peak against BS.1770, EBU Tech 3341 and pyloudnorm."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyloudnorm
import pytest
import soundfile
from scipy import signal

from mivlo.core.loudness import (
    SILENCE_LUFS,
    LoudnessMeter,
    gated_loudness,
    k_weighting,
    level_match_lu,
    true_peak,
)
from mivlo.core.units import Floats


def _tone(level_db: float, seconds: float, hz: float = 1_000.0, rate: int = 48_000, channels: int = 2) -> Floats:
    t = np.arange(int(seconds * rate)) / rate
    return np.tile(10 ** (level_db / 20) * np.sin(2 * np.pi * hz * t)[:, None], (1, channels))


def test_a_full_scale_sine_in_one_channel_reads_minus_3_01() -> None:
    # BS.1770-5: 997 Hz at 0 dBFS in one channel: -3.01 LKFS
    assert gated_loudness(_tone(0.0, 10, 997.0, channels=1), sample_rate=48_000) == pytest.approx(-3.01, abs=0.01)


@pytest.mark.parametrize(("level", "wanted"), [(-23.0, -23.0), (-33.0, -33.0)])
def test_ebu_3341_steady_tones(level: float, wanted: float) -> None:
    # EBU Tech 3341 cases 1 and 2: stereo 1 kHz sine for 20 s, +-0.1 LU
    assert gated_loudness(_tone(level, 20), sample_rate=48_000) == pytest.approx(wanted, abs=0.1)


def test_ebu_3341_gating() -> None:
    # case 3: 10 s at -36, 60 s at -23, 10 s at -36 dBFS: -23 LUFS; case 4 adds 10 s at -72 at both ends
    three = np.concatenate([_tone(-36, 10), _tone(-23, 60), _tone(-36, 10)])
    assert gated_loudness(three, sample_rate=48_000) == pytest.approx(-23.0, abs=0.1)
    four = np.concatenate([_tone(-72, 10), three, _tone(-72, 10)])
    assert gated_loudness(four, sample_rate=48_000) == pytest.approx(-23.0, abs=0.1)


def test_the_weighting_is_the_standards_table() -> None:
    # BS.1770-5 annex 1, tables 1 and 2, at 48 kHz
    shelf, low_cut = k_weighting(48_000)
    assert shelf == pytest.approx(
        [1.53512485958697, -2.69169618940638, 1.19839281085285, 1, -1.69065929318241, 0.73248077421585], abs=1e-8
    )
    assert low_cut == pytest.approx([1, -2, 1, 1, -1.99004745483398, 0.99007225036621], abs=1e-8)


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_loudness_agrees_with_pyloudnorm(rate: int) -> None:
    x = signal.lfilter([1], [1, -0.95], np.random.default_rng(4).standard_normal((rate * 6, 2)) * 0.02, axis=0)
    x[: rate * 2] *= 0.05
    wanted = pyloudnorm.Meter(rate).integrated_loudness(x)
    assert gated_loudness(x, sample_rate=rate) == pytest.approx(wanted, abs=0.1)


def test_loudness_of_recorded_sound_agrees_with_pyloudnorm(marimba_wav: Path) -> None:
    x, rate = soundfile.read(marimba_wav, always_2d=True)
    assert gated_loudness(x, sample_rate=rate) == pytest.approx(pyloudnorm.Meter(rate).integrated_loudness(x), abs=0.1)


def test_a_meter_gives_the_same_in_blocks(noise: Floats) -> None:
    meter = LoudnessMeter(48_000, 2)
    for start in range(0, len(noise), 777):
        meter.add(noise[start : start + 777])
    assert meter.integrated_lufs() == pytest.approx(gated_loudness(noise, sample_rate=48_000), abs=1e-9)


def test_silence_and_short_sounds_have_an_answer() -> None:
    assert gated_loudness(np.zeros((48_000, 2)), sample_rate=48_000) == SILENCE_LUFS
    assert gated_loudness(np.zeros((0, 1)), sample_rate=48_000) == SILENCE_LUFS
    short = gated_loudness(_tone(-20, 0.2), sample_rate=48_000)
    assert short == pytest.approx(-20.0, abs=0.7)  # ungated, with the filter's onset


def test_level_match_undoes_a_gain(noise: Floats) -> None:
    assert level_match_lu(noise, noise * 10 ** (-4.5 / 20), sample_rate=48_000) == pytest.approx(4.5, abs=1e-6)
    assert level_match_lu(noise, noise * 0, sample_rate=48_000) == 0.0


def test_true_peak_finds_what_lies_between_the_samples() -> None:
    # EBU Tech 3341 case 16: fs/4 sine of -6 dBFS with 45 degrees of phase; samples read -9.0 dBFS.
    # BS.1770-5 annex 2 allows +0.2/-0.4 dB
    n = np.arange(48_000)
    x = (0.5 * np.sin(2 * np.pi * n / 4 + np.pi / 4))[:, None]
    assert 20 * np.log10(np.max(np.abs(x))) == pytest.approx(-9.03, abs=0.01)
    assert -6.4 <= true_peak(x * signal.windows.tukey(len(n), 0.2)[:, None]) <= -5.8


def test_true_peak_agrees_with_fourfold_resampling(noise: Floats) -> None:
    # scipy's polyphase resampler as the reference; two short filters differ by some tenths
    wanted = 20 * np.log10(np.max(np.abs(signal.resample_poly(noise, 4, 1, axis=0))))
    assert true_peak(noise) == pytest.approx(wanted, abs=0.4)
    assert true_peak(np.zeros((100, 1))) == SILENCE_LUFS
