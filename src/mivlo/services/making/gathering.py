"""Treating a group in place of its tracks, and back: listed before, measured, made as one step."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np

from mivlo.core.errors import InvalidValue
from mivlo.core.graph import Plan, StripKind, Tap
from mivlo.core.loudness import gated_loudness
from mivlo.core.moves import LARGEST_ID, Entry, StaticMove, Treatment
from mivlo.core.moves.merging import merge
from mivlo.core.spectra import log_grid, long_term_levels
from mivlo.core.units import Floats
from mivlo.services.making.hearing import sound_of, span_of
from mivlo.services.song.edits import lock_song
from mivlo.services.song.log import Change
from mivlo.services.song.moves import add_moves, check_entry, words_of
from mivlo.services.song.state import SongState, StripState, read_song
from mivlo.services.song.strips import strip_row
from mivlo.store.database import session
from mivlo.store.models import FindingRow

_HEARD_DB = 60.0
"""What lies further below the loudest third of an octave is not compared."""
_THIRDS = 3


class Direction(StrEnum):
    """From the tracks to their group, or from the group to its tracks."""

    TO_GROUP = "to_group"
    TO_TRACKS = "to_tracks"


@dataclass(frozen=True, slots=True)
class Line:
    """A move that would be made: on which strip, for which moves, and a sentence about it."""

    strip_id: int
    entry: Entry
    of: tuple[int, ...]
    says: str


@dataclass(frozen=True, slots=True)
class Difference:
    """By how much a group's sum over the passage would change.

    lu : its loudness. most_db, at_hz : the third of an octave that changes most; 0 dB where nothing is heard.
    """

    lu: float
    most_db: float
    at_hz: float


@dataclass(frozen=True, slots=True)
class Gathering:
    """What would be made, what goes for it, what stays where it is and why, and what that does to the sum."""

    lines: list[Line]
    gone: list[int]
    stays: list[str]
    difference: Difference


def plan_gathering(song_id: int, group_id: int, direction: Direction, move_ids: Sequence[int]) -> Gathering:
    """What treating a group in place of its tracks (or its tracks in its place) would be; nothing is changed.

    Raises
    ------
    InvalidValue : it is no group, none of the moves is of it, or nothing can be moved.
    """
    with session() as open_session:
        song = read_song(open_session, song_id)
    lines, gone, stays = _lines(song, group_id, direction, move_ids)
    return Gathering(lines, gone, stays, _difference(song, group_id, lines, gone))


def gather(
    song_id: int,
    group_id: int,
    direction: Direction,
    move_ids: Sequence[int],
    *,
    outline: int | None = None,
    page: str = "",
) -> None:
    """Do what `plan_gathering` says, as one step. Findings whose moves go are decided by those that come."""
    with session() as open_session:
        locked = lock_song(open_session, song_id, outline=outline)
        song = read_song(open_session, song_id)
        lines, gone, _ = _lines(song, group_id, direction, move_ids)
        entries = [(strip_row(open_session, song_id, line.strip_id), line.entry) for line in lines]
        found = open_session.query(FindingRow).where(FindingRow.move_id.in_(gone)).all()

        def also(made: list[int]) -> tuple[list[Change], list[Change]]:
            heir = {old: new for line, new in reversed(list(zip(lines, made, strict=True))) for old in line.of}
            forward = [Change("move", i, {"deleted": True}) for i in gone]
            forward += [Change("finding", f.id, {"move_id": heir[f.move_id]}) for f in found if f.move_id]
            backward = [Change("finding", f.id, {"move_id": f.move_id}) for f in found]
            return forward, [*backward, *(Change("move", i, {"deleted": False}) for i in gone)]

        name = song.strip(group_id).name
        label = f"treat {name} in place of its tracks"
        if direction is Direction.TO_TRACKS:
            label = f"treat the tracks of {name} in its place"
        add_moves(open_session, locked, entries, label, also=also, page=page)


def _lines(
    song: SongState, group_id: int, direction: Direction, move_ids: Sequence[int]
) -> tuple[list[Line], list[int], list[str]]:
    group = song.strip(group_id)
    if group.kind is StripKind.TRACK:
        raise InvalidValue("strip", group.name, "it is a track; choose a group or the mix")
    below = song.plan.below(group_id)
    tracks = [t for t in song.tracks if t.id in below]
    if not tracks:
        raise InvalidValue("strip", group.name, "no track runs into it yet")
    wanted = set(move_ids)
    if direction is Direction.TO_GROUP:
        lines, stays = _to_group(song, group, tracks, wanted)
    else:
        lines, stays = _to_tracks(song, group, tracks, wanted)
    gone = sorted({old for line in lines for old in line.of})
    if not lines:
        raise InvalidValue("move_ids", sorted(wanted), stays[0] if stays else "choose moves that are on these strips")
    return lines, gone, stays


def _to_group(
    song: SongState, group: StripState, tracks: list[StripState], wanted: set[int]
) -> tuple[list[Line], list[str]]:
    owner: dict[int, StripState] = {}
    chosen, stays = [], []
    for track in tracks:
        for entry in track.entries:
            if entry.id not in wanted:
                continue
            owner[entry.id] = track
            moved = _as_heard_on(entry, track, group)
            if refused := _refusal(song, group, moved):
                stays.append(f"{track.name}: {words_of(entry)} stays: {refused}.")
            else:
                chosen.append(moved)
    lines = []
    for merged in merge(chosen):
        names = list(dict.fromkeys(owner[i].name for i in merged.of))
        others = len(tracks) - len(names)
        says = f"from {_listed(names)}"
        if others:
            says += f"; {others} more {'track gets' if others == 1 else 'tracks get'} it too"
        if not isinstance(merged.entry.move, StaticMove):
            says += "; it hears the sum, look at its threshold"
        lines.append(Line(group.id, merged.entry, merged.of, says))
    return lines, stays


def _to_tracks(
    song: SongState, group: StripState, tracks: list[StripState], wanted: set[int]
) -> tuple[list[Line], list[str]]:
    lines, stays = [], []
    for entry in (e for e in group.entries if e.id in wanted):
        mine = []
        refusals = []
        for track in tracks:
            moved = _as_heard_on(entry, group, track)
            if refused := _refusal(song, track, moved):
                refusals.append(f"{track.name}: {refused}")
            else:
                says = "" if isinstance(entry.move, StaticMove) else "it hears the track alone, look at its threshold"
                mine.append(Line(track.id, moved, (entry.id,), says))
        if refusals:  # part of the tracks without it would be another sound
            stays.append(f"{words_of(entry)} stays: {'; '.join(refusals)}.")
        else:
            lines += mine
    return lines, stays


def _as_heard_on(entry: Entry, strip: StripState, other: StripState) -> Entry:
    """An entry of a strip as it has to be on another one to do the same, whatever both strips' amounts are."""
    here, there = strip.treatment.amount_of(entry), other.treatment.amount_of(entry)
    return replace(entry, move=entry.move.scaled(here / there if there else here))


