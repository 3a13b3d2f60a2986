"""Moves that are heard but not saved: they lie over the saved state until their owner ends them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from mivlo.core.moves import MOST_MOVES, Entry, Treatment


@dataclass(frozen=True, slots=True)
class Preview:
    """What a listener has changed of one strip: other values of saved moves, moves besides, moves left out."""

    changed: Mapping[int, Entry]
    added: tuple[Entry, ...]
    left_out: frozenset[int]

    @classmethod
    def of(cls, entries: Sequence[Entry], saved: Treatment) -> Preview:
        """What makes `entries` of the saved treatment."""
        known = {entry.id: entry for entry in saved.entries}
        given = {entry.id for entry in entries}
        return cls(
            changed={e.id: e for e in entries if e.id in known and e != known[e.id]},
            added=tuple(e for e in entries if e.id not in known),
            left_out=frozenset(known.keys() - given),
        )

    @property
    def empty(self) -> bool:
        return not (self.changed or self.added or self.left_out)

    def over(self, saved: Treatment) -> Treatment:
        """The treatment as the listener hears it, whatever was saved meanwhile."""
        entries = [self.changed.get(e.id, e) for e in saved.entries if e.id not in self.left_out]
        here = {e.id for e in entries}
        entries += [e for e in self.added if e.id not in here]
        return replace(saved, entries=tuple(entries[:MOST_MOVES]))


def only(treatment: Treatment, ids: frozenset[int]) -> Treatment:
    """The chosen moves alone, switched on; those that are not there any more are not missed."""
    entries = tuple(replace(e, enabled=e.id in ids) for e in treatment.entries)
    return replace(treatment, entries=entries)
