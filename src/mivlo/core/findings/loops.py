"""The passage in which a finding is listened to: from an onset on, long enough for what rings to be heard ringing."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from mivlo.core.units import Floats

LOOP_S = 4.0
LONGEST_S = 8.0
BEFORE_S = 4.0
"""So far before the place an onset is looked for."""
_STEP_S = 0.01
_RISE_DB, _WITHIN_DB = 6.0, 30.0
"""An onset rises by so much within 30 ms, and is at most so far below what is loud here."""
_LEAD_S = 0.02
_MOST_TAIL_S = 3.0


def onsets_s(mono: npt.ArrayLike, *, sample_rate: float) -> Floats:
    """(m,) times in s at which a sound (n,) begins or is struck anew: rises of 6 dB within 30 ms."""
    x = np.asarray(mono, dtype=np.float64)
    step = max(1, round(_STEP_S * sample_rate))
    frames = len(x) // step
    if frames < 5:
        return np.zeros(0)
    power = np.mean(x[: frames * step].reshape(frames, step) ** 2, axis=1)
    level = 10.0 * np.log10(power + 1e-12)
    lowest = np.min(
        np.lib.stride_tricks.sliding_window_view(np.pad(level, (3, 0), constant_values=level[0]), 3), axis=1
    )
    rises = level - lowest[: len(level)]
    is_onset = (rises >= _RISE_DB) & (level > np.max(level) - _WITHIN_DB)
    first = is_onset & ~np.concatenate([[False], is_onset[:-1]])
    return np.flatnonzero(first) * step / sample_rate


def loop_around(
    mono: npt.ArrayLike, *, sample_rate: float, at_s: float, until_s: float = 0.0, ring_s: float = 0.0
) -> tuple[float, float]:
    """(from, to) in s within a sound (n,): a loop that holds a place and its tail.

    Parameters
    ----------
    at_s : where it stands out most.
    until_s : how far it goes from there; 0 where it is a place only.
    ring_s : for how long it rings on; what comes after the place is at least so long, up to 3 s.

    Begins just before the last onset that is at least 50 ms before the place, or LOOP_S / 2 before it where there is
    none; LOOP_S long or as long as the tail asks, at most LONGEST_S. Where another onset follows the end within half a
    second, it ends just before that one, so that the loop is played as a phrase.
    """
    length = len(np.asarray(mono)) / sample_rate
    at = min(max(at_s, 0.0), length)
    begins = onsets_s(mono, sample_rate=sample_rate)
    before = begins[(begins <= at - 0.05) & (begins >= at - BEFORE_S + 1.0)]
    start = float(before[-1]) - _LEAD_S if len(before) else at - LOOP_S / 2.0
    start = max(0.0, min(start, length - LOOP_S))
    end = max(start + LOOP_S, max(at, until_s) + min(ring_s, _MOST_TAIL_S))
    end = min(end, start + LONGEST_S)
    after = begins[(begins - _LEAD_S >= end) & (begins - _LEAD_S <= end + 0.5)]
    if len(after):
        end = min(float(after[0]) - _LEAD_S, start + LONGEST_S)
    return start, min(end, length)
