"""Use cases on the moves of a strip."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from mivlo.core.errors import InvalidValue
from mivlo.core.graph import StripKind
from mivlo.core.moves import MOST_MOVES, Channels, Entry, RungsMove
from mivlo.core.moves.together import following, link_of
from mivlo.description import changed_entry, entry_document, entry_parts
from mivlo.services.errors import NotFound
from mivlo.services.song.edits import added_row, change_song, check_strip, lock_song
from mivlo.services.song.log import Change
from mivlo.services.song.state import SongState, StripState, entry_of, read_song
from mivlo.services.song.strips import locked_strip, strip_row
from mivlo.store.models import FindingRow, MoveRow, Song, StripRow


def words_of(entry: Entry) -> str:
    """A move in a few words: "bell 412 Hz"."""
    shape = str(getattr(entry.move, "shape", entry.move.mode)).replace("_", " ")
    return shape if isinstance(entry.move, RungsMove) else f"{shape} {entry.move.frequency_hz:.0f} Hz"


def check_entry(song: SongState, strip: StripState, entry: Entry) -> None:
    """Whether a move fits its strip and its song.

    Raises
    ------
    InvalidValue : it treats one side of a mono track, listens to its own strip by name, or to one that is not there.
    """
    if strip.kind is StripKind.TRACK and strip.channels == 1 and entry.channels is not Channels.ALL:
        raise InvalidValue("channels", str(entry.channels), "a mono track takes only all")
    here = {s.id for s in song.strips}
    for source in entry.move.listens_to:
        if source == strip.id:
            raise InvalidValue("key.source", source, 'a move listens to its own strip as "self"')
        if source not in here:
            raise InvalidValue("key.source", source, "there is no such strip in this song")


def _label(verb: str, strip: StripRow, entry: Entry) -> str:
    return f"{strip.name}: {verb} {words_of(entry)}"


def new_row(session: Session, strip: StripRow, entry: Entry) -> MoveRow:
    """A row for an entry behind the others, not yet recorded in the log."""
    count, last = session.execute(
        select(func.count().filter(MoveRow.deleted.is_(False)), func.max(MoveRow.position)).where(
            MoveRow.strip_id == strip.id
        )
    ).one()
    if count >= MOST_MOVES:
        raise InvalidValue("moves", count, f"a strip has at most {MOST_MOVES} moves; delete some first")
    own, parameters = entry_parts(entry)
    return MoveRow(
        strip_id=strip.id, position=(last or 0) + 1, deleted=False, mode=entry.move.mode, parameters=parameters, **own
    )


def moves_counted(count: int) -> str:
    """So many moves, in words."""
    return "1 move" if count == 1 else f"{count} moves"


def insert_move(session: Session, strip: StripRow, entry: Entry) -> MoveRow:
    """A move behind the others, as a part of a larger step that the caller records."""
    row = new_row(session, strip, entry)
    session.add(row)
    session.flush()
    return row


def add_moves(
    session: Session,
    song: Song,
    entries: Sequence[tuple[StripRow, Entry]],
    label: str,
    *,
    also: Callable[[list[int]], tuple[list[Change], list[Change]]] | None = None,
    page: str = "",
) -> list[int]:
    """Moves, each behind the others of its strip, as one step of a locked song; their ids.

    also : what else belongs to the step, of the ids: changes, and those that take them back.
    """
    made = [insert_move(session, strip, entry).id for strip, entry in entries]
    forward = [Change("move", i, {"deleted": False}) for i in made]
    backward = [Change("move", i, {"deleted": True}) for i in made]
    if also is not None:
        changes, back = also(made)
        forward.extend(changes)
        backward[:0] = back
    change_song(session, song, label, forward, backward, page=page)
    return made


def add_move(
    session: Session,
    song_id: int,
    strip_id: int,
    entry: Entry,
    revision: int | None,
    *,
    strip_revision: int | None = None,
    page: str = "",
) -> int:
    """Add a move behind the others; its id."""
    song, strip = locked_strip(session, song_id, strip_id, revision, strip_revision)
    state = read_song(session, song_id)
    check_entry(state, state.strip(strip_id), entry)
    row = new_row(session, strip, entry)
    added_row(session, song, _label("add", strip, entry), "move", row, page=page)
    return row.id


def _locked_move(
    session: Session, song_id: int, move_id: int, revision: int | None, strip_revision: int | None
) -> tuple[Song, MoveRow, StripRow]:
    """A song, locked, one of its moves and the strip that it is on, to be changed."""
    song = lock_song(session, song_id, revision)
    row = session.get(MoveRow, move_id)
    if row is None or row.deleted:
        raise NotFound("move", move_id)
    strip = strip_row(session, song_id, row.strip_id)
    check_strip(strip, strip_revision)
    return song, row, strip


def change_move(
    session: Session,
    song_id: int,
    move_id: int,
    revision: int | None,
    values: dict[str, Any],
    *,
    alone: bool = False,
    strip_revision: int | None = None,
    page: str = "",
) -> None:
    """Set new values of a move; those that move together with it follow, unless it is changed alone."""
    song, row, strip = _locked_move(session, song_id, move_id, revision, strip_revision)
    before = entry_of(row)
    after = changed_entry(before, values)
    if not {"key", "channels", "mode"}.isdisjoint(values):
        state = read_song(session, song_id)
        check_entry(state, state.strip(strip.id), after)
    verb = "change"
    if set(values) == {"enabled"}:
        verb = "switch on" if after.enabled else "switch off"
    old, new = entry_document(before), entry_document(after)
    changed = {key: new.get(key) for key in {**old, **new} if new.get(key) != old.get(key)}
    if changed:
        changes = [Change("move", move_id, changed)]
        if not alone and (link := link_of(before)) is not None:
            changes += _followers(session, song_id, move_id, link, old, new)
        change_song(session, song, _label(verb, strip, after), changes, page=page, gesture=True)


def _followers(
    session: Session, song_id: int, move_id: int, link: str, old: dict[str, Any], new: dict[str, Any]
) -> list[Change]:
    """What changes of the other moves of a set or of twins."""
    others = select(MoveRow).join(StripRow).where(
        StripRow.song_id == song_id, StripRow.deleted.is_(False), MoveRow.deleted.is_(False), MoveRow.id != move_id,
        MoveRow.links.contains([link]),
    )  # fmt: skip
    changes = []
    for row in session.scalars(others.order_by(MoveRow.id)):
        entry = entry_of(row)
        values = following(old, new, entry_document(entry), type(entry.move))
        if values:
            changed_entry(entry, values)  # refused as a whole where one can't be so
            changes.append(Change("move", row.id, values))
    return changes


def delete_move(
    session: Session,
    song_id: int,
    move_id: int,
    revision: int | None,
    *,
    strip_revision: int | None = None,
    page: str = "",
) -> None:
    """Take a move away; undo brings it back. A finding that it was made for is open again."""
    song, row, strip = _locked_move(session, song_id, move_id, revision, strip_revision)
    made_for = session.scalars(select(FindingRow).where(FindingRow.move_id == move_id))
    changes = [Change("finding", f.id, {"state": "open", "move_id": None}) for f in made_for]
    changes.append(Change("move", move_id, {"deleted": True}))
    change_song(session, song, _label("delete", strip, entry_of(row)), changes, page=page)
