"""Gated loudness, true peak and level matching after ITU-R BS.1770-5."""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

from mivlo.core.kernels import oversampled_peak
from mivlo.core.processors import Cascade, checked_block
from mivlo.core.units import Floats, positive

ABSOLUTE_GATE_LUFS = -70.0
RELATIVE_GATE_LU = -10.0
SILENCE_LUFS = -120.0
"""Shown and returned where there is nothing above the absolute gate."""

_OFFSET = -0.691  # BS.1770-5 annex 1, equation (2)
_STEPS_PER_BLOCK = 4  # 400 ms blocks, overlapping by 75 %


def k_weighting(sample_rate: float) -> Floats:
    """The two sections of the K weighting at any rate: (2, 6) in scipy's order.

    BS.1770-5 gives coefficients for 48 kHz (annex 1, tables 1 and 2). The analogue values below
    reproduce those to all printed digits; the bilinear transform carries them to other rates, as
    the standard asks ("the same frequency response").
    """
    rate = positive("sample_rate", sample_rate)
    k = math.tan(math.pi * 1681.974450955533 / rate)
    q = 0.7071752369554196
    high = 10.0 ** (3.999843853973347 / 20.0)
    band = high**0.4996667741545416
    a0 = 1.0 + k / q + k * k
    shelf = [
        (high + band * k / q + k * k) / a0,
        2.0 * (k * k - high) / a0,
        (high - band * k / q + k * k) / a0,
        1.0,
        2.0 * (k * k - 1.0) / a0,
        (1.0 - k / q + k * k) / a0,
    ]
    k = math.tan(math.pi * 38.13547087602444 / rate)
    q = 0.5003270373238773
    a0 = 1.0 + k / q + k * k
    low_cut = [1.0, -2.0, 1.0, 1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / q + k * k) / a0]
    return np.array([shelf, low_cut])


def _loudness_of(mean_square: float) -> float:
    return _OFFSET + 10.0 * math.log10(mean_square) if mean_square > 0 else SILENCE_LUFS


def gate(block_powers: npt.ArrayLike) -> float:
    """Gated loudness in LUFS of the weighted powers (m,) of 400 ms blocks; SILENCE_LUFS if none."""
    powers = np.asarray(block_powers, dtype=np.float64)
    loud = powers[powers > 10.0 ** ((ABSOLUTE_GATE_LUFS - _OFFSET) / 10.0)]
    if not loud.size:
        return SILENCE_LUFS
    threshold = float(np.mean(loud)) * 10.0 ** (RELATIVE_GATE_LU / 10.0)
    return _loudness_of(float(np.mean(loud[loud > threshold])))


class LoudnessMeter:
    """Streaming meter of gated loudness.

    Parameters
    ----------
    sample_rate : Hz.
    channels : 1 or 2; each counts with weight 1 (left, right, centre of BS.1770-5 table 3).
    """

    def __init__(self, sample_rate: float, channels: int) -> None:
        self._filter = Cascade(k_weighting(sample_rate), channels)
        self._step = max(1, round(0.1 * positive("sample_rate", sample_rate)))
        self._rest: Floats = np.empty(0)
        self._steps: list[Floats] = []

    def add(self, block: npt.ArrayLike) -> None:
        """Take the next samples (n, channels)."""
        power = np.sum(self._filter.process(block) ** 2, axis=1)
        power = np.concatenate([self._rest, power])
        whole = len(power) // self._step * self._step
        self._steps.append(power[:whole].reshape(-1, self._step).mean(axis=1))
        self._rest = power[whole:]

    def steps(self) -> Floats:
        """Mean square of every 100 ms so far: (m,)."""
        return np.concatenate(self._steps) if self._steps else np.empty(0)

    def keep(self, steps: int) -> None:
        """Forget all but the last steps of 100 ms."""
        self._steps = [self.steps()[-steps:]]

    def block_powers(self) -> Floats:
        """Mean square of every 400 ms block so far: (m,)."""
        steps = self.steps()
        if len(steps) < _STEPS_PER_BLOCK:
            return np.empty(0)
        return np.convolve(steps, np.full(_STEPS_PER_BLOCK, 1.0 / _STEPS_PER_BLOCK), mode="valid")

    def integrated_lufs(self) -> float:
        """Gated loudness of all so far in LUFS; SILENCE_LUFS when nothing passed the gate."""
        return gate(self.block_powers())


