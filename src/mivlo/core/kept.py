"""Ranges of frequencies that must stay: what makes an instrument what it is, found by cutting it out for a moment."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from mivlo.core.errors import InvalidValue
from mivlo.core.moves.bounds import HIGHEST_HZ, LOWEST_HZ

Range = tuple[float, float]
"""From and to, in Hz."""
MOST_RANGES = 32


def kept_ranges(given: Iterable[Sequence[float]]) -> tuple[Range, ...]:
    """Ranges from low to high; those that touch are one.

    Raises
    ------
    InvalidValue : one can't be, or there are too many.
    """
    found: list[Range] = []
    for low, high in sorted((float(a), float(b)) for a, b in given):
        if not LOWEST_HZ <= low < high <= HIGHEST_HZ:
            raise InvalidValue("kept", [low, high], "a range goes from a lower to a higher frequency, 10 Hz to 24 kHz")
        if found and low <= found[-1][1]:
            found[-1] = (found[-1][0], max(high, found[-1][1]))
        else:
            found.append((low, high))
    if len(found) > MOST_RANGES:
        raise InvalidValue("kept", len(found), f"there are at most {MOST_RANGES} ranges")
    return tuple(found)


def is_kept(frequency_hz: float, kept: Iterable[Range]) -> bool:
    """Whether a frequency lies in one of the ranges."""
    return any(low <= frequency_hz <= high for low, high in kept)
