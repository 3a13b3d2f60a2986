"""Which tracks are the left and the right of one."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from mivlo.services.song.naming import name_from_file, side_of

if TYPE_CHECKING:
    from mivlo.services.song.state import StripState


@dataclass(frozen=True, slots=True)
class Pair:
    """Two mono tracks that are the sides of one, and the name that they share."""

    left_id: int
    right_id: int
    name: str


def pairs_of(tracks: Iterable[StripState]) -> list[Pair]:
    """Tracks that look like two sides of one: by the names of their files, equally long, as yet without moves.

    A name that stands for more than one left or right is left alone.
    """
    sides: dict[str, dict[str, list[StripState]]] = {}
    names: dict[str, str] = {}
    for track in tracks:
        named = side_of(track.file_name)
        if named is not None and track.channels == 1 and not track.entries:
            name = name_from_file(named[0])  # without the number that a file begins with
            key = name.casefold()
            names.setdefault(key, name)
            sides.setdefault(key, {"l": [], "r": []})[named[1]].append(track)
    return [
        Pair(left[0].id, right[0].id, names[key])
        for key, (left, right) in ((key, (both["l"], both["r"])) for key, both in sides.items())
        if len(left) == len(right) == 1 and fit(left[0], right[0])
    ]


def fit(left: StripState, right: StripState) -> bool:
    """Whether two recordings have the same length, rate and beginning."""
    return (left.source_frames, left.source_rate, left.starts_at_s) == (
        right.source_frames, right.source_rate, right.starts_at_s
    )  # fmt: skip
