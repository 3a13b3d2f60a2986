"""Moves that are fixed filters: what they are made of, as sections and as a curve."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np
import numpy.typing as npt

from mivlo.core.filters import response_db
from mivlo.core.moves.rungs import RungsMove
from mivlo.core.moves.static import StaticMove, move_sections
from mivlo.core.units import Floats, db_to_gain

FixedMove = StaticMove | RungsMove
"""A move whose filter stays as it is: other phases than its own may be asked of it."""


def treatment_sections(moves: Iterable[FixedMove], *, sample_rate: float) -> Floats:
    """The sections of all moves, in scipy's order: (n, 6), n may be 0."""
    parts = [np.empty((0, 6))]
    for move in moves:
        level_db, made_of = move.made_of
        if level_db:
            parts.append(np.array([[db_to_gain(level_db), 0.0, 0.0, 1.0, 0.0, 0.0]]))
        parts += [move_sections(part, sample_rate=sample_rate) for part in made_of]
    return np.concatenate(parts)


def treatment_db(moves: Sequence[FixedMove], at_hz: npt.ArrayLike, *, sample_rate: float) -> Floats:
    """What all moves do together, in dB at the frequencies `at_hz` (m,)."""
    return response_db(treatment_sections(moves, sample_rate=sample_rate), at_hz, sample_rate=sample_rate)