def _refusal(song: SongState, strip: StripState, entry: Entry) -> str:
    """Why an entry can't be on a strip; empty where it can."""
    try:
        check_entry(song, strip, entry)
    except InvalidValue as refused:
        return refused.bound
    return ""


def _listed(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


def _difference(song: SongState, group_id: int, lines: Sequence[Line], gone: Sequence[int]) -> Difference:
    """Measured on the group's rendered sum over the passage."""
    treatments: dict[int, Treatment] = {}
    for strip in song.strips:
        kept = tuple(e for e in strip.entries if e.id not in gone)
        # what is new gets a number that nobody has
        new = (replace(line.entry, id=LARGEST_ID - i) for i, line in enumerate(lines) if line.strip_id == strip.id)
        treatments[strip.id] = replace(strip.treatment, entries=(*kept, *new))
    before, after = (_sum(song, plan, group_id) for plan in (song.plan, song.plan.with_treatments(treatments)))
    if not before.any():
        return Difference(0.0, 0.0, 0.0)
    rate = song.sample_rate
    grid = log_grid(_THIRDS)
    was, is_now = (long_term_levels(x, grid, sample_rate=rate, bands_per_octave=_THIRDS) for x in (before, after))
    heard = was > np.max(was) - _HEARD_DB
    change = np.where(heard, is_now - was, 0.0)
    at = int(np.argmax(np.abs(change)))
    lu = gated_loudness(after, sample_rate=rate) - gated_loudness(before, sample_rate=rate)
    return Difference(round(float(lu), 2), round(float(change[at]), 2), round(float(grid[at]), 1))


def _sum(song: SongState, plan: Plan, group_id: int) -> Floats:
    return sound_of(song, plan, (group_id, Tap.BEHIND), *span_of(song))
