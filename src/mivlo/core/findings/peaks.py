"""Peaks of a curve, as `scipy.signal.find_peaks` finds them.

Written out because loading `scipy.signal` takes longer than looking at ten seconds of sound; a test holds both equal.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Indices = npt.NDArray[np.int64]


def find_peaks(values: npt.ArrayLike, *, height: float, distance: int) -> Indices:
    """Places of the local maxima that are at least `height` high and `distance` apart, the higher ones first served.

    Parameters
    ----------
    values : (n,). The middle of a flat top counts; the ends are no peaks.
    height : least value.
    distance : least number of steps between two, >= 1.
    """
    x = np.asarray(values, dtype=np.float64)
    found = _maxima(x)
    found = found[x[found] >= height]
    keep = np.ones(len(found), dtype=bool)
    for i in np.argsort(x[found], kind="quicksort")[::-1]:
        if keep[i]:
            near = np.abs(found - found[i]) < distance
            near[i] = False
            keep &= ~near
    return found[keep]


def _maxima(x: npt.NDArray[np.float64]) -> Indices:
    """Local maxima; of a flat top its middle, rounded down."""
    if len(x) < 3:
        return np.zeros(0, dtype=np.int64)
    starts = np.flatnonzero(np.diff(x) != 0) + 1  # where a run of equal values begins
    starts = np.concatenate([[0], starts])
    stops = np.concatenate([starts[1:], [len(x)]]) - 1
    level = x[starts]
    top = np.zeros(len(level), dtype=bool)
    top[1:-1] = (level[1:-1] > level[:-2]) & (level[1:-1] > level[2:])
    return np.asarray((starts[top] + stops[top]) // 2, dtype=np.int64)
