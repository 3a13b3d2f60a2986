"""What bends a waveform, at eight times the rate, so that what it makes above half of the rate does not fold back."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import lru_cache

import numba as nb
import numpy as np
import numpy.typing as npt

from mivlo.core.processors.protocol import checked_block
from mivlo.core.units import Floats

TIMES = 8
LATENCY = 72
"""Frames by which up and down together are late."""
_STOP_DB = 110.0
_CUT = 0.5 * 0.955
"""Of the rate, the middle of the filter's slope: flat to 20 kHz at 44.1 kHz."""


@lru_cache
def _taps() -> Floats:
    """The filter for up and down, (TIMES * LATENCY + 1,), of linear phase and unit gain."""
    from scipy import signal  # takes long to load, and few need it

    window = ("kaiser", signal.kaiser_beta(_STOP_DB))
    return np.asarray(signal.firwin(TIMES * LATENCY + 1, _CUT, window=window, fs=float(TIMES)))


@nb.njit(cache=True, nogil=True, fastmath=True)
def _up(history, phases, out):  # type: ignore[no-untyped-def]
    """out (TIMES n, ch) of history (length - 1 + n, ch): each frame makes TIMES. phases (TIMES, length), reversed."""
    times, length = phases.shape
    count, channels = out.shape[0] // times, out.shape[1]
    for c in range(channels):
        for n in range(count):
            for p in range(times):
                total = 0.0
                for k in range(length):
                    total += phases[p, k] * history[c, n + k]
                out[n * times + p, c] = total


@nb.njit(cache=True, nogil=True, fastmath=True)
def _down(history, taps, times, out):  # type: ignore[no-untyped-def]
    """out (n, ch) of history (ch, len(taps) - 1 + times n): every times-th sample of the filtered sound."""
    length = taps.shape[0]
    for c in range(out.shape[1]):
        for n in range(out.shape[0]):
            part = history[c, n * times : n * times + length]
            total = 0.0
            for k in range(length):
                total += taps[k] * part[k]
            out[n, c] = total


class Oversampled:
    """A function of a waveform at TIMES the rate, as a stream: LATENCY frames late.

    `bend` takes the frames at the higher rate, (n, channels), and gives as many.
    """

    def __init__(self, channels: int, bend: Callable[[Floats], Floats]) -> None:
        self.channels, self.bend = channels, bend
        taps = _taps()
        length = -(-len(taps) // TIMES)
        padded = np.concatenate([taps, np.zeros(length * TIMES - len(taps))])
        self._phases = np.ascontiguousarray(TIMES * padded.reshape(length, TIMES).T[:, ::-1])
        self._taps = taps
        self._before = np.zeros((channels, length - 1))
        self._behind = np.zeros((channels, len(taps) - 1))

    def process(self, block: npt.ArrayLike) -> Floats:
        """The next samples: (n, channels) in and out."""
        x = checked_block(block, self.channels)
        if not len(x):
            return x
        history = np.ascontiguousarray(np.concatenate([self._before, x.T], axis=1))
        self._before = history[:, len(x) :]
        high = np.empty((TIMES * len(x), self.channels))
        _up(history, self._phases, high)
        bent = np.ascontiguousarray(np.concatenate([self._behind, self.bend(high).T], axis=1))
        self._behind = bent[:, TIMES * len(x) :]
        out = np.empty_like(x)
        _down(bent, self._taps, TIMES, out)
        return out

    def state(self) -> tuple[Floats, Floats]:
        """A copy of its memory."""
        return self._before.copy(), self._behind.copy()

    def restore(self, state: tuple[Floats, Floats]) -> None:
        """Go on from a copy."""
        self._before, self._behind = state[0].copy(), state[1].copy()


@nb.njit(cache=True, nogil=True, inline="always")
def _log_cosh(x):  # type: ignore[no-untyped-def]
    x = abs(x)
    return x + math.log1p(math.exp(-2.0 * x)) - 0.6931471805599453


@nb.njit(cache=True, nogil=True, inline="always")
def _clipped(x, ceiling, hardness):  # type: ignore[no-untyped-def]
    """Straight up to hardness times the ceiling, then bent towards it."""
    knee = hardness * ceiling
    size = abs(x)
    if size <= knee:
        return x
    room = ceiling - knee
    over = room * math.tanh((size - knee) / room) if room > 1e-9 * ceiling else 0.0
    return math.copysign(knee + over, x)


@nb.njit(cache=True, nogil=True, inline="always")
def _integral(x, ceiling, hardness):  # type: ignore[no-untyped-def]
    """The integral of `_clipped` from 0."""
    knee = hardness * ceiling
    size = abs(x)
    if size <= knee:
        return 0.5 * x * x
    room = ceiling - knee
    bent = room * room * _log_cosh((size - knee) / room) if room > 1e-9 * ceiling else 0.0
    return 0.5 * knee * knee + knee * (size - knee) + bent


@nb.njit(cache=True, nogil=True)
def clip(x, last, ceiling, hardness):  # type: ignore[no-untyped-def]
    """Bend x (n, ch) in place; last (ch,): the sample before.

    The mean of the curve between two samples in place of its value at one (antiderivative antialiasing: J. Parker,
    V. Zavalishin, E. Le Bivic, "Reducing the aliasing of nonlinear waveshaping using continuous-time convolution",
    DAFx 2016): what would fold back from around multiples of the rate is taken down with its nulls there.
    """
    for c in range(x.shape[1]):
        before = last[c]
        whole = _integral(before, ceiling, hardness)
        for n in range(x.shape[0]):
            here = x[n, c]
            mine = _integral(here, ceiling, hardness)
            if abs(here - before) > 1e-5:
                x[n, c] = (mine - whole) / (here - before)
            else:
                x[n, c] = _clipped(0.5 * (here + before), ceiling, hardness)
            before, whole = here, mine
        last[c] = before


@nb.njit(cache=True, nogil=True)
def add_harmonics(band, envelope, gain, out):  # type: ignore[no-untyped-def]
    """Second and, half as strong, third harmonic of band (n, ch), as loud as envelope (n, ch) times gain, into out.

    Chebyshev's polynomials make of a sine as high as its envelope that harmonic and nothing else; what is higher is
    bent first, so that a hit does not make them explode.
    """
    for c in range(band.shape[1]):
        for n in range(band.shape[0]):
            size = envelope[n, c]
            if size > 1e-9:
                u = band[n, c] / size
                w = 1.25 * u / (1.0 + 0.25 * u * u)
                out[n, c] += gain * size * ((2.0 * w * w - 1.0) + 0.5 * (4.0 * w * w - 3.0) * w)
