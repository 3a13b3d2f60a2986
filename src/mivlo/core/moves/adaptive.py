"""The adaptive move: pulls down what stands out over its own smooth surroundings."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Annotated, ClassVar, Literal

from annotated_types import Interval, MaxLen, Unit

from mivlo.core.errors import InvalidValue
from mivlo.core.moves.bounds import Hertz, check
from mivlo.core.moves.dynamic import AttackMs, ReleaseMs, Share
from mivlo.core.moves.key import OWN, Key, Keyed

MOST_WEIGHTS = 64
DEEPEST_DB = -36.0

Octaves = Annotated[float, Interval(ge=0.05, le=2.0), Unit("octaves")]
MostDb = Annotated[float, Interval(ge=DEEPEST_DB, le=0.0), Unit("dB")]
Factor = Annotated[float, Interval(ge=0.0, le=2.0)]
Weight = tuple[Hertz, Factor]
"""A frequency, and by how much what stands out there counts."""


@dataclass(frozen=True, slots=True)
class AdaptiveMove(Keyed):
    """A cut that follows whatever stands out.

    Parameters
    ----------
    from_hz, to_hz : the range in which it acts.
    share : how much of what stands out is taken, in dB.
    width_oct : what is narrower than this counts as standing out.
    most_db : the deepest that it may go, 0 or below.
    attack_ms, release_ms : in which a cut covers 63 % of a step in dB.
    weights : factors of the share at frequencies, straight between over log frequency; none: 1 everywhere.
    key : whose spectrum is looked at; its range is the move's.
    """

    __pydantic_config__: ClassVar[dict[str, str]] = {"extra": "forbid"}

    from_hz: Hertz
    to_hz: Hertz
    share: Share = 0.5
    width_oct: Octaves = 1.0 / 3.0
    most_db: MostDb = -6.0
    attack_ms: AttackMs = 10.0
    release_ms: ReleaseMs = 100.0
    weights: Annotated[tuple[Weight, ...], MaxLen(MOST_WEIGHTS)] = ()
    key: Key = OWN
    mode: Literal["adaptive"] = "adaptive"

    def __post_init__(self) -> None:
        check(self)
        if not self.from_hz < self.to_hz:
            raise InvalidValue("to_hz", self.to_hz, f"it must lie above from_hz ({self.from_hz:g} Hz)")
        if len(self.weights) > MOST_WEIGHTS:
            raise InvalidValue("weights", len(self.weights), f"there are at most {MOST_WEIGHTS}")
        for hz, factor in self.weights:
            if not (10.0 <= hz <= 24_000.0 and 0.0 <= factor <= 2.0):
                raise InvalidValue("weights", [hz, factor], "a weight is a frequency and a factor of 0 to 2")
        for (before, _), (after, _) in pairwise(self.weights):
            if not before < after:
                raise InvalidValue("weights", after, "they must be given from low to high")
        if self.key.frequency_hz is not None or self.key.q is not None or self.key.shape is not None:
            raise InvalidValue("key", "a band", "an adaptive move listens to its own range; give only a source")

    @property
    def frequency_hz(self) -> float:
        """The middle of its range."""
        return float((self.from_hz * self.to_hz) ** 0.5)

    @property
    def implied(self) -> tuple[str, ...]:
        """Fields that only say what goes without saying."""
        usual = type(self)(self.from_hz, self.to_hz)
        return tuple(name for name in ("weights", "key") if getattr(self, name) == getattr(usual, name))

    @property
    def gathers(self) -> bool:
        """Whether one processor does several at once: no."""
        return False

    def scaled(self, amount: float) -> AdaptiveMove:
        """The same with its share times `amount`, at most 1."""
        return self if amount == 1.0 else replace(self, share=min(1.0, self.share * amount))
