"""Many sines at once, compiled: each note of the demo has up to forty partials.

Each sine is turned on from the one before instead of being asked for anew: the tracks differ by less than 1e-7 of full
scale from those whose sines were.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from mivlo.core.units import Floats


def harmonics(phase: Floats, levels: Floats, offset: float = 0.0) -> Floats:
    """Sum of levels[n - 1] * sin(n * (phase + offset)), n from 1; phase (n,) in radians."""
    return np.asarray(_harmonics(phase + offset, np.asarray(levels, dtype=np.float64)))


def add_ring(out: Floats, frequency_hz: float, level: float, decay_s: float, rate: int, phase: float = 0.0) -> None:
    """Add a sine that falls by 60 dB in a time; `phase` in radians at its beginning."""
    turn = 2.0 * math.pi * frequency_hz / rate
    _add_ring(out, math.exp(-6.9 / (decay_s * rate)), turn, level, phase)


@njit(cache=True, nogil=True)
def _harmonics(phase: Floats, levels: Floats) -> Floats:
    out = np.empty(len(phase))
    for i in range(len(phase)):
        s, c = math.sin(phase[i]), math.cos(phase[i])
        sn, cn = s, c
        total = levels[0] * s
        for n in range(1, len(levels)):
            sn, cn = sn * c + cn * s, cn * c - sn * s
            total += levels[n] * sn
        out[i] = total
    return out


@njit(cache=True, nogil=True)
def _add_ring(out: Floats, fall: float, turn: float, level: float, phase: float) -> None:
    real, imaginary = level * math.cos(phase), level * math.sin(phase)
    by, across = fall * math.cos(turn), fall * math.sin(turn)
    for i in range(len(out)):
        out[i] += imaginary
        real, imaginary = real * by - imaginary * across, real * across + imaginary * by
