"""More of the same: all moments of a recording where what stands out at one spot stands out again.

The spot's patch of the short-time spectrum (level in dB over log frequency and time) is laid over every other moment;
their normalised correlation says how alike they are (J. P. Lewis, "Fast normalized cross-correlation", 1995). The
patch is wider than the spot, so that what lies beside it counts as well: a whistle is a line with nothing beside it.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy import fft

from mivlo.core.errors import InvalidValue
from mivlo.core.units import Floats

HOP_S, WINDOW_S = 0.005, 0.023
POINTS_PER_OCTAVE = 12
BESIDE_OCT = 0.5
BEFORE_S = 0.02
LEAST_ALIKE = 0.8
LEAST_LEVEL_DB = -15.0
"""A moment counts where the spot is at most so far below the one that was chosen."""
SHORTEST_S, LONGEST_S = 0.02, 2.0
_DEEP_DB = 45.0
_PIECE = 512


@dataclass(frozen=True, slots=True)
class Moment:
    """From and to in s, and how alike it is, 0 to 1."""

    from_s: float
    to_s: float
    strength: float


def find_alike(
    sound: npt.ArrayLike,
    *,
    sample_rate: float,
    from_hz: float,
    to_hz: float,
    from_s: float,
    to_s: float,
    least: float = LEAST_ALIKE,
    patch: Floats | None = None,
) -> list[Moment]:
    """All moments of a sound (n, channels) that are like the spot between two frequencies and two times, in order.

    patch : of the spot (`patch_of`), where it lies in another sound (of the same rate).

    Raises
    ------
    InvalidValue : the spot is no stretch of the sound, or too short or too long.
    """
    _check(sample_rate, from_hz, to_hz, from_s, to_s)
    levels = _levels(np.asarray(sound), sample_rate, from_hz, to_hz)
    if patch is None:
        patch = _cut_out(levels, from_s, to_s)
    score, loud = _scores(levels, patch, _inside(from_hz, to_hz, levels.shape[1], sample_rate))
    out: list[Moment] = []
    lead = round(from_s / HOP_S) - _first(from_s)
    for at in _peaks(score, len(patch), least):
        if loud[at] > LEAST_LEVEL_DB:
            start = (at + lead) * HOP_S
            out.append(Moment(round(start, 3), round(start + to_s - from_s, 3), round(float(score[at]), 3)))
    return out


def patch_of(
    sound: npt.ArrayLike, *, sample_rate: float, from_hz: float, to_hz: float, from_s: float, to_s: float
) -> Floats:
    """A spot of a sound, to be looked for in others. InvalidValue as for `find_alike`."""
    _check(sample_rate, from_hz, to_hz, from_s, to_s)
    return _cut_out(_levels(np.asarray(sound), sample_rate, from_hz, to_hz), from_s, to_s)


def _check(sample_rate: float, from_hz: float, to_hz: float, from_s: float, to_s: float) -> None:
    if not 0.0 < from_hz < to_hz <= 0.49 * sample_rate:
        raise InvalidValue("to_hz", to_hz, "a spot has to lie within what the recording can hold")
    if len(_grid(from_hz, to_hz, sample_rate)) < 3:
        raise InvalidValue("to_hz", to_hz, "a spot has to reach above 40 Hz")
    if not SHORTEST_S <= to_s - from_s <= LONGEST_S:
        raise InvalidValue("to_s", to_s, f"a spot lasts {SHORTEST_S:g} to {LONGEST_S:g} s")


def _first(from_s: float) -> int:
    """The frame at which a patch begins: a little before its spot."""
    return max(0, round((from_s - BEFORE_S) / HOP_S))


def _cut_out(levels: Floats, from_s: float, to_s: float) -> Floats:
    last = round((to_s + BEFORE_S) / HOP_S)
    if last > len(levels):
        raise InvalidValue("to_s", to_s, "the recording ends before")
    return levels[_first(from_s) : last]


def _grid(from_hz: float, to_hz: float, sample_rate: float) -> Floats:
    low = max(from_hz / 2.0**BESIDE_OCT, 40.0)
    high = min(to_hz * 2.0**BESIDE_OCT, 0.49 * sample_rate)
    return np.asarray(low * 2.0 ** np.arange(0.0, max(0.0, math.log2(high / low)), 1.0 / POINTS_PER_OCTAVE))


def _inside(from_hz: float, to_hz: float, points: int, sample_rate: float) -> npt.NDArray[np.bool_]:
    grid = _grid(from_hz, to_hz, sample_rate)
    inside = (grid >= from_hz) & (grid <= to_hz)
    if not inside.any():
        inside[np.argmin(np.abs(np.log(grid / math.sqrt(from_hz * to_hz))))] = True
    return inside[:points]


def _levels(x: npt.NDArray[np.floating], rate: float, from_hz: float, to_hz: float) -> Floats:
    """Level in dB every HOP_S: (frames, points). Low spots get a longer window, or they could not be told apart."""
    grid = _grid(from_hz, to_hz, rate)
    seconds = max(WINDOW_S, 6.0 / from_hz)
    length = 1 << max(6, round(math.log2(seconds * rate)))
    hop = HOP_S * rate
    count = max(1, int(len(x) / hop))
    window = np.hanning(length)
    mono = np.concatenate([np.zeros(length // 2), np.mean(x, axis=1), np.zeros(length)])
    bin_hz = rate / length
    half = 2.0 ** (1.0 / POINTS_PER_OCTAVE)  # bands that overlap by half: what comes again is never at the same cent
    low = np.clip(np.floor(grid / half / bin_hz).astype(int), 0, length // 2 - 1)
    high = np.clip(np.ceil(grid * half / bin_hz).astype(int), low + 1, length // 2 + 1)
    out = np.empty((count, len(grid)))
    for start in range(0, count, _PIECE):
        stop = min(count, start + _PIECE)
        at = np.round(np.arange(start, stop) * hop).astype(int)
        power = np.abs(fft.rfft(mono[at[:, None] + np.arange(length)] * window, axis=1)) ** 2
        whole = np.concatenate([np.zeros((len(power), 1)), np.cumsum(power, axis=1)], axis=1)
        out[start:stop] = 10.0 * np.log10(np.maximum(whole[:, high] - whole[:, low], 0.0) / (high - low) + 1e-9)
    return out


def _standing_out(levels: Floats, floor_db: float) -> Floats:
    """How far each point stands over what lies around it in the same moment; what is far below the spot does not."""
    heard = np.maximum(levels, floor_db)
    return np.asarray(heard - np.mean(heard, axis=1, keepdims=True))


def _scores(levels: Floats, patch: Floats, inside: npt.NDArray[np.bool_]) -> tuple[Floats, Floats]:
    """How alike each place is, and how loud the spot is there against the patch, in dB."""
    reach = len(patch)
    count = len(levels) - reach + 1
    floor_db = float(patch.max()) - _DEEP_DB
    wanted = _standing_out(patch, floor_db)
    size = float(np.sqrt(np.sum(wanted * wanted))) or 1.0
    loud_there = float(np.max(np.mean(patch[:, inside], axis=1)))
    score, loud = np.zeros(max(count, 0)), np.full(max(count, 0), -200.0)
    views = np.lib.stride_tricks.sliding_window_view(_standing_out(levels, floor_db), reach, axis=0)
    flat = wanted.T.reshape(-1)
    for start in range(0, count, _PIECE):
        some = views[start : start + _PIECE].reshape(min(_PIECE, count - start), -1)
        spread = np.sqrt(np.maximum(np.einsum("ij,ij->i", some, some), 1e-9))
        score[start : start + len(some)] = (some @ flat) / (spread * size)
    band = np.mean(levels[:, inside], axis=1)
    for at in range(count):
        loud[at] = band[at : at + reach].max() - loud_there
    return score, loud


def _peaks(score: Floats, reach: int, least: float) -> list[int]:
    """The highest places, none nearer than half a patch to a higher one, in order."""
    out: list[int] = []
    free = np.ones(len(score), dtype=bool)
    for at in np.argsort(-score):
        if score[at] < least:
            break
        if free[at]:
            out.append(int(at))
            free[max(0, at - reach // 2) : at + reach // 2 + 1] = False
    return sorted(out)
