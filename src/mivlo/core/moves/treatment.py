"""The treatment of a strip: its moves in order, by how much they act, and what comes behind them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import Annotated, ClassVar

from annotated_types import Interval, MaxLen

from mivlo.core.errors import InvalidValue
from mivlo.core.moves.aftercare import NO_AFTERCARE, Aftercare
from mivlo.core.moves.entry import Entry, Name, Place
from mivlo.core.moves.kinds import Move

MOST_MOVES = 200
"""Moves of one strip."""
ALL = "all"
"""The amount that scales every move."""

Amount = Annotated[float, Interval(ge=0.0, le=1.5)]


class Phase(StrEnum):
    """How the static moves treat phase."""

    MINIMUM = "minimum"
    LINEAR = "linear"
    ANALOGUE = "analogue"


@dataclass(frozen=True, slots=True, kw_only=True)
class Treatment:
    """All that is done to a strip's sound before its fader.

    Parameters
    ----------
    entries : in the order in which they act.
    amounts : scale what moves do, in dB: "all", and names of links.
    phase : how static moves treat phase.
    aftercare : what comes behind.
    """

    __pydantic_config__: ClassVar[dict[str, str]] = {"extra": "forbid"}

    entries: Annotated[tuple[Entry, ...], MaxLen(MOST_MOVES)] = ()
    amounts: Annotated[Mapping[Name, Amount], MaxLen(1 + MOST_MOVES)] = field(default_factory=dict)
    phase: Phase = Phase.MINIMUM
    aftercare: Aftercare = NO_AFTERCARE

    def __post_init__(self) -> None:
        if len(self.entries) > MOST_MOVES:
            raise InvalidValue("entries", len(self.entries), f"a strip has at most {MOST_MOVES} moves")
        ids = [entry.id for entry in self.entries]
        if len(set(ids)) < len(ids):
            twice = next(one for one in ids if ids.count(one) > 1)
            raise InvalidValue("id", twice, "each move needs an id of its own")
        for name, amount in self.amounts.items():
            if not 0.0 <= amount <= 1.5:
                raise InvalidValue(f"amounts.{name}", amount, "it must lie between 0 and 1.5")

    def heard(self) -> tuple[Entry, ...]:
        """The entries as they act: amounts applied, those before the aftercare first."""
        acting = list(self.entries)
        if self.amounts:
            acting = [replace(e, move=e.move.scaled(self.amount_of(e))) for e in acting]
        return (*(e for e in acting if e.place is Place.BEFORE), *(e for e in acting if e.place is Place.BEHIND))

    def amount_of(self, entry: Entry) -> float:
        """By how much an entry acts: the amount for all times that of each of its links."""
        amount = self.amounts.get(ALL, 1.0)
        for link in entry.links:
            if link != ALL:
                amount *= self.amounts.get(link, 1.0)
        return amount

    def exported(self, *, aftercare: bool = True, reverb: bool = False) -> Treatment:
        """The same without what a file shall not have: the reverb, or all that comes behind the moves but the gain."""
        kept = self.aftercare if aftercare else Aftercare(output_db=self.aftercare.output_db)
        return replace(self, aftercare=kept if reverb else replace(kept, reverb=None))

    @property
    def changes_nothing(self) -> bool:
        """Whether what comes out is what goes in."""
        return self.aftercare == NO_AFTERCARE and not any(entry.enabled for entry in self.entries)

    @property
    def listens_to(self) -> tuple[int, ...]:
        """Strips whose sound it needs beside its own, each once."""
        return tuple(dict.fromkeys(i for e in self.entries if e.enabled for i in e.move.listens_to))

    @classmethod
    def of(cls, moves: Iterable[Move]) -> Treatment:
        """The treatment that applies these moves, one behind the other."""
        return cls.of_entries(Entry(move=move) for move in moves)

    @classmethod
    def of_entries(cls, entries: Iterable[Entry]) -> Treatment:
        """The treatment of these entries, numbered anew."""
        return cls(entries=tuple(replace(entry, id=i) for i, entry in enumerate(entries)))
