"""The kinds of moves. A new kind is a module of its own and a member of the union `Move`.

What a kind must have: a frozen dataclass with `mode: Literal[NAME] = NAME`, and what `MoveKind` asks for.
What it does to sound is a processor, registered in `mivlo.core.processors`.
"""

from __future__ import annotations

from typing import Any, ClassVar, Protocol, get_args

import numpy as np
import numpy.typing as npt

from mivlo.core.moves.adaptive import AdaptiveMove
from mivlo.core.moves.dynamic import DynamicMove
from mivlo.core.moves.fixed import treatment_db
from mivlo.core.moves.rungs import RungsMove
from mivlo.core.moves.static import StaticMove
from mivlo.core.units import Floats

Move = StaticMove | DynamicMove | AdaptiveMove | RungsMove
"""Any move: the union of all kinds, told apart by `mode`."""


class MoveKind(Protocol):
    """What every kind of move has."""

    __dataclass_fields__: ClassVar[dict[str, Any]]

    @property
    def mode(self) -> str: ...

    @property
    def listens_to(self) -> tuple[int, ...]:
        """Ids of the strips whose sound it needs beside its own."""

    @property
    def absent(self) -> tuple[str, ...]:
        """Fields that mean nothing with its present values."""

    @property
    def implied(self) -> tuple[str, ...]:
        """Fields that only say what goes without saying."""

    @property
    def needed(self) -> tuple[str, ...]:
        """Fields that a document must give, though the type has a default."""

    @property
    def gathers(self) -> bool:
        """Whether one processor does neighbours of this kind at once."""

    @property
    def structure(self) -> tuple[object, ...]:
        """What can't glide to another value while it sounds (look-ahead, say)."""

    def scaled(self, amount: float) -> Any:
        """The same move, acting by `amount` as much (in dB)."""


def curve_db(move: Move, at_hz: npt.ArrayLike, *, sample_rate: float) -> Floats:
    """What a move does to levels at frequencies (m,) while it rests: its static part."""
    match move:
        case StaticMove() | RungsMove():
            return treatment_db([move], at_hz, sample_rate=sample_rate)
        case DynamicMove():
            return treatment_db([move.resting], at_hz, sample_rate=sample_rate)
    return np.zeros(np.shape(at_hz))


def move_kinds() -> tuple[type[Any], ...]:
    """The members of the union, in order."""
    return get_args(Move) or (Move,)


def mode_of(kind: type[Any]) -> str:
    """The name of a kind in documents."""
    return str(kind.__dataclass_fields__["mode"].default)
