"""How long a band rings on once nothing drives it any more, and at which frequency."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit
from scipy import fft as scipy_fft

from mivlo.core.units import Floats, octaves_to_q, ring_time_s

NARROWEST_OCT = 1.0 / 12.0
_MOST_FALLS = 400
SLOWEST_S = 4.0
"""What falls more slowly is played softer, it does not ring (common practice, no source)."""


@dataclass(frozen=True, slots=True)
class Decay:
    """How a band falls.

    ring_s : time for 60 dB, the median over the falls.
    frequency_hz : of what rings, from its phase; 0 where too few falls were seen.
    spread_cents : how far single falls lie from that.
    times_ms, db : the longest fall, for drawing.
    """

    ring_s: float
    frequency_hz: float
    spread_cents: float
    times_ms: tuple[float, ...]
    db: tuple[float, ...]


class WholeSpectrum:
    """One transform of a whole sound, from which narrow bands are taken cheaply.

    x : (n,) mono.
    breaks : samples at which the sound jumps; a fall across one is none.
    """

    def __init__(self, x: npt.ArrayLike, *, sample_rate: float, breaks: Sequence[int] = ()) -> None:
        samples = np.asarray(x, dtype=np.float32)
        self._length = scipy_fft.next_fast_len(len(samples) + int(0.2 * sample_rate), real=True)
        self._frames = len(samples)
        self._bins = scipy_fft.rfft(samples, n=self._length)
        self._rate = sample_rate
        self._breaks = np.asarray(breaks, dtype=np.float64)

    @property
    def seconds(self) -> float:
        """How long the sound is."""
        return self._frames / self._rate

    def band(self, frequency_hz: float, width_hz: float) -> tuple[npt.NDArray[np.complex128], float, float]:
        """The band as (samples of its complex envelope, their rate, the frequency at which its phase stands still).

        The band is a Gaussian of `width_hz` between the points 3 dB down: no ringing but the least possible.
        """
        per_bin = self._rate / self._length
        middle = round(frequency_hz / per_bin)
        reach = min(int(np.ceil(2.0 * width_hz / per_bin)) + 2, middle, len(self._bins) - middle)
        size = scipy_fft.next_fast_len(2 * reach)
        offsets = np.arange(-reach, reach)
        weights = np.exp(-2.0 * math.log(2.0) * (offsets * per_bin / width_hz) ** 2)
        piece = np.zeros(size, dtype=np.complex128)
        piece[offsets % size] = self._bins[middle + offsets] * weights
        envelope = scipy_fft.ifft(piece) * (2.0 * size / self._length)
        rate = self._rate * size / self._length
        return envelope[: max(1, int(self._frames / self._rate * rate))], rate, middle * per_bin

    def reaches(self, frequency_hz: float) -> bool:
        """Whether there is a band about a frequency: neither below the first bin nor beyond half the rate."""
        return 1 <= round(frequency_hz * self._length / self._rate) < len(self._bins) - 1

    def line_share(self, frequency_hz: float, octaves: float, width_hz: float) -> float:
        """Share of a band's power that lies in its strongest `width_hz`: near 1 for one line, small for a hiss."""
        per_bin = self._rate / self._length
        low, high = (frequency_hz * 2.0 ** (by * max(octaves, 1 / 24) / 2.0) / per_bin for by in (-1.0, 1.0))
        piece = self._bins[int(low) : int(high) + 1]
        power = piece.real.astype(np.float64) ** 2 + piece.imag.astype(np.float64) ** 2
        sums = np.concatenate([[0.0], np.cumsum(power)])
        wide = min(max(1, round(width_hz / per_bin)), len(power))
        return float(np.max(sums[wide:] - sums[:-wide]) / max(sums[-1], 1e-30)) if len(power) else 1.0

    def jumps(self, rate: float) -> npt.NDArray[np.int64]:
        """The breaks as samples of an envelope at `rate`."""
        return np.asarray(self._breaks * rate / self._rate, dtype=np.int64)


