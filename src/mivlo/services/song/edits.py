"""Changing a song: every change is a row of its log that knows what undoes it; undoing is a row as well."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from contextvars import ContextVar
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from mivlo.services.errors import AlreadyMade, ChangedSince, NotFound, NothingToUndo, StaleRevision
from mivlo.services.song.log import Change, Step, as_json, from_json, merged, next_redo, next_undo, rows
from mivlo.store.database import tell
from mivlo.store.models import Base, Edit, FindingRow, MoveRow, RecordingRow, Song, StripRow

Row = Song | StripRow | RecordingRow | MoveRow | FindingRow
_TABLES: dict[str, type[Row]] = {
    "song": Song, "strip": StripRow, "recording": RecordingRow, "move": MoveRow, "finding": FindingRow,
}  # fmt: skip
OUTLINE = {
    ("song", "name"), ("song", "passage_from_s"), ("song", "passage_to_s"), ("song", "look_in_passage"),
    ("song", "deleted"), ("strip", "position"), ("strip", "parent_id"),
}  # fmt: skip
"""What belongs to the song's outline, not to a strip."""
GESTURE_S = 1.0
"""Changes of the same values by one page that follow each other within this time are one step, ..."""
IN_GESTURE = "."
"""... and those of one drag, however long it takes: their names begin alike, up to this."""


change_name: ContextVar[str] = ContextVar("change_name", default="")
"""Names the change that is being made: one whose answer was lost is asked for again, and must not be made twice."""


def lock_song(session: Session, song_id: int, revision: int | None = None, *, outline: int | None = None) -> Song:
    """The song's row, locked, to be changed.

    Raises
    ------
    AlreadyMade : the change of this name was made before.
    StaleRevision : it is not at `revision`, or its outline not at `outline`.
    """
    song = session.scalars(select(Song).where(Song.id == song_id).with_for_update()).first()
    if song is None:
        raise NotFound("song", song_id)
    name = change_name.get()
    if name and session.scalar(select(Edit.id).where(Edit.song_id == song_id, Edit.change == name).limit(1)):
        raise AlreadyMade(song_id)
    if revision is not None and revision != song.revision:
        raise StaleRevision(song_id, revision, song.revision)
    if outline is not None and outline != song.outline:
        raise StaleRevision(song_id, outline, song.outline)
    return song


def check_strip(row: StripRow, revision: int | None) -> None:
    """StaleRevision if a strip is not at `revision`."""
    if revision is not None and revision != row.revision:
        raise StaleRevision(row.song_id, revision, row.revision)


def _row(session: Session, change: Change) -> Row:
    row: Row | None = session.get(_TABLES[change.table], change.id)  # type: ignore[assignment]
    if row is None:
        raise NotFound(change.table, change.id)
    return row


def value_of(row: Base, name: str) -> Any:
    """A value as the log names it: of a move, what its parameters hold stands beside its columns."""
    if isinstance(row, MoveRow) and name not in MoveRow.__table__.columns:
        return row.parameters.get(name)
    return getattr(row, name)


def _set(row: Base, name: str, value: Any) -> None:
    if isinstance(row, MoveRow) and name not in MoveRow.__table__.columns:
        rest = {key: known for key, known in row.parameters.items() if key != name}
        row.parameters = rest if value is None else {**rest, name: value}
        return
    setattr(row, name, value)
    if isinstance(row, MoveRow) and name == "mode":
        row.parameters = {**row.parameters, "mode": value}


def _apply(session: Session, changes: Sequence[Change]) -> list[Change]:
    """Write the new values; what comes back undoes it."""
    backward = []
    for change in changes:
        row = _row(session, change)
        backward.append(Change(change.table, change.id, {key: value_of(row, key) for key in change.values}))
        for key, value in change.values.items():
            _set(row, key, value)
        if change.table == "recording":
            session.flush()  # one after the other: of a track's recordings only one may be in use at a time
    session.flush()
    return backward[::-1]


def change_song(
    session: Session,
    song: Song,
    label: str,
    changes: Sequence[Change],
    backward: Sequence[Change] | None = None,
    *,
    page: str = "",
    gesture: bool = False,
) -> Edit:
    """Apply changes to a locked song as one step that can be undone.

    `backward` is given where a row was newly made: undoing hides it. With `gesture` the step goes on with the page's
    last one, if that wrote the same values a moment ago.
    """
    known = _apply(session, changes)
    undo = known if backward is None else list(backward)
    begins = _begun(session, song.id, page, changes) if gesture else None
    return _log(session, song, label, changes, undo, page=page, begins=begins)


def added_row(
    session: Session, song: Song, label: str, table: str, row: StripRow | MoveRow | RecordingRow, *,
    also: Sequence[Change] = (), page: str = "",
) -> Edit:  # fmt: skip
    """Record a row that was just made as one step: undo hides it, redo shows it again. `also`: what goes before it."""
    row.deleted = True  # the step itself shows it
    session.add(row)
    session.flush()
    return change_song(session, song, label, [*also, Change(table, row.id, {"deleted": False})], page=page)


