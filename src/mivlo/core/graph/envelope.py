"""When a move acts: 1 within its stretches, 0 outside, with short fades inside them."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence

import numpy as np

from mivlo.core.graph.glide import s_curve
from mivlo.core.units import Floats

LARGEST_FADE = 0.25
"""A fade takes at most this share of its stretch."""


def envelope(
    stretches: Sequence[tuple[float, float]], fade_ms: float, start: int, stop: int, *, sample_rate: int
) -> Floats:
    """How much a move acts over the frames start to stop: (n,), 0 to 1.

    Parameters
    ----------
    stretches : spans in seconds, in order, apart from each other.
    fade_ms : time to come, and to go.
    """
    out = np.zeros(stop - start)
    first = bisect_right(stretches, start / sample_rate, key=lambda s: s[1])
    for from_s, to_s in stretches[first:]:
        begin, end = round(from_s * sample_rate), round(to_s * sample_rate)
        if begin >= stop:
            break
        low, high = max(begin, start), min(end, stop)
        if high <= low:
            continue
        fade = max(1, min(round(fade_ms * sample_rate / 1000.0), int(LARGEST_FADE * (end - begin))))
        at = np.arange(low, high)
        near = np.minimum(at - begin, end - 1 - at) + 1
        out[low - start : high - start] = s_curve(np.minimum(1.0, near / fade))
    return out
