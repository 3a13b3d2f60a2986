"""Where the members of a set of harmonics lie."""

from __future__ import annotations

from enum import StrEnum

from mivlo.core.errors import InvalidValue
from mivlo.core.moves.bounds import HIGHEST_HZ

MOST_MEMBERS = 16


class Spacing(StrEnum):
    """Where the members lie: at octaves of the first, or at its integer multiples."""

    OCTAVES = "octaves"
    MULTIPLES = "multiples"


def members_hz(frequency_hz: float, count: int, spacing: Spacing, *, highest_hz: float = HIGHEST_HZ) -> list[float]:
    """A frequency and its octaves or multiples, as many as lie up to `highest_hz`, lowest first.

    Raises
    ------
    InvalidValue : no number of members that can be.
    """
    if not 1 <= count <= MOST_MEMBERS:
        raise InvalidValue("count", count, f"a set has 1 to {MOST_MEMBERS} members")
    octaves = Spacing(spacing) is Spacing.OCTAVES
    places = (frequency_hz * (2**n if octaves else n + 1) for n in range(count))
    return [hz for hz in places if hz <= highest_hz]
