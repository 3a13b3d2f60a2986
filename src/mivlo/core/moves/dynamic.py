"""The dynamic move: a filter whose gain follows a level."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Annotated, ClassVar, Literal

from annotated_types import Interval, Unit

from mivlo.core.errors import InvalidValue
from mivlo.core.moves.bounds import GREATEST_GAIN_DB, GainDb, Hertz, Quality, check
from mivlo.core.moves.key import OWN, Key, Keyed, KeyShape
from mivlo.core.moves.static import BUTTERWORTH_Q, Shape, StaticMove
from mivlo.core.units import q_to_octaves

GREATEST_RANGE_DB = 36.0

ThresholdDb = Annotated[float, Interval(ge=-120.0, le=24.0), Unit("dB")]
Ratio = Annotated[float, Interval(ge=1.05, le=100.0)]
RangeDb = Annotated[float, Interval(ge=-GREATEST_RANGE_DB, le=GREATEST_RANGE_DB), Unit("dB")]
KneeDb = Annotated[float, Interval(ge=0.0, le=24.0), Unit("dB")]
AttackMs = Annotated[float, Interval(ge=0.1, le=1000.0), Unit("ms")]
ReleaseMs = Annotated[float, Interval(ge=1.0, le=5000.0), Unit("ms")]
HoldMs = Annotated[float, Interval(ge=0.0, le=2000.0), Unit("ms")]
LookaheadMs = Annotated[float, Interval(ge=0.0, le=50.0), Unit("ms")]
Share = Annotated[float, Interval(ge=0.0, le=1.0)]

MOVABLE = (Shape.BELL, Shape.LOW_SHELF, Shape.HIGH_SHELF, Shape.BAND_PASS)
"""Shapes whose gain can move."""


class Acts(StrEnum):
    """On which side of its threshold a move acts."""

    ABOVE = "above"
    BELOW = "below"


class Detector(StrEnum):
    """How a level is read; a steady sine reads the same with both."""

    RMS = "rms"
    PEAK = "peak"


class ThresholdOf(StrEnum):
    """What a threshold counts from: full scale, or the key's own level over all frequencies."""

    FULL_SCALE = "full_scale"
    STRIP = "strip"


@dataclass(frozen=True, slots=True)
class DynamicMove(Keyed):
    """A filter whose gain follows the level of a key.

    Parameters
    ----------
    shape : bell, low_shelf, high_shelf, or band_pass (x + (10^(G/20) - 1) band(x), G the whole gain).
    frequency_hz, q : as of a static move.
    gain_db : the static part; the moving part is added to it in dB.
    threshold_db : level of the key's band from which on it acts, dB below full scale (a sine of full scale is 0).
    ratio, knee_db : the target is (1 - 1/ratio) of what the level is over the threshold, with a quadratic knee
        centred on it.
    range_db : the most that the gain moves; negative turns down, positive up.
    attack_ms, release_ms : in which the gain in dB covers 63 % of a step away from, and back to 0.
    hold_ms : how long it waits before it returns.
    lookahead_ms : by how much the gain is ahead of the sound.
    acts : above or below the threshold.
    detector : how the level is read.
    stereo_link : a channel's level is (1 - link) of its own and link of the louder one, in dB.
    threshold_of : what the threshold counts from.
    key : what it listens to.
    """

    __pydantic_config__: ClassVar[dict[str, str]] = {"extra": "forbid"}

    shape: Shape
    frequency_hz: Hertz
    threshold_db: ThresholdDb
    range_db: RangeDb
    gain_db: GainDb = 0.0
    q: Quality = BUTTERWORTH_Q
    ratio: Ratio = 2.0
    knee_db: KneeDb = 0.0
    attack_ms: AttackMs = 10.0
    release_ms: ReleaseMs = 120.0
    hold_ms: HoldMs = 0.0
    lookahead_ms: LookaheadMs = 0.0
    acts: Acts = Acts.ABOVE
    detector: Detector = Detector.RMS
    stereo_link: Share = 1.0
    threshold_of: ThresholdOf = ThresholdOf.FULL_SCALE
    key: Key = OWN
    mode: Literal["dynamic"] = "dynamic"

    def __post_init__(self) -> None:
        for name, kind in (("shape", Shape), ("acts", Acts), ("detector", Detector), ("threshold_of", ThresholdOf)):
            object.__setattr__(self, name, kind(getattr(self, name)))
        check(self)
        if self.shape not in MOVABLE:
            raise InvalidValue("shape", str(self.shape), f"a dynamic move is one of {', '.join(MOVABLE)}")

    @property
    def octaves(self) -> float:
        """Bandwidth in octaves that belongs to `q`."""
        return q_to_octaves(self.q)

    @property
    def implied(self) -> tuple[str, ...]:
        """Fields that only say what goes without saying."""
        usual = type(self)(self.shape, self.frequency_hz, self.threshold_db, self.range_db)
        own = (name for name in _OPTIONAL if getattr(self, name) == getattr(usual, name))
        return tuple(own)

    @property
    def gathers(self) -> bool:
        """Whether one processor does several at once: those that do not look ahead."""
        return self.lookahead_ms == 0.0

    @property
    def structure(self) -> tuple[object, ...]:
        """What can't glide to another value while it sounds."""
        return (str(self.shape), self.lookahead_ms)

    @property
    def resting(self) -> StaticMove:
        """Its static part."""
        return self.at_gain(self.gain_db)

    def at_gain(self, gain_db: float) -> StaticMove:
        """The filter that it is at a whole gain."""
        if self.shape is Shape.BAND_PASS:  # a band that is turned is nearly a bell
            return StaticMove(Shape.BELL, self.frequency_hz, q=self.q, gain_db=_within(gain_db, GREATEST_GAIN_DB))
        return StaticMove(self.shape, self.frequency_hz, q=self.q, gain_db=_within(gain_db, GREATEST_GAIN_DB))

    def scaled(self, amount: float) -> DynamicMove:
        """The same with its static gain and its range times `amount`."""
        if amount == 1.0:
            return self
        return replace(
            self,
            gain_db=_within(self.gain_db * amount, GREATEST_GAIN_DB),
            range_db=_within(self.range_db * amount, GREATEST_RANGE_DB),
        )


_OPTIONAL = tuple(
    name
    for name in DynamicMove.__dataclass_fields__
    if name not in ("mode", "shape", "frequency_hz", "threshold_db", "range_db", "q", "gain_db")
)


def _within(value: float, limit: float) -> float:
    return min(limit, max(-limit, value))


def key_band(move: DynamicMove) -> tuple[KeyShape | Shape, float, float]:
    """What part of its key a move listens to: shape, frequency in Hz, q. As narrow as its own band unless given."""
    key = move.key
    if key.frequency_hz is None and key.shape is None:
        shelf = move.shape in (Shape.LOW_SHELF, Shape.HIGH_SHELF)
        return (move.shape if shelf else KeyShape.BAND), move.frequency_hz, key.q or move.q
    return key.shape or KeyShape.BAND, key.frequency_hz or move.frequency_hz, key.q or move.q
