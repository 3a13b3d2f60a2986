"""Right of way: which of two tracks keeps a place, and why. Common practice, no source."""

from __future__ import annotations

from collections.abc import Sequence

from mivlo.core.roles import Role

IMPORTANCE: tuple[Role, ...] = (
    Role.VOICE, Role.DRUMS, Role.BASS, Role.BRASS, Role.STRINGS, Role.WINDS, Role.GUITAR, Role.KEYS, Role.MALLETS,
    Role.PERCUSSION, Role.OTHER, Role.ROOM,
)  # fmt: skip
"""What a mix is usually about, first; tracks of the same role keep the song's order."""
VOICE_FROM_HZ, VOICE_TO_HZ = 1_000.0, 5_000.0
LOWS_BELOW_HZ = 150.0


def by_importance(roles: Sequence[Role]) -> list[int]:
    """The numbers of tracks, the most important one first."""
    return sorted(range(len(roles)), key=lambda i: (IMPORTANCE.index(roles[i]), i))


def right_of_way(
    roles: Sequence[Role], covered: int, by: int, from_hz: float, to_hz: float, lows: Sequence[float]
) -> tuple[int, str]:
    """Which of two tracks keeps a range, and a reason in a few words.

    roles : of all tracks, in the song's order. lows : what share of its loudness each has below LOWS_BELOW_HZ.
    """
    both = (covered, by)
    centre = (from_hz * to_hz) ** 0.5
    voices = [i for i in both if roles[i] is Role.VOICE]
    if VOICE_FROM_HZ <= centre <= VOICE_TO_HZ and len(voices) == 1:
        return voices[0], "a voice needs 1 to 5 kHz to be understood"
    if centre < LOWS_BELOW_HZ and {roles[i] for i in both} & {Role.BASS, Role.DRUMS} and lows[covered] != lows[by]:
        lower = max(both, key=lambda i: lows[i])
        return lower, "it lives in the lows more than the other"
    order = by_importance(roles)
    first = min(both, key=order.index)
    return first, "it comes first by role" if roles[both[0]] is not roles[both[1]] else "it stands first in the song"
