"""Rungs: one gain for each auditory band, which together are one smooth filter.

Bands are evenly spaced in ERB numbers from 20 Hz to 20 kHz (Glasberg & Moore 1990). Between the bands' centres the
curve is smooth, beyond the outer ones it stays level. It is made of ordinary filters: one level for all, a bell for
each inner band and a shelf at either end, whose gains are found by least squares on their analogue responses; so equal
gains are a plain level without ripple. (Bells of graphic equalizers act on their neighbours; that their gains come from
linear equations, solved again and again, is from Valimaki & Liski, IEEE Signal Processing Letters 24, 2017; from
memory.)
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Annotated, ClassVar, Literal

import numpy as np
from annotated_types import Interval, MaxLen, Unit

from mivlo.core.errors import InvalidValue
from mivlo.core.filters import analogue_polynomials
from mivlo.core.moves.bounds import check
from mivlo.core.moves.static import BUTTERWORTH_Q, Shape, StaticMove
from mivlo.core.moves.usual import Usual
from mivlo.core.units import Floats, erb_number, from_erb_number, octaves_to_q

FEWEST, MOST = 26, 40
FROM_HZ, TO_HZ = 20.0, 20_000.0
GREATEST_DB = 24.0

Count = Annotated[int, Interval(ge=FEWEST, le=MOST)]
RungDb = Annotated[float, Interval(ge=-GREATEST_DB, le=GREATEST_DB), Unit("dB")]

_WIDTH = 1.6
"""Bells reach over so many bands between their half gains: wide enough for a smooth curve, and still told apart."""
_ROUNDS = 5
_POINTS = 4
"""Between two edges, at which the curve between the centres counts."""
_BETWEEN = 0.15
"""Weight of those points, the centres' being 1."""
_SMALL = 0.01
"""Weight of the gains themselves, so that of like solutions the calmest is taken."""


@dataclass(frozen=True, slots=True)
class Band:
    """An auditory band, in Hz."""

    from_hz: float
    centre_hz: float
    to_hz: float


@lru_cache
def auditory_bands(count: int) -> tuple[Band, ...]:
    """So many bands (at least 2), evenly spaced in ERB numbers from 20 Hz to 20 kHz.

    Raises
    ------
    InvalidValue : fewer than two.
    """
    if count < 2:
        raise InvalidValue("count", count, "there are at least 2 bands")
    low, high = (float(erb_number(hz)) for hz in (FROM_HZ, TO_HZ))
    hz = from_erb_number(np.linspace(low, high, 2 * count + 1))
    return tuple(Band(float(hz[i]), float(hz[i + 1]), float(hz[i + 2])) for i in range(0, 2 * count, 2))


@dataclass(frozen=True, slots=True)
class RungsMove(Usual):
    """A gain for each auditory band.

    Parameters
    ----------
    count : how many bands there are.
    gains_db : of each band, lowest first.

    Raises
    ------
    InvalidValue : names the value that is impossible.
    """

    __pydantic_config__: ClassVar[dict[str, str]] = {"extra": "forbid"}

    count: Count
    gains_db: Annotated[tuple[RungDb, ...], MaxLen(MOST)]
    mode: Literal["rungs"] = "rungs"

    def __post_init__(self) -> None:
        check(self)
        if int(self.count) != self.count:
            raise InvalidValue("count", self.count, "it must be a whole number")
        if len(self.gains_db) != self.count:
            raise InvalidValue("gains_db", len(self.gains_db), f"there must be {self.count} gains, one for each band")
        for gain in self.gains_db:
            if not -GREATEST_DB <= gain <= GREATEST_DB:
                raise InvalidValue("gains_db", gain, f"each must lie between {-GREATEST_DB:g} and {GREATEST_DB:g} dB")

    @property
    def bands(self) -> tuple[Band, ...]:
        """Its bands, lowest first."""
        return auditory_bands(self.count)

    @property
    def made_of(self) -> tuple[float, tuple[StaticMove, ...]]:
        """The filters that it is: a level in dB, and behind it a move for each band, or none where all are equal."""
        return _made_of(self.gains_db)

    @property
    def frequency_hz(self) -> float:
        """The middle of its range."""
        return float((FROM_HZ * TO_HZ) ** 0.5)

    def scaled(self, amount: float) -> RungsMove:
        """The same with its gains in dB times `amount`."""
        if amount == 1.0:
            return self
        gains = tuple(min(GREATEST_DB, max(-GREATEST_DB, gain * amount)) for gain in self.gains_db)
        return replace(self, gains_db=gains)


