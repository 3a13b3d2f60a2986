"""Moves that move together: a set of harmonics on one strip, or twins on several.

They share a link whose name says so. What is changed of one is changed of the others: a frequency by the same ratio, a
gain, a range or a threshold by the same difference, anything else to the same value.
"""

from __future__ import annotations

from typing import Any

from mivlo.core.moves.bounds import clamped
from mivlo.core.moves.entry import Entry

SET, TWINS = "set: ", "twins: "
"""How the names of such links begin."""
_BY_RATIO = ("frequency_hz", "from_hz", "to_hz")
_BY_DIFFERENCE = ("gain_db", "range_db", "threshold_db", "most_db")
_OWN = ("id", "links", "note", "stretches", "mode", "key", "channels", "place")
"""What each has for itself."""


def link_of(entry: Entry) -> str | None:
    """The link by which a move goes with others; None where it goes alone."""
    return next((name for name in entry.links if name.startswith((SET, TWINS))), None)


def following(before: dict[str, Any], after: dict[str, Any], other: dict[str, Any], kind: type[Any]) -> dict[str, Any]:
    """What changes of another move, of some kind, when one of its set goes from one document to another.

    Only what both have, as far as a move can go; nothing where they are of different kinds.
    """
    if before.get("mode") != after.get("mode") or other.get("mode") != after.get("mode"):
        return {}
    changed = {key for key in after if key in other and key not in _OWN and after[key] != before.get(key)}
    out: dict[str, Any] = {}
    for key in changed:
        if key in _BY_RATIO:
            out[key] = round(clamped(kind, key, other[key] * after[key] / before[key]), 2)
        elif key in _BY_DIFFERENCE:
            out[key] = round(clamped(kind, key, other[key] + after[key] - before[key]), 2)
        else:
            out[key] = after[key]
    return out
