"""The same moves on another take: each centre where its resonance is there, each gain to what stands out there.

A network that is told how wide the resonance is, how far it stood out and how the first take sounds without it says
where within a third octave it stands (`mivlo.core.findings.place`). The network that looks for findings says what was
boosted, over frequency; into that curve the move's own shape is laid at the place, by least squares beside a slope and
a bend, and its height is what stands out there. Where next to nothing does, the move has no counterpart.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from mivlo.core.findings.closer import closer_grid
from mivlo.core.findings.cuts import bell_db
from mivlo.core.findings.frames import HIGHEST_HZ, LOWEST_HZ, finding_grid
from mivlo.core.findings.network import Reading
from mivlo.core.findings.place import Place, find_place
from mivlo.core.findings.search import Search
from mivlo.core.moves import DynamicMove, Move, Shape, StaticMove
from mivlo.core.units import Floats, q_to_octaves

REACH_OCT = 1.0 / 3.0
"""So far from its old place a resonance is looked for."""
LEAST_EXCESS_DB, LEAST_SHARE = 2.0, 0.2
"""What stands out less than this, or than this part of what the move is for, is none;"""
SURE, LEAST_SURE_DB = 0.5, 0.7
"""... unless its place is as sure as this, and it stands out by this at least."""
DEEPEST_DB = 15.0
BROAD_OCT = 0.75
"""A wider cut shapes a range, whatever rings in it: it stays where it is."""
MOST_RATIO = 1.5
"""A cut becomes by this much deeper at most, where what it was for is known."""
_AROUND_OCT = 0.5
_SHALLOW = 1.25
"""What stood out by so much more than a cut takes was left standing in part: its height is the resonance's."""
_USUAL_DB = 12.0
"""Height of the shape that is laid into the curve where the move says nothing of it."""


@dataclass(frozen=True, slots=True)
class Retuned:
    """A move on another take.

    move : as it is there; None where it has no counterpart, and `left_out` says why. excess_db : what stands out there.
    """

    move: Move | None
    excess_db: float = 0.0
    left_out: str | None = None


def can_be_retuned(move: Move) -> bool:
    """Whether a move is for something that can lie elsewhere: a narrow bell that cuts, or a notch."""
    if isinstance(move, StaticMove | DynamicMove) and q_to_octaves(move.q) > BROAD_OCT:
        return False
    match move:
        case StaticMove(shape=Shape.NOTCH):
            return True
        case StaticMove(shape=Shape.BELL):
            return move.gain_db < 0.0
        case DynamicMove(shape=Shape.BELL):
            return _depth(move) > 0.0
    return False


def retune(move: Move, to: Search, *, original: Search | None = None) -> Retuned:
    """A move refitted to another take.

    Parameters
    ----------
    to : a look at the other take. original : one at that which the move was made for, so that excess can be compared;
        without it a cut becomes as deep as what stands out.

    Moves that are for no resonance (shelves, cuts of the ends, boosts, rungs, what follows by itself) stay as they are,
    and so do those that lie beyond what is looked at.
    """
    if not can_be_retuned(move):
        return Retuned(move)
    assert isinstance(move, StaticMove | DynamicMove)
    if not LOWEST_HZ <= move.frequency_hz <= min(HIGHEST_HZ, to.highest_hz):
        return Retuned(move)
    if to.silent:
        return Retuned(None, left_out="there is nothing to be heard")
    if original is not None and (original.silent or move.frequency_hz > original.highest_hz):
        original = None
    before = None if original is None else _excess_at(move, original.reading)
    place = _place(move, to, original, before)
    excess = max(0.0, _height(move, to.reading, math.log2(place.frequency_hz)))
    least = max(LEAST_EXCESS_DB, LEAST_SHARE * (_depth(move) if before is None else before))
    if excess < (LEAST_SURE_DB if place.certainty > SURE else least):
        return Retuned(None, round(excess, 2), f"nothing like it stands out within a third octave ({excess:.1f} dB)")
    return Retuned(_moved(move, place.frequency_hz, excess, before), round(excess, 2))


def _depth(move: Move) -> float:
    """How deep a cut goes, above 0."""
    if isinstance(move, DynamicMove):
        return -(min(move.gain_db, 0.0) + min(move.range_db, 0.0))
    return -move.gain_db if isinstance(move, StaticMove) and move.shape.has_gain else 0.0


def _height(move: StaticMove | DynamicMove, reading: Reading, octave: float) -> float:
    """How high the move's shape stands at a place in what was boosted, in dB."""
    at = np.log2(finding_grid())
    width = q_to_octaves(move.q)
    height = max(_depth(move), 3.0) if _depth(move) > 0.0 else _USUAL_DB
    near = np.abs(at - octave) < max(_AROUND_OCT, 2.0 * width)
    bell = bell_db(at[near], octave, width, height)
    curve = (reading.boost_db + reading.hump_db)[near]
    away = at[near] - octave
    smooth, _ = np.linalg.qr(np.stack([np.ones_like(away), away, away * away], axis=1))
    rest: Floats = bell - smooth @ (smooth.T @ bell)
    return float(height * (rest @ curve) / (rest @ rest))


def _excess_at(move: StaticMove | DynamicMove, reading: Reading) -> float:
    """What stood out at the move's own place."""
    return max(0.0, _height(move, reading, math.log2(move.frequency_hz)))


def _place(move: StaticMove | DynamicMove, to: Search, original: Search | None, before: float | None) -> Place:
    """Where its resonance most likely stands, no further away than it is looked for."""
    octaves, height = q_to_octaves(move.q), _depth(move) or _USUAL_DB
    if before is not None and before > _SHALLOW * height:
        height = before
    first = None
    if original is not None:
        bell = bell_db(np.log2(closer_grid()), math.log2(move.frequency_hz), octaves, height)
        first = original.closer - bell.astype(np.float32)
    place = find_place(to.closer_rows, octaves=octaves, gain_db=height, hz=move.frequency_hz, first_db=first)
    reach = 2.0**REACH_OCT
    hz = float(np.clip(place.frequency_hz, move.frequency_hz / reach, move.frequency_hz * reach))
    return replace(place, frequency_hz=hz)


def _moved(move: StaticMove | DynamicMove, centre_hz: float, excess: float, before: float | None) -> Move:
    """The move at its new place, as deep as what stands out there."""
    depth = _depth(move)
    hz = round(centre_hz, 2)
    if depth <= 0.0:  # a notch has no depth
        return replace(move, frequency_hz=hz)
    if before is not None and before >= LEAST_EXCESS_DB:
        ratio = min(excess / before, MOST_RATIO)
    else:
        ratio = min(excess, DEEPEST_DB) / depth
    if isinstance(move, DynamicMove):
        gain, reach = (round(db * ratio, 2) if db < 0.0 else db for db in (move.gain_db, move.range_db))
        return replace(move, frequency_hz=hz, gain_db=gain, range_db=reach)
    return replace(move, frequency_hz=hz, gain_db=round(move.gain_db * ratio, 2))
