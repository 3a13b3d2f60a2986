"""What the song says of a finding: how its like was decided in other tracks.

An engineer who accepted a ring at a place in one track will want to know of it in the next, and one who called it no
problem there will not. Each decision on its like moves the log-odds of a finding that is still open; by how much is
set by hand, no source.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

ACCEPTED_ODDS, REJECTED_ODDS, MOST_ODDS = 0.5, -1.0, 1.5


@dataclass(frozen=True, slots=True)
class Weighed:
    """A confidence with the song's decisions taken in, and what they are, in words."""

    confidence: float
    says: str


def weigh(confidence: float, decided: Sequence[str]) -> Weighed:
    """`decided` : "accepted" or "rejected" for each other track in which its like was decided."""
    yes, no = decided.count("accepted"), decided.count("rejected")
    if not yes and not no:
        return Weighed(confidence, "")
    moved = min(max(yes * ACCEPTED_ODDS + no * REJECTED_ODDS, -MOST_ODDS), MOST_ODDS)
    held = min(max(confidence, 0.01), 0.99)
    odds = math.log(held / (1.0 - held)) + moved
    told = [f"accepted in {_tracks(yes)}"] * bool(yes) + [f"no problem in {_tracks(no)}"] * bool(no)
    return Weighed(round(1.0 / (1.0 + math.exp(-odds)), 3), f"The same was {', '.join(told)}.")


def _tracks(count: int) -> str:
    return "another track" if count == 1 else f"{count} other tracks"