@dataclass(frozen=True)
class _Design:
    """What is the same for all gains of so many bands: where it counts, and the filters at it."""

    at_hz: Floats
    ratios: Floats
    weights: Floats
    erb: Floats
    filters: tuple[tuple[Shape, float, float], ...]

    @classmethod
    def of(cls, count: int) -> _Design:
        bands = auditory_bands(count)
        low, high = (float(erb_number(hz)) for hz in (FROM_HZ, TO_HZ))
        between = from_erb_number(np.linspace(low, high, count * _POINTS + 1))
        centres = np.array([band.centre_hz for band in bands])
        inner = [
            (Shape.BELL, b.centre_hz, octaves_to_q(_WIDTH * float(np.log2(b.to_hz / b.from_hz)))) for b in bands[1:-1]
        ]
        low_shelf = (Shape.LOW_SHELF, bands[0].to_hz, BUTTERWORTH_Q)
        high_shelf = (Shape.HIGH_SHELF, bands[-1].from_hz, BUTTERWORTH_Q)
        weights = np.concatenate([np.ones(count), np.full(len(between), _BETWEEN)])
        at_hz = np.concatenate([centres, between])
        filters = (low_shelf, *inner, high_shelf)
        ratios = at_hz[:, None] / np.array([hz for _, hz, _ in filters])
        return cls(at_hz, ratios, weights, np.asarray(erb_number(at_hz)), filters)

    def wanted(self, gains: Floats) -> Floats:
        """The smooth curve through the gains, in dB at all places."""
        # a fifth of a second to import, which no command that has no rungs should wait for
        from scipy.interpolate import PchipInterpolator

        count = len(gains)
        curve = PchipInterpolator(self.erb[:count], gains)
        return np.asarray(curve(np.clip(self.erb, self.erb[0], self.erb[count - 1])))

    def shapes(self, gains: Floats) -> Floats:
        """Response of each filter in dB per dB of its gain: (places, filters)."""
        used = np.where(np.abs(gains) > 0.5, gains, 0.5)
        num, den = np.empty((len(used), 3)), np.empty((len(used), 3))
        for row, ((shape, _, q), gain) in enumerate(zip(self.filters, used, strict=True)):
            num[row], den[row] = analogue_polynomials(shape.section, q=q, gain_db=float(gain))
        s2 = -(self.ratios**2)  # (places, filters): s squared, over each filter's own frequency
        above, below = ((p[:, 0] * s2 + p[:, 2]) ** 2 + (p[:, 1] ** 2) * -s2 for p in (num, den))
        return np.asarray(10.0 * np.log10(above / below) / used)


_design = lru_cache(_Design.of)


@lru_cache(maxsize=256)
def _made_of(gains_db: tuple[float, ...]) -> tuple[float, tuple[StaticMove, ...]]:
    gains = np.round(gains_db, 5)  # a client may send 1e-309, whose slopes have no end
    if np.ptp(gains) == 0.0:
        return float(gains[0]), ()
    design = _design(len(gains))
    wanted, weights = design.wanted(gains), design.weights
    found = np.zeros(len(gains))
    calm = np.diag([*(_SMALL**2 for _ in gains), 1e-12])
    level = 0.0
    for _ in range(_ROUNDS):
        columns = np.hstack([design.shapes(found), np.ones((len(wanted), 1))])
        weighted = columns * (weights**2)[:, None]
        solved = np.linalg.solve(weighted.T @ columns + calm, weighted.T @ wanted)
        found, level = np.clip(solved[:-1], -30.0, 30.0), float(solved[-1])
    moves = [
        StaticMove(shape, hz, q=q, gain_db=round(float(gain), 3))
        for (shape, hz, q), gain in zip(design.filters, found, strict=True)
    ]
    return level, tuple(moves)
