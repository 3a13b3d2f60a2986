"""Twins: moves of one strip on others as well, as they are or re-tuned, and moving together if that is wanted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from mivlo.core.errors import InvalidValue
from mivlo.core.moves import Channels, Entry
from mivlo.core.moves.together import TWINS, link_of
from mivlo.core.retuning import retune
from mivlo.services.matching.looks import look_at_strip
from mivlo.services.song.edits import change_song, lock_song
from mivlo.services.song.log import Change
from mivlo.services.song.moves import check_entry, insert_move, words_of
from mivlo.services.song.state import SongState, StripState, read_song
from mivlo.services.song.strips import strip_row
from mivlo.store.database import session


@dataclass(frozen=True, slots=True)
class Twin:
    """A move on another strip: as it is there, or why it is left out."""

    strip_id: int
    of: int
    entry: Entry | None
    says: str


def plan_twins(
    song: SongState, strip: StripState, entries: Sequence[Entry], to: Sequence[int], *, refit: bool
) -> list[Twin]:
    """What the moves would be on other strips; nothing is changed."""
    before = look_at_strip(song, strip) if refit else None
    made = []
    for strip_id in dict.fromkeys(to):
        other = song.strip(strip_id)
        if other.id == strip.id:
            raise InvalidValue("to", strip_id, "choose another track than the one that the moves are on")
        there = look_at_strip(song, other) if refit else None
        for entry in entries:
            kept, says = entry, ""
            if there is not None:
                found = retune(entry.move, there, original=before)
                if found.move is None:
                    made.append(Twin(strip_id, entry.id, None, found.left_out or ""))
                    continue
                kept = replace(entry, move=found.move)
                says = words_of(kept) if found.move != entry.move else ""
            if other.channels == 1:
                kept = replace(kept, channels=Channels.ALL)
            made.append(Twin(strip_id, entry.id, kept, says))
    return made


def make_twins(
    song_id: int,
    strip_id: int,
    move_ids: Sequence[int],
    to: Sequence[int],
    *,
    refit: bool,
    linked: bool,
    page: str = "",
) -> list[Twin]:
    """Copy moves to other strips as one step; what was left out is among what comes back.

    Raises
    ------
    InvalidValue : there is no such move, or no other strip.
    """
    with session() as open_session:
        song = read_song(open_session, song_id)
    strip = song.strip(strip_id)
    known = {entry.id: entry for entry in strip.entries}
    if missing := [i for i in move_ids if i not in known]:
        raise InvalidValue("move_ids", missing[0], "the track has no such move any more")
    if not to:
        raise InvalidValue("to", [], "choose at least one other track")
    planned = plan_twins(song, strip, [known[i] for i in move_ids], to, refit=refit)
    with session() as open_session:
        row = lock_song(open_session, song_id)
        now = read_song(open_session, song_id)
        forward, backward = [], []
        links: dict[int, str] = {}
        for twin in planned:
            if twin.entry is None:
                continue
            check_entry(now, now.strip(twin.strip_id), twin.entry)
            entry = replace(twin.entry, links=tuple(n for n in twin.entry.links if link_of(twin.entry) != n))
            if linked:
                name = links.setdefault(twin.of, link_of(known[twin.of]) or _free(now, words_of(known[twin.of])))
                entry = replace(entry, links=(*entry.links, name))
            made = insert_move(open_session, strip_row(open_session, song_id, twin.strip_id), entry)
            forward.append(Change("move", made.id, {"deleted": False}))
            backward.append(Change("move", made.id, {"deleted": True}))
        for move_id, name in links.items():
            had = list(known[move_id].links)
            if name not in had:
                forward.append(Change("move", move_id, {"links": [*had, name]}))
                backward.append(Change("move", move_id, {"links": had}))
        if forward:
            change_song(open_session, row, f"{strip.name}: twins", forward, backward, page=page)
    return planned


def _free(song: SongState, words: str) -> str:
    """A name of a link that no move of the song has."""
    taken = {name for strip in song.strips for entry in strip.entries for name in entry.links}
    name, number = f"{TWINS}{words}", 1
    while name in taken:
        number += 1
        name = f"{TWINS}{words} ({number})"
    return name