def measure_decay(spectrum: WholeSpectrum, frequency_hz: float, octaves: float) -> Decay | None:
    """Fit the straight falls of a band's level; None when it never falls freely by 10 dB, or there is no such band.

    The band is that of the spot, at least 1/12 octave. Falls are stretches of 40 ms or more in which the
    level goes down; their slope in dB/s is a line fitted to the first 25 dB (the straight part in the
    sense of ISO 3382: evaluation over a limited range, extrapolated to 60 dB).
    """
    if not spectrum.reaches(frequency_hz):
        return None
    octave = max(octaves, NARROWEST_OCT)
    width = frequency_hz * (2.0 ** (octave / 2.0) - 2.0 ** (-octave / 2.0))
    slow, rate, centre = spectrum.band(frequency_hz, width)
    level = 20.0 * np.log10(np.abs(slow) + 1e-9)
    falls = _falls(level, rate, float(np.quantile(level, 0.98)), spectrum.jumps(rate))
    fits = np.array([_fit(level, slow, int(a), int(b), rate) for a, b in falls]).reshape(-1, 3)
    straight = fits[:, 0] < -60.0 / SLOWEST_S
    if not straight.any():
        return None
    starts, slopes, tones, lengths = falls[straight, 0], *fits[straight].T
    middle = float(np.median(np.repeat(tones, lengths.astype(int))))
    spread = 1200.0 / math.log(2.0) * float(np.median(np.abs(tones - middle))) / frequency_hz
    longest = int(np.argmax(lengths))
    a, stop = int(starts[longest]), int(starts[longest] + lengths[longest])
    drawn = np.linspace(a, stop - 1, min(60, stop - a)).astype(int)
    return Decay(
        ring_s=float(np.median(-60.0 / slopes)),
        frequency_hz=centre + middle if len(tones) >= 2 or stop - a > 0.25 * rate else 0.0,
        spread_cents=spread,
        times_ms=tuple(np.round(1000.0 * (drawn - a) / rate, 1).tolist()),
        db=tuple(np.round(level[drawn] - level[a], 1).tolist()),
    )


_FITTED_DB = 25.0


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _fit(level: Floats, slow: npt.NDArray[np.complex128], a: int, b: int, rate: float) -> tuple[float, float, float]:
    """(slope in dB/s, offset of the tone in Hz, samples) of the first 25 dB of the fall a..b; slope 0 if too short.

    The line is fitted by least squares; the tone is the mean step of the phase, weighted by power.
    """
    stop = a
    while stop < b and level[stop] >= level[a] - _FITTED_DB:
        stop += 1
    n = stop - a
    if n < 4:
        return 0.0, 0.0, float(n)
    middle = 0.5 * (n - 1)
    along, square, turn = 0.0, 0.0, 0j
    for i in range(n):
        along += (i - middle) * level[a + i]
        square += (i - middle) ** 2
        if i:
            turn += slow[a + i] * np.conj(slow[a + i - 1])
    return along / square * rate, np.angle(turn) * rate / (2.0 * np.pi), float(n)


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _falls(level: Floats, rate: float, top: float, jumps: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
    """Stretches that go down by 10 dB or more within the upper 50 dB; a small rise does not end one."""
    out = np.empty((_MOST_FALLS, 2), dtype=np.int64)
    found, a, lowest, jump = 0, 0, 0, 0
    for i in range(1, len(level) + 1):
        at_jump = jump < len(jumps) and i >= jumps[jump]
        over = i == len(level) or at_jump or level[i] > level[lowest] + 1.5 or level[i] < top - 50.0
        if over:
            deep = level[a] - level[lowest] >= 10.0 and lowest - a >= 0.04 * rate and level[a] > top - 30.0
            if deep and found < _MOST_FALLS:
                out[found, 0] = a
                out[found, 1] = lowest + 1
                found += 1
            if i == len(level):
                break
            if at_jump:
                jump += 1
            a = i
            lowest = i
        elif level[i] < level[lowest]:
            lowest = i
        if level[i] > level[a]:
            a = i
            lowest = i
    return out[:found]


def own_ring_ms(frequency_hz: float, octaves: float) -> float:
    """How long a resonance of this width rings by itself: nothing shorter can be told from the way of looking."""
    return 1000.0 * ring_time_s(frequency_hz, octaves_to_q(max(octaves, NARROWEST_OCT)))
