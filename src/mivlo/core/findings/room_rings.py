"""Rings of a room, told from what the other tracks of the song play.

From a room's track alone a ring is hardly told from a note that is often played. With the others at hand it is what
stays whatever is played (`core.learning`). Every room strays by some decibels from place to place; how far a ring
stands over that, and how wide it is, says how sure it is.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.special import expit

from mivlo.core.errors import BadAudio
from mivlo.core.findings.cuts import deepest_for
from mivlo.core.findings.frames import Sound
from mivlo.core.learning import LEAST_S, Staying, learn
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.units import q_to_octaves

LEAST_OTHERS = 2
"""Of two tracks neither is known to be the room of the other."""
LEAST_LIKENESS = 0.6
"""Somebody said that it is a room: less than `core.learning` asks of any track. Players reach 0.66 at most."""
LEAD_S = 2.0
_ODDS = np.array([1.322, -1.635, 0.824, -2.819])
"""Of `over_db`, `ripple_db`, the width as octaves of octaves, and a constant (`bench/findings/room_songs.py`)."""


@dataclass(frozen=True, slots=True)
class RoomRing:
    """A ring that stays in a room whatever is played. place : as it was learned."""

    place: Staying

    @property
    def frequency_hz(self) -> float:
        return self.place.cut.frequency_hz

    @property
    def octaves(self) -> float:
        return q_to_octaves(self.place.cut.q)

    @property
    def witnesses(self) -> tuple[float, float, float]:
        """What the confidence is told by."""
        return self.place.over_db, self.place.ripple_db, float(np.log2(self.octaves))

    @property
    def confidence(self) -> float:
        """Fitted to songs in rooms with and without rings (`bench/findings/room_songs.py`)."""
        return float(np.clip(expit(np.dot(_ODDS, [*self.witnesses, 1.0])), 0.02, 0.98))

    @property
    def cut(self) -> StaticMove:
        """The bell that takes it away, as far as it is believed."""
        depth = min(self.place.over_db * self.confidence, deepest_for(self.confidence, broad=False))
        return StaticMove(Shape.BELL, self.frequency_hz, q=self.place.cut.q, gain_db=-round(depth, 1))


def find_room_rings(
    room: Sound, others: Sequence[Sound], *, sample_rate: float, start: int = 0, stop: int | None = None
) -> list[RoomRing]:
    """What stays in a room (n, channels) while the others (n, channels), from the same beginning, play.

    Nothing where there are too few others, or where what they play does not explain what is heard.

    start, stop : frames between which it is listened to; what still sounds of LEAD_S before them is no ring.
    """
    end = room.shape[0] if stop is None else min(stop, room.shape[0])
    if len(others) < LEAST_OTHERS or end - start < LEAST_S * sample_rate:
        return []
    lead = max(0, start - round(LEAD_S * sample_rate))
    played = (other[lead:end] for other in others)  # one at a time: a song may have many
    try:
        learned = learn(room[lead:end], played, sample_rate=round(sample_rate), lead_s=(start - lead) / sample_rate)
    except BadAudio:  # a rest, or nobody plays
        return []
    if learned.likeness < LEAST_LIKENESS:
        return []
    return [RoomRing(replace(place, times_s=place.times_s + lead / sample_rate)) for place in learned.stays]
