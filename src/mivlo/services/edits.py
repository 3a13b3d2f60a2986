"""Changing a song: every change is one row that knows what undoes it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from mivlo.services.errors import NotFound, NothingToUndo, StaleRevision
from mivlo.services.state import next_edit
from mivlo.store.database import tell
from mivlo.store.models import Base, Edit, FindingRow, MoveRow, Song, Track

_TABLES: dict[str, type[Song] | type[Track] | type[MoveRow] | type[FindingRow]] = {
    "song": Song,
    "track": Track,
    "move": MoveRow,
    "finding": FindingRow,
}


@dataclass(frozen=True, slots=True)
class Change:
    """New values of one row: table ("song", "track", "move", "finding"), its id, column to value."""

    table: str
    id: int
    values: dict[str, Any]


def lock_song(session: Session, song_id: int, revision: int | None = None) -> Song:
    """The song's row, locked; StaleRevision if it is not at `revision`."""
    song = session.scalars(select(Song).where(Song.id == song_id).with_for_update()).first()
    if song is None:
        raise NotFound("song", song_id)
    if revision is not None and revision != song.revision:
        raise StaleRevision(revision, song.revision)
    return song


def _row(session: Session, change: Change) -> Base:
    row = session.get(_TABLES[change.table], change.id)
    if row is None:
        raise NotFound(change.table, change.id)
    return row


def _apply(session: Session, changes: Sequence[Change]) -> list[Change]:
    """Write the new values; what comes back undoes it."""
    backward = []
    for change in changes:
        row = _row(session, change)
        backward.append(Change(change.table, change.id, {key: getattr(row, key) for key in change.values}))
        for key, value in change.values.items():
            setattr(row, key, value)
    session.flush()
    return backward[::-1]


def _as_json(changes: Sequence[Change]) -> list[dict[str, Any]]:
    return [{"table": c.table, "id": c.id, "values": c.values} for c in changes]


def _from_json(rows: Sequence[dict[str, Any]]) -> list[Change]:
    return [Change(row["table"], row["id"], row["values"]) for row in rows]


def change_song(
    session: Session,
    song: Song,
    label: str,
    changes: Sequence[Change],
    backward: Sequence[Change] | None = None,
) -> None:
    """Apply changes to a locked song as one step that can be undone.

    `backward` is given where a row was newly made: undoing hides it.
    """
    known = _apply(session, changes)
    undo = known if backward is None else list(backward)
    session.execute(update(Edit).where(Edit.song_id == song.id, Edit.state == "undone").values(state="abandoned"))
    _step(session, song)
    session.add(
        Edit(
            song_id=song.id,
            revision=song.revision,
            label=label,
            forward=_as_json(changes),
            backward=_as_json(undo),
            state="done",
        )
    )


def added_row(session: Session, song: Song, label: str, table: str, row: Track | MoveRow) -> None:
    """Record a row that was just made as one step: undo hides it, redo shows it again."""
    session.add(row)
    session.flush()
    shown, hidden = {"deleted": False}, {"deleted": True}
    change_song(session, song, label, [Change(table, row.id, shown)], [Change(table, row.id, hidden)])


def _step(session: Session, song: Song) -> None:
    song.revision += 1
    session.flush()
    tell(session, song.id, "song", revision=song.revision)


def undo(session: Session, song_id: int) -> str:
    """Take back the last step; its label."""
    return _replay(session, song_id, "done", "undone", "There is nothing to undo.")


def redo(session: Session, song_id: int) -> str:
    """Do the step that was last taken back again; its label."""
    return _replay(session, song_id, "undone", "done", "There is nothing to redo.")


def _replay(session: Session, song_id: int, state: str, becomes: str, nothing: str) -> str:
    song = lock_song(session, song_id)
    edit = next_edit(session, song_id, state)
    if edit is None:
        raise NothingToUndo(nothing)
    _apply(session, _from_json(edit.backward if becomes == "undone" else edit.forward))
    edit.state = becomes
    _step(session, song)
    return edit.label


def history(session: Session, song_id: int, most: int = 50) -> list[Edit]:
    """The newest edits of a song, newest first."""
    query = select(Edit).where(Edit.song_id == song_id).order_by(Edit.id.desc()).limit(most)
    return list(session.scalars(query))
