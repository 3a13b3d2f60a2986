"""A curve by a handful of ordinary moves: least squares, one move more at a time.

Each round tries bells of several widths at every place, and a shelf on either side, takes the one that leaves least,
and then moves all that are there together (trust region with bounds, `scipy.optimize.least_squares`). Curves are those
of the analogue prototypes (Audio EQ Cookbook), which the filters follow up to 20 kHz.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.optimize import least_squares

from mivlo.core.errors import InvalidValue
from mivlo.core.filters import analogue_response_db
from mivlo.core.moves import BUTTERWORTH_Q, Shape, StaticMove
from mivlo.core.units import Floats, octaves_to_q

MOST_MOVES = 12
WORTH_DB = 0.02
"""A move more has to bring the RMS down by this, and by a fiftieth of what is left."""
CLOSE_DB = 0.05
"""RMS at which a fit is close enough."""
LEAST_GAIN_DB = 0.1
_WIDTHS_OCT = (0.1, 0.2, 0.4, 0.8, 1.6, 3.0)
_NARROWEST_OCT, _WIDEST_OCT = 0.05, 4.0
_DEEPEST_DB = 24.0
_PLACES = 60
_SHELF_Q = (0.4, 1.0)


@dataclass(frozen=True, slots=True)
class Fit:
    """Moves that follow a curve.

    moves : from low to high. level_db : a level for all frequencies beside them. before_db, after_db : RMS of the
    curve, and of what the moves leave of it.
    """

    moves: tuple[StaticMove, ...]
    level_db: float
    before_db: float
    after_db: float


def rms_db(values: Floats, weights: Floats) -> float:
    """Root of the weighted mean square."""
    return float(np.sqrt(np.sum(weights * values * values) / np.sum(weights)))


def level_of(values: Floats, weights: Floats) -> float:
    """Weighted mean."""
    return float(np.sum(weights * values) / np.sum(weights))


def moves_db(moves: Sequence[StaticMove | _Bell], at_hz: Floats) -> Floats:
    """What bells and shelves do together by their prototypes, in dB at frequencies (m,)."""
    each = (analogue_response_db(m.shape.section, m.frequency_hz, at_hz, q=m.q, gain_db=m.gain_db) for m in moves)
    return sum(each, np.zeros(len(at_hz)))


def fit_moves(
    curve_db: Floats,
    at_hz: Floats,
    *,
    weights: Floats | None = None,
    most: int = 8,
    only_cuts: bool = False,
    free_level: bool = False,
    narrowest_oct: float = _NARROWEST_OCT,
) -> Fit:
    """Bells and shelves that follow a curve in dB, given at frequencies (m,) from low to high.

    Parameters
    ----------
    weights : how much each place counts (m,); all alike if left out.
    most : so many moves at most, up to MOST_MOVES.
    only_cuts : no move lifts.
    free_level : a level for all frequencies costs nothing: two sounds are compared at equal loudness. The RMS is that
        of what is left beside the best level.
    narrowest_oct : no bell is narrower.

    Raises
    ------
    InvalidValue : `most` is no usable number, or nothing counts.
    """
    if not 1 <= most <= MOST_MOVES:
        raise InvalidValue("most", most, f"it must lie between 1 and {MOST_MOVES}")
    w = np.ones(len(at_hz)) if weights is None else np.asarray(weights, dtype=np.float64)
    if not np.sum(w) > 0.0:
        raise InvalidValue("weights", 0.0, "no frequency counts; both sounds need something in common")
    seen = w > 0.0
    problem = _Problem(
        np.asarray(curve_db)[seen], np.asarray(at_hz)[seen], w[seen], only_cuts, free_level, narrowest_oct
    )
    found: list[_Bell] = []
    left = before = problem.rms([])
    while len(found) < most and left > CLOSE_DB:
        wider = problem.settled([*found, problem.best_next(found)])
        then = problem.rms(wider)
        if left - then < max(WORTH_DB, left / 50.0):
            break
        found, left = wider, then
    moves = problem.as_moves(found)
    return Fit(moves, problem.level(moves), round(before, 3), round(problem.rms(moves), 3))


@dataclass(frozen=True, slots=True)
class _Bell:
    """A move under way: shape, and log2 of its frequency, log2 of its width in octaves (shelves: of Q), gain in dB."""

    shape: Shape
    octave: float
    width: float
    gain_db: float

    @property
    def frequency_hz(self) -> float:
        return float(2.0**self.octave)

    @property
    def q(self) -> float:
        return octaves_to_q(2.0**self.width) if self.shape is Shape.BELL else 2.0**self.width


@dataclass(frozen=True, slots=True)
class _Problem:
    """A curve to be followed."""

    curve: Floats
    at_hz: Floats
    weights: Floats
    only_cuts: bool
    free_level: bool
    narrowest_oct: float

    def left(self, moves: Sequence[StaticMove | _Bell]) -> Floats:
        """What moves leave of the curve."""
        rest = self.curve - moves_db(moves, self.at_hz)
        return rest - level_of(rest, self.weights) if self.free_level else rest

    def rms(self, moves: Sequence[StaticMove | _Bell]) -> float:
        return rms_db(self.left(moves), self.weights)

    def level(self, moves: Sequence[StaticMove]) -> float:
        if not self.free_level:
            return 0.0
        return round(level_of(self.curve - moves_db(moves, self.at_hz), self.weights), 2)

    @property
    def highest_db(self) -> float:
        return 0.0 if self.only_cuts else _DEEPEST_DB

    def best_next(self, found: Sequence[_Bell]) -> _Bell:
        """The single move that leaves least of what is left: its gain is the projection on its shape."""
        rest = self.left(found)
        octaves = np.linspace(math.log2(self.at_hz[0]), math.log2(self.at_hz[-1]), _PLACES)
        best, least = None, math.inf
        for shape, width in self._candidates():
            for octave in octaves:
                unit = _Bell(shape, float(octave), width, -3.0)
                column = moves_db([unit], self.at_hz) / unit.gain_db
                if self.free_level:
                    column = column - level_of(column, self.weights)
                power = float(np.sum(self.weights * column * column))
                if power < 1e-9:
                    continue
                gain = float(np.clip(np.sum(self.weights * column * rest) / power, -_DEEPEST_DB, self.highest_db))
                leaves = float(np.sum(self.weights * (rest - gain * column) ** 2))
                if leaves < least:
                    best, least = _Bell(shape, float(octave), width, gain), leaves
        assert best is not None
        return best

    def _candidates(self) -> list[tuple[Shape, float]]:
        bells = [(Shape.BELL, math.log2(w)) for w in _WIDTHS_OCT if w >= self.narrowest_oct]
        shelf = math.log2(BUTTERWORTH_Q)
        return [*bells, (Shape.LOW_SHELF, shelf), (Shape.HIGH_SHELF, shelf)]

    def settled(self, moves: list[_Bell]) -> list[_Bell]:
        """All moves together where they leave least."""
        low, high = [], []
        for m in moves:
            bell = m.shape is Shape.BELL
            widths = (max(self.narrowest_oct, _NARROWEST_OCT), _WIDEST_OCT) if bell else _SHELF_Q
            low += [math.log2(max(self.at_hz[0], 10.0)), math.log2(widths[0]), -_DEEPEST_DB]
            high += [math.log2(min(self.at_hz[-1], 24_000.0)), math.log2(widths[1]), self.highest_db + 1e-9]
        start = np.array([value for m in moves for value in (m.octave, m.width, m.gain_db)])
        root = np.sqrt(self.weights)

        def made(x: Floats) -> list[_Bell]:
            return [
                _Bell(m.shape, *map(float, x[3 * i : 3 * i + 3]))  # type: ignore[arg-type]
                for i, m in enumerate(moves)
            ]

        def leaves(x: Floats) -> Floats:
            return np.asarray(root * self.left(made(x)))

        solved = least_squares(
            leaves, np.clip(start, low, high), bounds=(low, high), x_scale=np.tile([0.2, 0.5, 2.0], len(moves)),
            ftol=1e-5, xtol=1e-5, max_nfev=30,
        )  # fmt: skip
        return made(solved.x)

    def as_moves(self, found: Sequence[_Bell]) -> tuple[StaticMove, ...]:
        moves = [
            StaticMove(
                m.shape, round(m.frequency_hz, 2), q=round(m.q, 4), gain_db=round(min(m.gain_db, self.highest_db), 2)
            )
            for m in sorted(found, key=lambda m: m.octave)
        ]
        return tuple(m for m in moves if abs(m.gain_db) >= LEAST_GAIN_DB)
