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


def by_importance(roles: Sequence[Role], ranks: Sequence[int | None] = ()) -> list[int]:
    """The numbers of tracks, the most important one first.

    ranks : of the tracks that somebody has put into an order, lowest first; None: by role, which puts such a track
        behind the last one of that order whose role does not come later.
    """
    place = [IMPORTANCE.index(role) for role in roles]
    known = [i for i in range(len(roles)) if i < len(ranks) and ranks[i] is not None]
    order = sorted(known, key=lambda i: (ranks[i] or 0, i))
    for i in sorted(set(range(len(roles))) - set(known), key=lambda i: (place[i], i)):
        behind = [n for n, other in enumerate(order) if place[other] <= place[i]]
        order.insert(behind[-1] + 1 if behind else 0, i)
    return order


def right_of_way(
    roles: Sequence[Role],
    covered: int,
    by: int,
    from_hz: float,
    to_hz: float,
    lows: Sequence[float],
    ranks: Sequence[int | None] = (),
) -> tuple[int, str]:
    """Which of two tracks keeps a range, and a reason in a few words.

    roles : of all tracks, in the song's order. lows : what share of its loudness each has below LOWS_BELOW_HZ.
    ranks : as of `by_importance`; where there are any, the order settles it everywhere.
    """
    both = (covered, by)
    order = by_importance(roles, ranks)
    first = min(both, key=order.index)
    if any(rank is not None for rank in ranks):
        return first, "it stands higher in your order"
    centre = (from_hz * to_hz) ** 0.5
    voices = [i for i in both if roles[i] is Role.VOICE]
    if VOICE_FROM_HZ <= centre <= VOICE_TO_HZ and len(voices) == 1:
        return voices[0], "a voice needs 1 to 5 kHz to be understood"
    if centre < LOWS_BELOW_HZ and {roles[i] for i in both} & {Role.BASS, Role.DRUMS} and lows[covered] != lows[by]:
        lower = max(both, key=lambda i: lows[i])
        return lower, "it lives in the lows more than the other"
    return first, "it comes first by role" if roles[both[0]] is not roles[both[1]] else "it stands first in the song"