def _begun(session: Session, song_id: int, page: str, changes: Sequence[Change]) -> int | None:
    """The first edit of the gesture that these changes go on with, if there is one."""
    last = session.scalars(select(Edit).where(Edit.song_id == song_id).order_by(Edit.id.desc()).limit(1)).first()
    if last is None or last.kind != "change" or last.page != page:
        return None
    if not _one_drag(last.change) and (datetime.now(UTC) - last.created_at).total_seconds() > GESTURE_S:
        return None
    places = {p for c in changes for p in c.places()}
    return (last.begins_id or last.id) if places == {p for c in from_json(last.forward) for p in c.places()} else None


def _one_drag(before: str) -> bool:
    """Whether a change of this name belongs to the same drag as the one that is being made."""
    drag, point, _ = change_name.get().partition(IN_GESTURE)
    return bool(point and drag) and before.startswith(drag + point)


def _log(
    session: Session,
    song: Song,
    label: str,
    forward: Sequence[Change],
    backward: Sequence[Change],
    *,
    kind: str = "change",
    of: int | None = None,
    page: str = "",
    begins: int | None = None,
) -> Edit:
    """Write a row of the log, raise the revisions of what it touched, and tell."""
    song.revision += 1
    if any((c.table, name) in OUTLINE for c in forward for name in c.values):
        song.outline += 1
    for strip in _strips_of(session, forward):
        strip.revision += 1
    edit = Edit(
        song_id=song.id, revision=song.revision, kind=kind, of_id=of, begins_id=begins, page=page, label=label,
        change=change_name.get(), forward=as_json(forward), backward=as_json(backward),
    )  # fmt: skip
    session.add(edit)
    session.flush()
    tell(session, song.id, "song", revision=song.revision)
    return edit


def _strips_of(session: Session, changes: Iterable[Change]) -> list[StripRow]:
    """The strips that changes touch, but for what belongs to the outline."""
    ids: set[int] = set()
    for change in changes:
        own = {name for name in change.values if (change.table, name) not in OUTLINE}
        if change.table == "song" or not own:
            continue
        row = _row(session, change)
        ids.add(row.id if isinstance(row, StripRow) else row.strip_id)  # type: ignore[union-attr]
    return [session.get_one(StripRow, i) for i in sorted(ids)]


def undo(session: Session, song_id: int, page: str = "") -> str:
    """Take back the last step of a page (without one: of the song); its label.

    Raises
    ------
    NothingToUndo : there is none.
    ChangedSince : somebody's later step wrote the same values.
    """
    song = lock_song(session, song_id)
    log = rows(session, song_id)
    # a deleted song is brought back, whatever was still finished in it afterwards
    step = next_undo(log, page, _deletes) if song.deleted else next_undo(log, page)
    if step is None:
        raise NothingToUndo("There is nothing to undo.")
    _replay(session, song, step, "undo", page)
    return step.label


def _deletes(step: Step) -> bool:
    return any(change.table == "song" and change.values.get("deleted") for change in step.forward())


def redo(session: Session, song_id: int, page: str = "") -> str:
    """Do the step that a page (without one: anybody) took back last again; its label."""
    song = lock_song(session, song_id)
    step = next_redo(rows(session, song_id), page)
    if step is None:
        raise NothingToUndo("There is nothing to redo.")
    _replay(session, song, step, "redo", page)
    return step.label


def _replay(session: Session, song: Song, step: Step, kind: str, page: str) -> None:
    expected, wanted = step.forward(), step.backward()
    if kind == "redo":
        expected, wanted = wanted, expected
    _refuse_if_changed(session, song.id, step, expected)
    back = _apply(session, wanted)
    _log(session, song, step.label, wanted, back, kind=kind, of=step.id, page=page)


def _refuse_if_changed(session: Session, song_id: int, step: Step, expected: Sequence[Change]) -> None:
    """Nothing is taken back over somebody's later work."""
    for change in expected:
        row = _row(session, change)
        for name, value in change.values.items():
            if value_of(row, name) != value:
                later = _who_wrote(session, song_id, step.last.id, (change.table, change.id, name))
                raise ChangedSince(step.label, later.label if later else "a later change")


def _who_wrote(session: Session, song_id: int, after: int, place: tuple[str, int, str]) -> Edit | None:
    """The last row behind an edit that wrote a value."""
    later = select(Edit).where(Edit.song_id == song_id, Edit.id > after).order_by(Edit.id.desc())
    for edit in session.scalars(later):
        if any(place in change.places() for change in from_json(edit.forward)):
            return edit
    return None


def go_to(session: Session, song_id: int, edit_id: int, page: str = "") -> str:
    """Bring everything back (or on) to how it stood behind an edit, as one step; the edit's label.

    Raises
    ------
    NotFound : the song has no such edit.
    """
    song = lock_song(session, song_id)
    log = rows(session, song_id)
    target = next((row for row in log if row.id == edit_id), None)
    if target is None:
        raise NotFound("step", edit_id)
    back = merged([c for row in reversed(log) if row.id > edit_id for c in from_json(row.backward)])
    changes = [c for c in (_real(session, change) for change in back) if c.values]
    if changes:
        undo_it = _apply(session, changes)
        _log(session, song, f"back to: {target.label}", changes, undo_it, kind="go", of=edit_id, page=page)
    return target.label


def _real(session: Session, change: Change) -> Change:
    """Without what would write the value that is there."""
    row = _row(session, change)
    return Change(change.table, change.id, {k: v for k, v in change.values.items() if value_of(row, k) != v})
