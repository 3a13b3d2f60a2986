"""An adaptive move frozen into ordinary ones: long work, then one step that can be undone."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from typing import Any

from mivlo.core.errors import InvalidValue, MivloError
from mivlo.core.freezing import Frozen, freeze
from mivlo.core.moves import AdaptiveMove, Entry
from mivlo.core.moves.entry import MOST_LINKS
from mivlo.services.making.hearing import LEAD_S, key_of, passage_of, reaching
from mivlo.services.making.levels import find_move
from mivlo.services.song.edits import lock_song
from mivlo.services.song.log import Change
from mivlo.services.song.moves import add_moves
from mivlo.services.song.state import SongState, StripState, entry_of, read_song
from mivlo.services.song.strips import strip_row
from mivlo.services.tasks.tasks import TaskProgress, create_task, get_task
from mivlo.store.database import session
from mivlo.store.models import MoveRow, TaskRow

LONGEST_S = 600.0
LEAST_SHARE = 0.05
GONE = "The move was changed or switched off while it was being frozen. Freeze it again."


@dataclass(frozen=True, slots=True)
class _Order:
    """Which move, from when to when in s of the song, and for which page: its undo takes it back."""

    move_id: int
    from_s: float
    to_s: float
    page: str


def request_freezing(song_id: int, move_id: int, page: str = "") -> TaskRow:
    """A task that freezes an adaptive move over the passage, or over the song where none is marked."""
    with session() as open_session:
        song = read_song(open_session, song_id)
        strip, entry = _adaptive(song, move_id)
        if not entry.enabled:
            raise InvalidValue("move", move_id, "it is switched off; switch it on, so that you hear what is frozen")
        from_s, to_s = passage_of(song)
        if to_s - from_s > LONGEST_S:
            raise InvalidValue("passage", round(to_s - from_s, 1), f"mark a passage of at most {LONGEST_S:g} s")
        order = _Order(move_id, from_s, to_s, page)
        return create_task(open_session, song_id, "freeze", strip.name, asdict(order))


def run_freezing(task_id: int) -> dict[str, Any]:
    """Do the task, and put the moves in the place of the adaptive one, which is switched off."""
    with session() as open_session:
        task = get_task(open_session, task_id)
        if task.result:  # it was done, but its end was not written down
            return task.result
        order = _Order(**task.payload)
        song = read_song(open_session, task.song_id)
    strip, entry = _adaptive(song, order.move_id)
    if not entry.enabled:
        raise MivloError(GONE)
    frozen = _frozen(song, strip, entry, order, TaskProgress(task_id))
    if not frozen.entries or frozen.share < LEAST_SHARE:
        raise MivloError(
            "A few moves would not do what it does here: it takes away too little, or at too many places. "
            "Mark the passage where it matters, or leave it as it is."
        )
    return _take_over(task_id, song.id, strip, entry, frozen, order)


def _adaptive(song: SongState, move_id: int) -> tuple[StripState, Entry]:
    strip, entry = find_move(song, move_id)
    if not isinstance(entry.move, AdaptiveMove):
        raise InvalidValue("move", move_id, "only an adaptive move can be frozen")
    return strip, entry


def _frozen(song: SongState, strip: StripState, entry: Entry, order: _Order, progress: TaskProgress) -> Frozen:
    """Of the move itself: amounts scale what it becomes as they scaled it."""
    rate = song.sample_rate
    first = max(0, round((order.from_s - LEAD_S) * rate))
    last = min(song.frames, round(order.to_s * rate))
    sound, key = reaching(song, strip, entry, first, last), key_of(song, entry.move, first, last)
    return freeze(sound, entry, key, sample_rate=rate, start_s=first / rate, progress=progress)


def _take_over(
    task_id: int, song_id: int, strip: StripState, entry: Entry, frozen: Frozen, order: _Order
) -> dict[str, Any]:
    with session() as open_session:
        song = lock_song(open_session, song_id, None)
        row = open_session.get(MoveRow, entry.id)
        if row is None or row.deleted or entry_of(row) != entry:
            raise MivloError(GONE)
        owner = strip_row(open_session, song_id, strip.id)
        share = f"{100 * frozen.share:.0f} %"
        note = f"frozen from {order.from_s:.1f} to {order.to_s:.1f} s, together {share} of what was taken"
        links = (*entry.links, "frozen")[:MOST_LINKS]
        frozen_entries = [
            (owner, replace(one, channels=entry.channels, place=entry.place, links=links, note=note))
            for one in frozen.entries
        ]
        switched = ([Change("move", entry.id, {"enabled": False})], [Change("move", entry.id, {"enabled": True})])
        label = f"{strip.name}: freeze the adaptive move"
        made = add_moves(open_session, song, frozen_entries, label, also=lambda ids: switched, page=order.page)
        many = "1 move does" if len(made) == 1 else f"{len(made)} moves do"
        at_moments = sum(bool(one.stretches) for one in frozen.entries) if not entry.stretches else 0
        when = f" between {order.from_s:.1f} and {order.to_s:.1f} s"
        how = ""
        if at_moments:
            how = f", at moments{when}" if at_moments == len(made) else f", {at_moments} of them at moments{when}"
        said = f"{many} {share} of what it took{how}; the adaptive move is switched off."
        result = {"move_ids": made, "share": round(frozen.share, 3), "notice": said}
        get_task(open_session, task_id).result = result
        return result
