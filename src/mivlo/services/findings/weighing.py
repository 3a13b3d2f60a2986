"""What the song says of a finding: how its like was decided in other tracks, and what these tracks sound like.

An engineer who accepted a ring at a place in one track will want to know of it in the next, and one who called it no
problem there will not. What a further microphone lacks is no tone of the instrument, what a room rings with rings in
all that is played there; what comes from another track is to be cut there, and a note that several play is none's
trouble. Each moves the log-odds of a finding that is still open; by how much is set by hand, no source.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from scipy.special import expit, logit

from mivlo.core.findings.ensemble import LEAST_GAP_DB, Beside

ACCEPTED_ODDS, REJECTED_ODDS, MOST_ODDS = 0.5, -1.0, 1.5
LACKING_ODDS, RINGS_ODDS, MOST_RINGS_ODDS, SPILL_ODDS, NOTE_ODDS = 1.5, 0.7, 1.4, -1.5, -1.0


@dataclass(frozen=True, slots=True)
class Weighed:
    """A confidence with the song's decisions taken in, and what they are, in words."""

    confidence: float
    says: str


def weigh(
    confidence: float, decided: Sequence[str], beside: Beside | None = None, names: Mapping[int, str] | None = None
) -> Weighed:
    """A confidence with all that the song says.

    decided : "accepted" or "rejected" for each other track in which its like was decided. beside : what the other
    tracks sound like there, these by their ids in `names`; of a track that is gone nothing is said.
    """
    yes, no = decided.count("accepted"), decided.count("rejected")
    odds = min(max(yes * ACCEPTED_ODDS + no * REJECTED_ODDS, -MOST_ODDS), MOST_ODDS)
    told = [f"accepted in {_tracks(yes)}"] * bool(yes) + [f"no problem in {_tracks(no)}"] * bool(no)
    says = [f"The same was {', '.join(told)}."] * bool(told)
    if beside is not None:
        by, said = _beside(beside, names or {})
        odds, says = odds + by, says + [said] * bool(said)
    if not says:
        return Weighed(confidence, "")
    held = min(max(confidence, 0.01), 0.99)
    return Weighed(round(float(expit(odds + logit(held))), 3), " ".join(says))


def _beside(beside: Beside, names: Mapping[int, str]) -> tuple[float, str]:
    """(log-odds, sentence) of what the other tracks sound like."""
    if beside.lacking_db is not None and beside.lacking_db >= LEAST_GAP_DB:
        return LACKING_ODDS, f"It stands {beside.lacking_db:.0f} dB over what the other tracks have of the same sound."
    rings = [names[k] for k in beside.rings_in if k in names]
    if rings:
        said = (
            f"It rings in {_and(rings)} as well while this track is silent there: the room, or what all went through."
        )
        return min(len(rings) * RINGS_ODDS, MOST_RINGS_ODDS), said
    if beside.spill_of is not None and beside.spill_of in names:
        late = f", {beside.spill_ms:.0f} ms later" if beside.spill_ms else ""
        return SPILL_ODDS, f"It is spill of {names[beside.spill_of]}{late}: cut it there."
    notes = [names[k] for k in beside.notes_of if k in names]
    if len(notes) > 1:
        return NOTE_ODDS, f"{_and(notes)} play it at the same times: perhaps a note of the piece."
    return 0.0, ""


def _and(names: Sequence[str]) -> str:
    """Two are named, more are counted."""
    return " and ".join(names) if len(names) < 3 else f"{names[0]}, {names[1]} and {len(names) - 2} more"


def _tracks(count: int) -> str:
    return "another track" if count == 1 else f"{count} other tracks"
