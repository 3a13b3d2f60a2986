"""A sound in fewer samples, where only its low frequencies are looked at."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import TypeVar

import numpy as np

from mivlo.core.spectra import Singles
from mivlo.core.units import Floats

Samples = TypeVar("Samples", Singles, Floats)

_KEPT = 0.38
"""What of a thinned sound's rate is kept: what folds lies above 1 - 0.38 of it."""
_FOLDED_DB = 100.0
_LEAST, _MOST = 3, 16
_AT_ONCE = 16_384
"""Samples that come out: as much as stays near at hand."""


def thinning_for(steps: int, samples_per_cycle: float) -> int:
    """The largest divisor of `steps` by which a sound may be thinned: what is looked at has so many samples a cycle."""
    most = int(min(_MOST, _KEPT * samples_per_cycle))
    return max((by for by in range(_LEAST, most + 1) if steps % by == 0), default=1)


def thinned(sound: Singles, by: int) -> Singles:
    """One in `by` samples of a sound (n,), what they can't hold filtered out; silence beyond both ends.

    Frequencies to 0.38 of the new rate keep their level.
    """
    if by == 1:
        return sound
    taps = _steep(by)
    rows, count = len(taps), -(-len(sound) // by)
    ahead = taps.size // 2
    padded = np.zeros((count + rows - 1) * by, dtype=np.float32)
    inside = sound[: len(padded) - ahead]
    padded[ahead : ahead + len(inside)] = inside
    return sampled_less(padded, taps)


@lru_cache(maxsize=_MOST)
def _steep(by: int) -> Singles:
    """Taps about a sample: what would fold into what is kept is 100 dB down (Kaiser 1974)."""
    transition = 2.0 * math.pi * (1.0 - 2.0 * _KEPT) / by
    rows = math.ceil((_FOLDED_DB - 7.95) / (2.285 * transition) / by)
    beta = 0.1102 * (_FOLDED_DB - 8.7)
    return windowed_sinc(by, rows, middle=rows * by // 2, cut=0.5, beta=beta).astype(np.float32)


def windowed_sinc(by: int, rows: int, *, middle: float, cut: float, beta: float) -> Floats:
    """(rows, by) taps, one after the other, that pass what lies below `cut` of a rate that is `by` times lower.

    middle : where among the taps they are the same on either side. beta : of Kaiser's window.
    """
    at = np.arange(rows * by) - middle
    taps = np.sinc(2.0 * cut * at / by) * np.kaiser(round(2.0 * middle) + 1, beta)[: len(at)]
    return np.asarray((taps / np.sum(taps)).reshape(rows, by))


def sampled_less(sound: Samples, taps: Samples) -> Samples:
    """Every so many samples of a sound (n,), through taps (rows, so many); only where all of them lie inside.

    Each row of taps is multiplied with each piece of so many samples in one product; what lies on a diagonal belongs
    together.
    """
    rows, by = taps.shape
    pieces = sound[: len(sound) // by * by].reshape(-1, by)
    out = np.zeros(len(pieces) - rows + 1, dtype=sound.dtype)
    for first in range(0, len(out), _AT_ONCE):
        some = out[first : first + _AT_ONCE]
        for row, product in enumerate(taps @ pieces[first : first + len(some) + rows - 1].T):
            some += product[row : row + len(some)]
    return out
