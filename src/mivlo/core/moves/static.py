"""The static move: a fixed filter, and the sections it becomes."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import ClassVar, Literal

import numpy as np

from mivlo.core.errors import InvalidValue
from mivlo.core.filters import SectionKind, design_section
from mivlo.core.moves.bounds import GREATEST_GAIN_DB, GainDb, Hertz, Quality, check
from mivlo.core.moves.usual import Usual
from mivlo.core.units import Floats, q_to_octaves

BUTTERWORTH_Q = math.sqrt(0.5)


class Shape(StrEnum):
    """The shape of a move; the values are those of a sheet."""

    BELL = "bell"
    NOTCH = "notch"
    LOW_SHELF = "low_shelf"
    HIGH_SHELF = "high_shelf"
    LOW_CUT = "low_cut"
    HIGH_CUT = "high_cut"
    BAND_PASS = "band_pass"

    @property
    def has_gain(self) -> bool:
        return self in (Shape.BELL, Shape.LOW_SHELF, Shape.HIGH_SHELF)

    @property
    def has_slope(self) -> bool:
        return self in (Shape.LOW_CUT, Shape.HIGH_CUT)

    @property
    def section(self) -> SectionKind:
        """The kind of the one section that it is; KeyError for a cut, which may be several."""
        return _SINGLE[self]


_SINGLE = {
    Shape.BELL: SectionKind.BELL,
    Shape.NOTCH: SectionKind.NOTCH,
    Shape.LOW_SHELF: SectionKind.LOW_SHELF,
    Shape.HIGH_SHELF: SectionKind.HIGH_SHELF,
    Shape.BAND_PASS: SectionKind.BAND_PASS,
}


Slope = Literal[6, 12, 18, 24, 36, 48]
"""Slopes of a cut in dB per octave."""


@dataclass(frozen=True, slots=True)
class StaticMove(Usual):
    """A fixed filter.

    Parameters
    ----------
    shape : what it does.
    frequency_hz : centre of a bell, notch or band pass, corner of a cut, middle of a shelf's slope.
    q : quality of the analogue prototype (Audio EQ Cookbook). For a cut it is the level at the
        corner as a ratio, whatever the slope; sqrt(1/2), the default, is Butterworth.
    gain_db : bells and shelves.
    slope_db_per_octave : cuts; one of 6, 12, 18, 24, 36, 48.

    Raises
    ------
    InvalidValue : names the value that is impossible.
    """

    __pydantic_config__: ClassVar[dict[str, str]] = {"extra": "forbid"}

    shape: Shape
    frequency_hz: Hertz
    gain_db: GainDb = 0.0
    q: Quality = BUTTERWORTH_Q
    slope_db_per_octave: Slope = 12
    mode: Literal["static"] = "static"

    def __post_init__(self) -> None:
        object.__setattr__(self, "shape", Shape(self.shape))
        check(self)
        if self.shape.has_slope and self.slope_db_per_octave == 6 and not self.is_butterworth:
            raise InvalidValue("q", self.q, "a cut of 6 dB/octave has none; leave it out")

    @property
    def is_butterworth(self) -> bool:
        """Whether `q` is that of a Butterworth cut (to a part in a million)."""
        return math.isclose(self.q, BUTTERWORTH_Q, rel_tol=1e-6)

    @property
    def octaves(self) -> float:
        """Bandwidth in octaves that belongs to `q`."""
        return q_to_octaves(self.q)

    @property
    def absent(self) -> tuple[str, ...]:
        """Fields that this shape does not have."""
        gain = () if self.shape.has_gain else ("gain_db",)
        return gain if self.shape.has_slope else (*gain, "slope_db_per_octave")

    @property
    def implied(self) -> tuple[str, ...]:
        """Fields that only say what goes without saying."""
        return ("q",) if self.shape.has_slope and self.is_butterworth else ()

    @property
    def needed(self) -> tuple[str, ...]:
        """Fields that a document must give for this shape, though the type has a default."""
        return ("gain_db",) if self.shape.has_gain else ()

    @property
    def made_of(self) -> tuple[float, tuple[StaticMove, ...]]:
        """The filters that it is: a level in dB, and moves behind it: itself."""
        return 0.0, (self,)

    def scaled(self, amount: float) -> StaticMove:
        """The same with its gain in dB times `amount`; cuts and notches stay as they are."""
        if amount == 1.0 or not self.shape.has_gain:
            return self
        gain = min(GREATEST_GAIN_DB, max(-GREATEST_GAIN_DB, self.gain_db * amount))
        return replace(self, gain_db=gain)


@dataclass(frozen=True, slots=True)
class SectionPlan:
    """One section of a move: its kind, and its quality as fixed_q * q ** follows."""

    kind: SectionKind
    fixed_q: float
    follows: bool

    def q(self, move_q: float) -> float:
        return self.fixed_q * move_q if self.follows else self.fixed_q


def butterworth_qualities(order: int) -> list[float]:
    """Qualities of the second-order sections of a Butterworth cut, lowest first.

    From the pole angles: Q = 1 / (2 cos θ), θ = (2k - 1 + (order odd)) π / (2 order).
    """
    odd = order % 2
    return [1.0 / (2.0 * math.cos((2 * k - 1 + odd) * math.pi / (2 * order))) for k in range(1, order // 2 + 1)]


def plan_sections(shape: Shape, slope_db_per_octave: int) -> tuple[SectionPlan, ...]:
    """The sections that a move of this shape and slope is made of."""
    if shape in _SINGLE:
        return (SectionPlan(shape.section, 1.0, True),)
    low = shape is Shape.LOW_CUT
    order = slope_db_per_octave // 6
    plans = []
    if order % 2:
        plans.append(SectionPlan(SectionKind.LOW_CUT_1 if low else SectionKind.HIGH_CUT_1, 1.0, False))
    kind = SectionKind.LOW_CUT_2 if low else SectionKind.HIGH_CUT_2
    qualities = butterworth_qualities(order)
    plans += [SectionPlan(kind, q, False) for q in qualities[:-1]]
    plans += [SectionPlan(kind, q / BUTTERWORTH_Q, True) for q in qualities[-1:]]
    return tuple(plans)


def move_sections(move: StaticMove, *, sample_rate: float) -> Floats:
    """The sections of one move, switched on or not: (n, 6) in scipy's order."""
    return np.array(
        [
            design_section(
                plan.kind, move.frequency_hz, q=plan.q(move.q), gain_db=move.gain_db, sample_rate=sample_rate
            )
            for plan in plan_sections(move.shape, move.slope_db_per_octave)
        ]
    )
