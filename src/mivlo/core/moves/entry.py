"""An entry of a treatment: a move with its place, its channels and the times in which it acts."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from itertools import pairwise
from typing import Annotated, ClassVar

from annotated_types import Interval, MaxLen, Unit

from mivlo.core.errors import InvalidValue
from mivlo.core.moves.bounds import Id, Seconds, check
from mivlo.core.moves.kinds import Move

MOST_STRETCHES = 1000
MOST_LINKS = 16

Stretch = tuple[Seconds, Seconds]
"""A span in seconds of the song, from and to."""
Name = Annotated[str, MaxLen(60)]


class Channels(StrEnum):
    """Which part of a stereo sound a move treats; of a mono sound it treats all."""

    ALL = "all"
    LEFT = "left"
    RIGHT = "right"
    MID = "mid"
    SIDE = "side"


class Place(StrEnum):
    """Where a move stands: before or behind the aftercare."""

    BEFORE = "before"
    BEHIND = "behind"


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """One line of a treatment.

    Parameters
    ----------
    id : stays with the move while its values change.
    move : what it does.
    enabled : an entry that is off changes nothing.
    channels : which part of a stereo sound it treats.
    place : before or behind the aftercare.
    stretches : the times in which it acts, in order, apart from each other; none: always.
    fade_ms : how long it takes to come and go within a stretch, at most a quarter of it.
    links : names that it shares with other entries.
    note : what the engineer wants to remember.
    """

    __pydantic_config__: ClassVar[dict[str, str]] = {"extra": "forbid"}

    id: Id = 0
    move: Move
    enabled: bool = True
    channels: Channels = Channels.ALL
    place: Place = Place.BEFORE
    stretches: Annotated[tuple[Stretch, ...], MaxLen(MOST_STRETCHES)] = ()
    fade_ms: Annotated[float, Interval(ge=0.0, le=1000.0), Unit("ms")] = 20.0
    links: Annotated[tuple[Name, ...], MaxLen(MOST_LINKS)] = ()
    note: Annotated[str, MaxLen(500)] = ""

    def __post_init__(self) -> None:
        check(self)
        for start, stop in self.stretches:
            if not start < stop:
                raise InvalidValue("stretches", (start, stop), "a stretch must begin before it ends")
        for before, after in pairwise(self.stretches):
            if not before[1] <= after[0]:
                raise InvalidValue("stretches", after, f"it must begin after the one before ends ({before[1]:g} s)")
