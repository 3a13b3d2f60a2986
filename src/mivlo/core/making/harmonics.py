"""A set of cuts at the octaves or multiples of a frequency, named by its note."""

from __future__ import annotations

from mivlo.core.moves import HIGHEST_HZ, Shape, StaticMove
from mivlo.core.moves.members import Spacing, members_hz
from mivlo.core.moves.together import SET
from mivlo.core.units import hz_to_note

_NUMBERS = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve")


def harmonics(
    frequency_hz: float,
    count: int,
    spacing: Spacing,
    *,
    gain_db: float,
    q: float,
    taper_db: float = 0.0,
    highest_hz: float = HIGHEST_HZ,
) -> list[StaticMove]:
    """Bells at a frequency and its octaves or multiples, lowest first.

    Parameters
    ----------
    count : members, the first among them. taper_db : each is by so much nearer to no gain than the one before it.
    highest_hz : members above it are left out.

    Raises
    ------
    InvalidValue : no number of members that can be.
    """
    out = []
    for n, hz in enumerate(members_hz(frequency_hz, count, spacing, highest_hz=highest_hz)):
        left = max(0.0, abs(gain_db) - n * taper_db)
        if left or not gain_db:
            gain = left if gain_db > 0.0 else -left
            out.append(StaticMove(Shape.BELL, round(hz, 2), q=q, gain_db=round(gain, 2)))
    return out


def set_name(frequency_hz: float, count: int, spacing: Spacing) -> str:
    """The link of a set: "set: F♯4, five octaves"."""
    note = hz_to_note(frequency_hz)
    number = _NUMBERS[count] if count < len(_NUMBERS) else str(count)
    word = "octaves" if Spacing(spacing) is Spacing.OCTAVES else "harmonics"
    return f"{SET}{note.name}{note.octave}, {number} {word if count != 1 else word[:-1]}"
