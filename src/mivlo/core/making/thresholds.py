"""Levels that a dynamic move reads, and the threshold that makes it act as much as it should."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from mivlo.core.moves import Compressor, DynamicMove
from mivlo.core.processors import DynamicProcessor, Step
from mivlo.core.processors.dynamic import CompressorProcessor
from mivlo.core.processors.dynamic_kernel import CELL, SILENT_DB
from mivlo.core.processors.listening import rise_s
from mivlo.core.units import Floats

ACTIVE_DB = 30.0
"""A key sounds while it is within this of its loudest."""
SOUNDING_DB = 50.0
"""Any sound is there while it is within this of its loudest."""
BESIDE_S = 0.15
"""So near to a moment a level is not counted as that of the rest."""
RESTS = 0.98
"""Of the rest of the time a move that is for moments rests: not all moments are known."""
LEAST_OVER_DB = 3.0
"""By so much the typical moment is over the threshold at the least."""
_PIECE = 65_536
_HALVINGS = 10


@dataclass(frozen=True, slots=True)
class Trace:
    """What a move read and did: levels as its threshold counts, and its gain, of the channel that moved most.

    times_s, level_db, gain_db : (cells,), a cell is CELL frames.
    """

    times_s: Floats
    level_db: Floats
    gain_db: Floats

    def share(self, threshold_db: float) -> float:
        """Share of the time over a threshold."""
        return float(np.mean(self.level_db > threshold_db)) if len(self.level_db) else 0.0

    def thinned(self, points: int) -> Trace:
        """At most so many points: of each stretch the highest level and the largest gain."""
        count = len(self.times_s)
        if count <= points:
            return self
        edges = np.linspace(0, count, points + 1).astype(int)[:-1]
        largest = np.maximum.reduceat(np.abs(self.gain_db), edges) * np.sign(self.gain_db.sum() or 1.0)
        return Trace(self.times_s[edges], np.maximum.reduceat(self.level_db, edges), largest)


def trace(
    move: DynamicMove,
    sound: npt.ArrayLike,
    key: npt.ArrayLike | None = None,
    *,
    sample_rate: float,
    start_s: float = 0.0,
) -> Trace:
    """Levels and gains of a move over a sound (n, channels) as it reaches it, and its key if that is another sound."""
    x = np.asarray(sound, dtype=np.float64)
    heard = None if key is None else np.asarray(key, dtype=np.float64)
    processor = DynamicProcessor(sample_rate, x.shape[1], [Step(0, move)])
    rows = []
    for at in range(0, len(x), _PIECE):
        keys = {} if heard is None else {move.listens_to[0]: heard[at : at + _PIECE]}
        rows.append(processor.trace(x[at : at + _PIECE], keys)[0])
    whole = np.concatenate(rows) if rows else np.zeros((0, x.shape[1], 2))
    times = start_s + np.arange(len(whole)) * CELL / sample_rate
    most = np.argmax(np.abs(whole[:, :, 1]), axis=1)[:, None]
    gain = np.take_along_axis(whole[:, :, 1], most, axis=1)[:, 0]
    return Trace(times, np.max(whole[:, :, 0], axis=1, initial=-240.0), gain)


def at_share(move: DynamicMove, traced: Trace, share: float, *, of_sounding: bool = False) -> DynamicMove:
    """The move with the threshold that it is over in this share of the time, or of the time in which it hears much."""
    levels = traced.level_db
    if of_sounding and len(levels):
        levels = levels[levels > np.max(levels) - SOUNDING_DB]
    if not len(levels):
        return move
    level = float(np.quantile(levels, 1.0 - min(max(share, 0.0), 1.0)))
    return replace(move, threshold_db=round(min(24.0, max(-120.0, level)), 1))


def at_moments(
    move: DynamicMove, traced: Trace, moments: Sequence[tuple[float, float]], *, rests: float = RESTS
) -> DynamicMove:
    """The move with a threshold so low that it goes as far as it can at the typical moment, and so high that it rests
    elsewhere."""
    if not len(traced.times_s) or not moments:
        return move
    near = np.zeros(len(traced.times_s), dtype=bool)
    tops = []
    for start, stop in moments:
        inside = (traced.times_s >= start - BESIDE_S) & (traced.times_s < stop + BESIDE_S)
        if inside.any():
            tops.append(float(np.max(traced.level_db[inside])))
        near |= inside
    if not tops:
        return move
    top = float(np.median(tops))
    level = top - 2.0 * abs(move.range_db) / (1.0 - 1.0 / move.ratio)  # also on the moment's slopes
    if not near.all():
        level = max(level, float(np.quantile(traced.level_db[~near], rests)))
    level = min(level, top - LEAST_OVER_DB)
    return replace(move, threshold_db=round(min(24.0, max(-120.0, level)), 1))


def under_active(move: DynamicMove, traced: Trace, below_db: float) -> DynamicMove:
    """The move with a threshold below the median level of its key while that sounds."""
    level = traced.level_db
    if not len(level):
        return move
    active = level[level > np.max(level) - ACTIVE_DB]
    return replace(move, threshold_db=round(min(24.0, max(-120.0, float(np.median(active)) - below_db)), 1))


def compressor_taking(value: Compressor, sound: npt.ArrayLike, take_db: float, *, sample_rate: float) -> Compressor:
    """The compressor with the threshold at which it turns a sound (n, channels) down by `take_db` on average while that
    sounds (within ACTIVE_DB of its loudest), by running it. One that can't take so much gets the lowest threshold
    that was tried."""
    x = np.asarray(sound, dtype=np.float64)

    def run(threshold_db: float) -> tuple[Floats, Floats]:
        step = Step(0, replace(value, threshold_db=threshold_db, mix=1.0))
        rows = CompressorProcessor(sample_rate, x.shape[1], [step]).trace(x)[0]
        return np.max(rows[:, :, 0], axis=1, initial=-240.0), np.min(rows[:, :, 1], axis=1, initial=0.0)

    level, _ = run(24.0)
    if not len(level) or np.max(level) < SILENT_DB:
        return value
    active = level > np.max(level) - ACTIVE_DB
    low, high = float(np.max(level)) - 60.0, float(np.max(level))
    for _ in range(_HALVINGS):
        middle = 0.5 * (low + high)
        taken = -float(np.mean(run(middle)[1][active]))
        low, high = (middle, high) if taken > take_db else (low, middle)
    return replace(value, threshold_db=round(min(24.0, max(-120.0, low)), 1))


def rise_ms(move: DynamicMove) -> float:
    """How long the band that a move listens to takes to rise, in ms: that comes on top of its attack."""
    return 1e3 * rise_s(move)
