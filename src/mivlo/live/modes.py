"""The words of a listening session."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Scope(StrEnum):
    """Whether the focused track is heard alone or in the mix."""

    ALONE = "alone"
    MIX = "mix"


class Signal(StrEnum):
    """What of the treatment is heard."""

    TREATED = "treated"
    UNTREATED = "untreated"
    REMOVED = "removed"


@dataclass(frozen=True, slots=True)
class Passage:
    """The looped stretch in frames of the song: start <= frame < stop."""

    start: int
    stop: int


@dataclass(frozen=True, slots=True)
class Match:
    """By how much each side of a comparison is turned so that both are equally loud, in dB.

    What is removed may be lifted, so that it can be judged; never louder than untreated.
    """

    treated_db: float = 0.0
    untreated_db: float = 0.0
    removed_db: float = 0.0
