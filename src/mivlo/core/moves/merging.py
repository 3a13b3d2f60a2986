"""Moves of several strips as those of one: what is nearly the same becomes one move."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from mivlo.core.moves.entry import Entry
from mivlo.core.moves.static import StaticMove

NEAR_OCT = 1.0 / 24.0
"""Static moves of one shape whose frequencies lie so near to each other become one."""


@dataclass(frozen=True, slots=True)
class Merged:
    """An entry, and the ids of those that it stands for."""

    entry: Entry
    of: tuple[int, ...]


def merge(entries: Sequence[Entry], *, within_oct: float = NEAR_OCT) -> list[Merged]:
    """Entries of several strips, as those of one: static ones of the same shape become one of mean gain.

    Merged are static moves of one shape (cuts: of one slope) that act on the same channels, at the same times, in the
    same place, and are all on or all off. Frequency and quality are the geometric means, the gain is the mean in dB.
    What listens or adapts is kept as it is: its thresholds are of the sound that it was made for.

    Parameters
    ----------
    entries : each with an id of its own.
    within_oct : octaves between the lowest and the highest that become one.

    Returns
    -------
    In the order of the first that each stands for.
    """
    order = {entry.id: i for i, entry in enumerate(entries)}
    alike: dict[object, list[Entry]] = {}
    for entry in entries:
        alike.setdefault(_kind(entry), []).append(entry)
    found = []
    for same in alike.values():
        for near in _near(same, within_oct):
            near.sort(key=lambda e: order[e.id])
            found.append(Merged(_mean(near), tuple(e.id for e in near)))
    return sorted(found, key=lambda m: order[m.of[0]])


def _kind(entry: Entry) -> object:
    move = entry.move
    if not isinstance(move, StaticMove):
        return entry.id
    slope = move.slope_db_per_octave if move.shape.has_slope else 0
    fade = entry.fade_ms if entry.stretches else 0.0
    return (move.shape, slope, entry.channels, entry.place, entry.stretches, fade, entry.enabled)


def _near(same: list[Entry], within_oct: float) -> list[list[Entry]]:
    groups: list[list[Entry]] = []
    for entry in sorted(same, key=lambda e: e.move.frequency_hz):
        lowest = groups[-1][0].move.frequency_hz if groups else 0.0
        # a rounding error must not part what lies at just this distance
        if groups and math.log2(entry.move.frequency_hz / lowest) <= within_oct + 1e-9:
            groups[-1].append(entry)
        else:
            groups.append([entry])
    return groups


def _mean(near: list[Entry]) -> Entry:
    first = near[0]
    moves = [e.move for e in near if isinstance(e.move, StaticMove)]
    if len(moves) < 2:
        return first
    mean = replace(
        moves[0],
        frequency_hz=round(_geometric([m.frequency_hz for m in moves]), 2),
        q=_geometric([m.q for m in moves]),
        gain_db=round(sum(m.gain_db for m in moves) / len(moves), 2),
    )
    links = tuple(dict.fromkeys(link for e in near for link in e.links))
    return replace(first, move=mean, links=links, note=next((e.note for e in near if e.note), ""))


def _geometric(values: list[float]) -> float:
    if max(values) == min(values):
        return values[0]
    return math.exp(sum(math.log(v) for v in values) / len(values))
