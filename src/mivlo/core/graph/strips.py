"""Strips: what has a fader and moves. Tracks, groups of them, and the mix."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum
from typing import Annotated, ClassVar, Literal

from annotated_types import Interval, Unit

from mivlo.core.moves import Treatment
from mivlo.core.moves.bounds import Id, check

LOWEST_FADER_DB, HIGHEST_FADER_DB = -100.0, 12.0

UNTREATED = Treatment()
"""A treatment that changes nothing."""

FaderDb = Annotated[float, Interval(ge=LOWEST_FADER_DB, le=HIGHEST_FADER_DB), Unit("dB")]
Pan = Annotated[float, Interval(ge=-1.0, le=1.0)]


class StripKind(StrEnum):
    TRACK = "track"
    GROUP = "group"
    MIX = "mix"


@dataclass(frozen=True, slots=True, kw_only=True)
class Strip:
    """One strip of a song.

    Parameters
    ----------
    id : what parents and keys name it by.
    kind : a track has a recording; a group and the mix have what is routed into them.
    name : for sentences.
    parent : the group or mix that it is routed into; None is the mix.
    treatment : its moves and what comes behind them.
    fader_db, pan, mute, solo : how it comes into its parent.
    channels : of a track's recording; groups and the mix are stereo.
    source : names a track's recording, content and decoding; no two sounds share a name.
    """

    __pydantic_config__: ClassVar[dict[str, str]] = {"extra": "forbid"}

    id: Id
    kind: StripKind = StripKind.TRACK
    name: str = ""
    parent: int | None = None
    treatment: Treatment = UNTREATED
    fader_db: FaderDb = 0.0
    pan: Pan = 0.0
    mute: bool = False
    solo: bool = False
    channels: Literal[1, 2] = 2
    source: str = ""

    def __post_init__(self) -> None:
        check(self)

    @property
    def gains(self) -> tuple[float, float]:
        """Left and right gain of fader and pan."""
        left, right = pan_gains(self.pan, self.channels)
        fader = 10.0 ** (self.fader_db / 20.0)
        return left * fader, right * fader


def pan_gains(pan: float, channels: int) -> tuple[float, float]:
    """Left and right gain. Mono: constant power, -3 dB in the middle. Stereo: balance."""
    if channels == 2:
        return min(1.0, 1.0 - pan), min(1.0, 1.0 + pan)
    angle = (pan + 1.0) * math.pi / 4.0
    return math.cos(angle), math.sin(angle)
