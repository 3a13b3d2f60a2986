"""What contours take of many frames: quantiles, and the least and the greatest level near each point.

As `numpy.quantile`, `scipy.ndimage.minimum_filter1d` and `maximum_filter1d` do it, several times as fast for what a
look holds: some hundred frames of some hundred points, sorted once for all quantiles.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from mivlo.core.spectra import Singles

_Pair = Callable[..., Singles]


def quantiles_of(levels: Singles, shares: Sequence[float]) -> Singles:
    """(shares, points): quantiles over the frames of levels (frames, points), straight between two of them."""
    ranked = np.sort(np.ascontiguousarray(levels.T), axis=1)
    last = ranked.shape[1] - 1
    at = np.asarray(shares) * last
    below = np.minimum(at.astype(int), max(last - 1, 0))
    low, high = ranked[:, below], ranked[:, np.minimum(below + 1, last)]
    return np.asarray((low + (high - low) * (at - below).astype(np.float32)).T)


def _near(pair: _Pair, levels: Singles, points: int, nothing: float) -> Singles:
    """Of each point's window of 2 `points` + 1; beyond the ends stands `nothing`, which never counts.

    All frames are one row, so that each step is one long loop; windows of twice the length come of two of the length.
    """
    frames, count = levels.shape
    wide, window = count + points, 2 * points + 1
    row = np.full(points + frames * wide, nothing, dtype=levels.dtype)
    row[points:].reshape(frames, wide)[:, :count] = levels
    length = 1
    while 2 * length <= window:
        row, length = pair(row[:-length], row[length:]), 2 * length
    if length < window:
        row = pair(row[: length - window], row[window - length :])
    out = np.empty((frames, wide), dtype=levels.dtype)
    out.reshape(-1)[: len(row)] = row
    return out[:, :count]


def least_near(levels: Singles, points: int) -> Singles:
    """The least of levels (frames, points) within so many points on each side."""
    return _near(np.minimum, levels, points, np.inf)


def greatest_near(levels: Singles, points: int) -> Singles:
    """The greatest of levels (frames, points) within so many points on each side."""
    return _near(np.maximum, levels, points, -np.inf)