class ShortTermMeter:
    """Short-term loudness: the last 3 s, ungated (ITU-R BS.1771, EBU Tech 3341)."""

    SECONDS = 3.0

    def __init__(self, sample_rate: float, channels: int) -> None:
        self._meter = LoudnessMeter(sample_rate, channels)
        self.channels = channels

    def add(self, block: npt.ArrayLike) -> None:
        """Take the next samples (n, channels)."""
        self._meter.add(block)
        self._meter.keep(round(self.SECONDS / 0.1))

    def lufs(self) -> float:
        """In LUFS of what was taken of the last 3 s; SILENCE_LUFS where that is nothing."""
        steps = self._meter.steps()
        return max(SILENCE_LUFS, _loudness_of(float(np.mean(steps)))) if len(steps) else SILENCE_LUFS


def gated_loudness(samples: npt.ArrayLike, *, sample_rate: float) -> float:
    """Gated loudness in LUFS of a whole recording (n, channels).

    A recording shorter than one 400 ms block is measured ungated over its whole length.
    """
    x = np.asarray(samples, dtype=np.float64)
    meter = LoudnessMeter(sample_rate, x.shape[1])
    if 0 < len(x) < 4 * meter._step:
        power = float(np.mean(np.sum(meter._filter.process(x) ** 2, axis=1)))
        return max(SILENCE_LUFS, _loudness_of(power))
    meter.add(x)
    return meter.integrated_lufs()


def level_match_lu(untreated: npt.ArrayLike, treated: npt.ArrayLike, *, sample_rate: float) -> float:
    """Gain in LU that makes `treated` as loud as `untreated`; both (n, channels).

    0 where one of the two is silent: there is nothing to match then.
    """
    before = gated_loudness(untreated, sample_rate=sample_rate)
    after = gated_loudness(treated, sample_rate=sample_rate)
    if SILENCE_LUFS in (before, after):
        return 0.0
    return before - after


_PHASES, _TAPS = 4, 12  # BS.1770-5 annex 2: four times oversampling, 12 taps a phase


class TruePeakMeter:
    """Streaming true peak: four times oversampled (BS.1770-5 annex 2, with a Kaiser window)."""

    def __init__(self, channels: int) -> None:
        from scipy.signal import firwin  # slow to load

        prototype = firwin(_PHASES * _TAPS - 1, 1.0 / _PHASES, window=("kaiser", 5.0)) * _PHASES
        padded = np.append(prototype, 0.0)
        self._taps = np.ascontiguousarray(padded.reshape(_TAPS, _PHASES).T[:, ::-1])
        self._tail = np.zeros((_TAPS - 1, channels))
        self._channels = channels
        self._top = 0.0

    def add(self, block: npt.ArrayLike) -> float:
        """Take the next samples (n, channels); the largest amplitude among and between them."""
        x = np.concatenate([self._tail, checked_block(block, self._channels)])
        self._tail = x[len(x) - (_TAPS - 1) :]
        top = float(oversampled_peak(np.ascontiguousarray(x.T), self._taps, float(np.max(np.abs(x)))))
        self._top = max(self._top, top)
        return top

    def peak_dbtp(self) -> float:
        """Largest peak so far in dB relative to full scale; SILENCE_LUFS when silent."""
        return 20.0 * math.log10(self._top) if self._top > 1e-6 else SILENCE_LUFS


def true_peak(samples: npt.ArrayLike) -> float:
    """True peak in dBTP of a whole recording (n, channels)."""
    x = np.asarray(samples, dtype=np.float64)
    meter = TruePeakMeter(x.shape[1])
    meter.add(x)
    meter.add(np.zeros((_TAPS, x.shape[1])))
    return meter.peak_dbtp()
