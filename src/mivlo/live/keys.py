"""What a move listens to, to be heard: its key through the band that it reads a level of."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from itertools import takewhile

from mivlo.core.graph import Plan
from mivlo.core.moves import (
    MOST_MOVES,
    NO_AFTERCARE,
    SELF,
    AdaptiveMove,
    DynamicMove,
    Entry,
    KeyShape,
    Place,
    Shape,
    StaticMove,
    Treatment,
    key_band,
)
from mivlo.core.moves.static import Slope

_BAND_ID = 2**32 - 1
_PARTS: Mapping[KeyShape | Shape, tuple[Shape, Slope]] = {
    KeyShape.LOW: (Shape.HIGH_CUT, 24),
    KeyShape.HIGH: (Shape.LOW_CUT, 24),
    Shape.LOW_SHELF: (Shape.HIGH_CUT, 12),
    Shape.HIGH_SHELF: (Shape.LOW_CUT, 12),
}


def heard_key(plan: Plan, strip_id: int, move_id: int) -> tuple[int, dict[int, Treatment]] | None:
    """The strip that a move of a strip listens to, and the treatments with which it sounds as the move hears it.

    None where there is no such move that listens, or where what it listens to is gone: that is silence.
    """
    here = plan.strips[strip_id].treatment
    entry = next((e for e in here.entries if e.id == move_id), None)
    if entry is None or not isinstance(entry.move, DynamicMove | AdaptiveMove):
        return None
    move = entry.move
    band = Entry(id=_BAND_ID, move=_band(move))
    if move.key.source == SELF:
        before = tuple(takewhile(lambda e: e.id != move_id, here.entries))
        return strip_id, {strip_id: _alone(here, (*before[: MOST_MOVES - 1], band))}
    (source,) = move.listens_to
    if source not in plan.strips:
        return None
    treatments = {i: _unlistening(plan.strips[i].treatment) for i in (source, *plan.below(source))}
    of_source = treatments[source]
    treatments[source] = replace(of_source, entries=(*of_source.entries[: MOST_MOVES - 1], band))
    return source, treatments


def _unlistening(treatment: Treatment) -> Treatment:
    """As those hear a strip who listen to it: without the moves that listen to others, and what comes behind."""
    return _alone(treatment, tuple(e for e in treatment.entries if not e.move.listens_to))


def _alone(treatment: Treatment, entries: tuple[Entry, ...]) -> Treatment:
    before = tuple(e for e in entries if e.place is Place.BEFORE)
    return replace(treatment, entries=before, aftercare=NO_AFTERCARE)


def _band(move: DynamicMove | AdaptiveMove) -> StaticMove:
    if isinstance(move, AdaptiveMove):
        octaves = math.log2(move.to_hz / move.from_hz)
        q = math.sqrt(2.0**octaves) / (2.0**octaves - 1.0)
        return StaticMove(Shape.BAND_PASS, math.sqrt(move.from_hz * move.to_hz), q=max(q, 0.1))
    shape, frequency_hz, q = key_band(move)
    if shape in _PARTS:
        cut, slope = _PARTS[shape]
        return StaticMove(cut, frequency_hz, q=math.sqrt(0.5), slope_db_per_octave=slope)
    return StaticMove(Shape.BAND_PASS, frequency_hz, q=q)
