"""An adaptive move frozen: a few ordinary moves that take away most of what it takes, so that it can be handed over.

What is to be met are the gains that the adaptive move had, at every moment and frequency, weighted by the power that
was there: so the sound that is taken away is what is fitted, not a curve. Moves are chosen one after the other, each
where it brings most (matching pursuit), then each is chosen again beside all others. A move may stay, follow the level
of its own band, or act at the moments at which it brings more than it harms; the plainer one wins where it is nearly as
good.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

import numba as nb
import numpy as np
import numpy.typing as npt

from mivlo.core.graph import treated_blocks
from mivlo.core.making.standing_out import Picture, picture_of
from mivlo.core.moves import AdaptiveMove, DynamicMove, Entry, Shape, StaticMove, Treatment
from mivlo.core.moves.entry import Stretch
from mivlo.core.moves.kinds import curve_db
from mivlo.core.processors.adaptive import HOPS, fft_hann, window_frames
from mivlo.core.spectra import short_spectra
from mivlo.core.units import Floats, octaves_to_q

Progress = Callable[[float], None]
MOST = 6
WIDTHS_OCT = (0.06, 0.1, 0.16, 0.25, 0.4, 0.65, 1.0)
_LEVELS = 13
"""Depths that are looked at, from none to the deepest cut that the adaptive move made there."""
LEAST_DB = 0.3
_SHARES = (0.05, 0.15, 0.3, 0.5)
_PLACES = 5
LEAST_GAIN = 0.004
"""A move has to bring so much of what was taken away, or it is left out."""
PLAINER = 0.9
"""A move that always acts wins over one that listens, and that over one at moments, from so much of its worth on."""
_TURN = 4e-4
"""What another stretch has to bring at the least."""
MOST_STRETCHES = 60
_ROUNDS = 2


@dataclass(frozen=True, slots=True)
class Frozen:
    """The moves, and how much of what the adaptive move takes away they explain, 0 to 1 (see `explained`)."""

    entries: tuple[Entry, ...]
    share: float


@dataclass(frozen=True, slots=True)
class _Chosen:
    entry: Entry
    gains: Floats
    worth: float


def freeze(
    sound: npt.ArrayLike,
    entry: Entry,
    key: npt.ArrayLike | None = None,
    *,
    sample_rate: int,
    start_s: float = 0.0,
    most: int = MOST,
    progress: Progress = lambda share: None,
) -> Frozen:
    """At most so many moves that take away from a sound (n, channels) what an adaptive move takes.

    Parameters
    ----------
    sound : what reaches the entry, of the channels that it treats.
    entry : the adaptive move and the stretches in which it acts, in seconds of the song.
    key : what it listens to, if that is another sound.
    start_s : where the sound begins in the song.
    """
    x = np.asarray(sound, dtype=np.float64)
    if not len(x):
        return Frozen((), 0.0)
    move, within = entry.move, _shifted(entry.stretches, -start_s)
    assert isinstance(move, AdaptiveMove)
    if entry.stretches and not within:
        return Frozen((), 1.0)
    adaptive = Entry(move=move, stretches=within, fade_ms=entry.fade_ms)
    picture = picture_of(x, adaptive, key, sample_rate=sample_rate)
    if picture.wanted <= 0.0:
        return Frozen((), 1.0)
    chosen: list[_Chosen] = []
    steps = most * (1 + _ROUNDS)
    for k in range(most):
        progress(0.1 + 0.8 * k / steps)
        best = _best(picture, _made(picture, chosen), sample_rate)
        if best is None or best.worth < LEAST_GAIN * picture.wanted:
            break
        chosen.append(best)
    for k in range(_ROUNDS * len(chosen)):
        progress(0.1 + 0.8 * (most + k) / steps)
        old = chosen[k % len(chosen)]
        others = _made(picture, [c for c in chosen if c is not old])
        again = _best(picture, others, sample_rate)
        if again is not None and again.worth > _worth(picture, others, old.gains):
            chosen[k % len(chosen)] = again
    progress(0.9)
    entries = tuple(sorted((_inside(c.entry, within) for c in chosen), key=lambda e: e.move.frequency_hz))
    taken = x - through((adaptive,), x, key, sample_rate=sample_rate)
    share = explained(taken, x - through(entries, x, sample_rate=sample_rate), sample_rate=sample_rate)
    return Frozen(tuple(replace(e, stretches=_shifted(e.stretches, start_s)) for e in entries), share)


def _inside(entry: Entry, within: Sequence[Stretch]) -> Entry:
    """What acts always acts within these stretches, if there are any; what acts at moments was chosen so."""
    return replace(entry, stretches=tuple(within)) if within and not entry.stretches else entry


def through(entries: Sequence[Entry], x: Floats, key: npt.ArrayLike | None = None, *, sample_rate: int) -> Floats:
    """A sound behind moves; those that listen elsewhere hear the key."""
    keys = {} if key is None else {source: np.asarray(key) for e in entries for source in e.move.listens_to}
    treatment = Treatment(entries=tuple(replace(entry, id=k + 1) for k, entry in enumerate(entries)))
    return np.concatenate(list(treated_blocks(x, treatment, sample_rate=sample_rate, keys=keys)))


def explained(taken: Floats, mine: Floats, *, sample_rate: int) -> float:
    """How much of a sound that was taken away another one explains, 0 to 1.

    1 less the energy of the difference of their amplitudes in short spectra (43 ms), over the energy of the first:
    taking too little counts as taking what should have stayed.
    """
    total = missed = 0.0
    for a, b in zip(_amplitudes(taken, sample_rate), _amplitudes(mine, sample_rate), strict=True):
        total += float(np.sum(a * a))
        missed += float(np.sum((a - b) ** 2))
    return max(0.0, 1.0 - missed / total) if total > 0.0 else 0.0


def _amplitudes(x: Floats, rate: int) -> Iterator[Floats]:
    length = window_frames(rate)
    padded = np.concatenate([np.zeros((length, x.shape[1])), x, np.zeros((length, x.shape[1]))])
    for piece in short_spectra(padded, fft_hann(length), length // HOPS):
        yield np.asarray(np.abs(piece))


def _made(picture: Picture, chosen: Sequence[_Chosen]) -> Floats:
    made = np.ones_like(picture.goal)
    for one in chosen:
        made *= one.gains
    return made


def _worth(picture: Picture, made: Floats, gains: Floats) -> float:
    before, after = picture.goal - made, picture.goal - made * gains
    return float(np.sum(picture.power * (before * before - after * after)))


def _best(picture: Picture, made: Floats, rate: int) -> _Chosen | None:
    """The move that brings most beside what is made already."""
    left = picture.power * np.clip(made - picture.goal, 0.0, None) ** 2
    # what a cut to s brings at one place: power ((goal - made)² - (goal - made s)²), a sum over two tables
    tables = (2.0 * picture.power * picture.goal * made, picture.power * made * made)
    best: _Offer | None = None
    for at in _peaks(np.sum(left, axis=0))[:_PLACES]:
        for octaves in WIDTHS_OCT:
            offer = _offer(picture, made, left, tables, at, octaves, rate)
            if offer is not None and (best is None or offer.worth > best.worth):
                best = offer
    return None if best is None else best.chosen(picture)


def _peaks(left: Floats) -> list[int]:
    smooth = np.convolve(left, [0.25, 0.5, 0.25], mode="same")
    at = [j for j in range(len(smooth)) if smooth[j] == np.max(smooth[max(0, j - 2) : j + 3]) and smooth[j] > 0.0]
    return sorted(at, key=lambda j: -smooth[j])


@dataclass(frozen=True, slots=True)
class _Offer:
    """A move that may be chosen, how much it turns down at each moment (dB), over which curve, and what it brings."""

    move: StaticMove | DynamicMove
    on: npt.NDArray[np.bool_] | None
    cut_db: Floats
    shape: Floats
    worth: float

    def chosen(self, picture: Picture) -> _Chosen:
        gains = 10.0 ** (-self.shape * self.cut_db[:, None] / 20.0)
        stretches = () if self.on is None else _stretches(self.on, picture)
        return _Chosen(Entry(move=self.move, stretches=stretches), gains, self.worth)


def _offer(
    picture: Picture, made: Floats, left: Floats, tables: tuple[Floats, Floats], at: int, octaves: float, rate: int
) -> _Offer | None:
    """The best move of a width at a place, or a plainer one that is nearly as good."""
    hz, q = picture.hz, octaves_to_q(octaves)
    near = np.flatnonzero(np.abs(np.log2(hz / hz[at])) <= max(0.5 * octaves, 0.03))
    # where in the band most is taken: the centre lies there, not on the grid
    taken = np.sum(left[:, near], axis=0)
    if not np.any(taken > 0.0):
        return None
    centre = round(float(2.0 ** np.average(np.log2(hz[near]), weights=taken)), 1)
    deepest = -20.0 * math.log10(max(1e-3, float(np.min(picture.goal[:, near] / made[:, near]))))
    shape = curve_db(StaticMove(Shape.BELL, centre, q=q, gain_db=-6.0), hz, sample_rate=rate) / -6.0
    cuts = np.linspace(0.0, deepest, _LEVELS)
    gains = 10.0 ** (-shape[:, None] * cuts / 20.0)
    brings = tables[0] @ (gains - 1.0) + tables[1] @ (1.0 - gains * gains)  # (windows, levels)
    level_db = 10.0 * np.log10(np.sum(picture.power[:, near], axis=1) + 1e-15)
    turn = _TURN * picture.wanted
    gated = [
        (k, on, float(np.sum(brings[on, k]))) for k in range(2, _LEVELS, 2) for on in [_moments(brings[:, k], turn)]
    ]
    k, on, worth = max(gated, key=lambda g: g[2])
    if worth <= 0.0 or cuts[k] < LEAST_DB:
        return None
    steady = int(np.argmax(np.sum(brings, axis=0)))
    always = float(np.sum(brings[:, steady]))
    depths = np.round(cuts, 1)
    if always >= PLAINER * worth and depths[steady] >= LEAST_DB:
        bell = StaticMove(Shape.BELL, centre, q=q, gain_db=-float(depths[steady]))
        return _Offer(bell, None, np.full(len(level_db), depths[steady]), shape, always)
    bell = StaticMove(Shape.BELL, centre, q=q, gain_db=-float(depths[k]))
    following = _following(brings, level_db, cuts, k, bell, shape, rate)
    if following.worth >= PLAINER * worth:
        return following
    return _Offer(bell, on, np.where(on, depths[k], 0.0), shape, worth)


def _moments(brings: Floats, turn: float) -> npt.NDArray[np.bool_]:
    """When a cut brings more than it harms, in at most MOST_STRETCHES stretches."""
    on = np.zeros(len(brings), dtype=np.bool_)
    for _ in range(16):
        _switched(brings, turn, on)
        if np.count_nonzero(np.diff(on)) < 2 * MOST_STRETCHES:
            break
        turn *= 2.0
    return on


def _stretches(on: npt.NDArray[np.bool_], picture: Picture) -> tuple[tuple[float, float], ...]:
    edges = np.flatnonzero(np.diff(np.concatenate([[False], on, [False]]).astype(np.int8)))
    half = 0.5 * picture.hop_s
    return tuple(
        (round(max(0.0, float(picture.times_s[a]) - half), 3), round(float(picture.times_s[b - 1]) + half, 3))
        for a, b in zip(edges[::2], edges[1::2], strict=True)
        if picture.times_s[b - 1] + half > 0.0
    )


@nb.njit(cache=True, nogil=True)
def _switched(brings, turn, on):  # type: ignore[no-untyped-def]
    """When to be on, so that the sum of what it brings less `turn` for every time it goes on is largest (Viterbi)."""
    count = len(brings)
    came_on, stayed = np.zeros(count, dtype=np.bool_), np.zeros(count, dtype=np.bool_)
    off_sum, on_sum = 0.0, -1e300
    for k in range(count):
        stayed[k] = on_sum >= off_sum - turn  # how one comes to be on
        came_on[k] = on_sum > off_sum  # how one comes to be off
        next_on = max(on_sum, off_sum - turn) + brings[k]
        off_sum = max(off_sum, on_sum)
        on_sum = next_on
    is_on = on_sum > off_sum
    for k in range(count - 1, -1, -1):
        on[k] = is_on
        is_on = stayed[k] if is_on else came_on[k]


def _following(
    brings: Floats, level_db: Floats, cuts: Floats, deepest: int, bell: StaticMove, shape: Floats, rate: int
) -> _Offer:
    """A bell that follows the level of its own band, at the best of a few thresholds."""
    depth, windows = cuts[deepest], np.arange(len(level_db))
    best: tuple[float, float, float, Floats] | None = None
    for threshold in np.quantile(level_db, 1.0 - np.array(_SHARES)):
        for ratio in (2.0, 20.0):
            cut = np.minimum((1.0 - 1.0 / ratio) * np.maximum(level_db - threshold, 0.0), depth)
            worth = float(np.sum(brings[windows, np.rint(cut / (cuts[1] or 1.0)).astype(int)]))
            if best is None or worth > best[0]:
                best = (worth, threshold, ratio, cut)
    assert best is not None
    worth, threshold, ratio, cut = best
    full_scale = round(min(24.0, max(-120.0, threshold + _to_full_scale(rate))), 1)
    move = DynamicMove(
        Shape.BELL, bell.frequency_hz, full_scale, bell.gain_db, q=bell.q, ratio=ratio, attack_ms=10.0, release_ms=80.0
    )
    return _Offer(move, None, cut, shape, worth)


def _to_full_scale(rate: int) -> float:
    """From the summed power of a band in these windows to dB of a sine of full scale."""
    length = window_frames(rate)
    return -10.0 * math.log10(float(np.sum(fft_hann(length) ** 2)) * length / 4.0)


def _shifted(stretches: Sequence[Stretch], by_s: float) -> tuple[Stretch, ...]:
    """Stretches later by so much; what would begin before 0 is cut off."""
    moved = ((round(max(0.0, a + by_s), 3), round(b + by_s, 3)) for a, b in stretches)
    return tuple(span for span in moved if span[1] > span[0])
