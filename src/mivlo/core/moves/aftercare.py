"""What comes behind the moves of a strip, in this order: compressors, clip, warmth and air, reverb, output gain."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, ClassVar

from annotated_types import Interval, MaxLen, Unit

from mivlo.core.errors import InvalidValue
from mivlo.core.moves.bounds import GainDb, Hertz, check
from mivlo.core.moves.dynamic import AttackMs, Detector, KneeDb, Ratio, ReleaseMs, Share, ThresholdDb

MOST_COMPRESSORS = 4

LevelDb = Annotated[float, Interval(ge=-60.0, le=12.0), Unit("dB")]
DriveDb = Annotated[float, Interval(ge=0.0, le=36.0), Unit("dB")]
CeilingDb = Annotated[float, Interval(ge=-36.0, le=0.0), Unit("dB")]
DecayS = Annotated[float, Interval(ge=0.1, le=10.0), Unit("s")]
LowCutHz = Annotated[float, Interval(ge=0.0, le=1000.0), Unit("Hz")]

_STRICT: dict[str, str] = {"extra": "forbid"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Compressor:
    """Turns a whole strip down over a threshold; levels and times as of a dynamic move.

    Parameters
    ----------
    detector_low_cut_hz : what lies below is not heard by the detector; 0: everything is.
    mix : share of the compressed sound; the rest is the untouched one beside it.
    gain_db : makes up for what it takes.
    """

    __pydantic_config__: ClassVar[dict[str, str]] = _STRICT

    threshold_db: ThresholdDb
    ratio: Ratio = 3.0
    knee_db: KneeDb = 6.0
    attack_ms: AttackMs = 20.0
    release_ms: ReleaseMs = 120.0
    detector: Detector = Detector.RMS
    stereo_link: Share = 1.0
    detector_low_cut_hz: LowCutHz = 90.0
    mix: Share = 1.0
    gain_db: GainDb = 0.0

    def __post_init__(self) -> None:
        object.__setattr__(self, "detector", Detector(self.detector))
        check(self)


@dataclass(frozen=True, slots=True, kw_only=True)
class Clip:
    """Bends what comes near a ceiling.

    Parameters
    ----------
    drive_db : turned up before.
    ceiling_db : nothing comes out above (but for what filtering adds).
    hardness : 0 bends from afar, 1 cuts off.
    """

    __pydantic_config__: ClassVar[dict[str, str]] = _STRICT

    drive_db: DriveDb = 0.0
    ceiling_db: CeilingDb = 0.0
    hardness: Share = 0.5

    def __post_init__(self) -> None:
        check(self)


@dataclass(frozen=True, slots=True, kw_only=True)
class Warmth:
    """Harmonics of what lies below a frequency, added at a level."""

    __pydantic_config__: ClassVar[dict[str, str]] = _STRICT

    below_hz: Hertz = 200.0
    level_db: LevelDb = -24.0

    def __post_init__(self) -> None:
        check(self)


@dataclass(frozen=True, slots=True, kw_only=True)
class Air:
    """Harmonics of what lies above a frequency, added at a level."""

    __pydantic_config__: ClassVar[dict[str, str]] = _STRICT

    above_hz: Hertz = 4000.0
    level_db: LevelDb = -24.0

    def __post_init__(self) -> None:
        check(self)


@dataclass(frozen=True, slots=True, kw_only=True)
class Reverb:
    """A room to hear a strip in; never exported unless asked."""

    __pydantic_config__: ClassVar[dict[str, str]] = _STRICT

    send_db: LevelDb = -18.0
    decay_s: DecayS = 1.2

    def __post_init__(self) -> None:
        check(self)


@dataclass(frozen=True, slots=True, kw_only=True)
class Aftercare:
    """What comes behind the moves. At rest it changes nothing."""

    __pydantic_config__: ClassVar[dict[str, str]] = _STRICT

    compressors: Annotated[tuple[Compressor, ...], MaxLen(MOST_COMPRESSORS)] = ()
    clip: Clip | None = None
    warmth: Warmth | None = None
    air: Air | None = None
    reverb: Reverb | None = None
    output_db: GainDb = 0.0

    def __post_init__(self) -> None:
        check(self)
        if len(self.compressors) > MOST_COMPRESSORS:
            raise InvalidValue("compressors", len(self.compressors), f"there are at most {MOST_COMPRESSORS}")


NO_AFTERCARE = Aftercare()
