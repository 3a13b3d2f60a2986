"""The whole treatment of a strip as one step: brought back, put in, emptied, or put into another order."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from mivlo.core.errors import InvalidValue
from mivlo.core.moves import Treatment
from mivlo.description import aftercare_document, entry_document
from mivlo.services.errors import NotFound
from mivlo.services.song.edits import change_song, check_strip, lock_song
from mivlo.services.song.log import Change, from_json
from mivlo.services.song.moves import check_entry, insert_move, words_of
from mivlo.services.song.state import entry_of, read_song
from mivlo.services.song.strips import locked_strip, strip_row
from mivlo.store.models import Edit, MoveRow, StripRow


def _rows(session: Session, strip_id: int) -> list[MoveRow]:
    """The moves that are there, in order."""
    there = select(MoveRow).where(MoveRow.strip_id == strip_id, MoveRow.deleted.is_(False))
    return list(session.scalars(there.order_by(MoveRow.position, MoveRow.id)))


def beside_moves(treatment: Treatment) -> dict[str, Any]:
    """What a strip's row holds of a treatment."""
    return {
        "phase": str(treatment.phase), "amounts": dict(treatment.amounts),
        "aftercare": aftercare_document(treatment.aftercare),
    }  # fmt: skip


def brought_back(session: Session, strip: StripRow, treatment: Treatment) -> list[Change]:
    """What makes a strip's treatment one that it had: its moves by their numbers, those since then taken away."""
    wanted = {entry.id for entry in treatment.entries}
    changes = [Change("move", row.id, {"deleted": True}) for row in _rows(session, strip.id) if row.id not in wanted]
    for position, entry in enumerate(treatment.entries, 1):
        row = session.get(MoveRow, entry.id)
        if row is None or row.strip_id != strip.id:
            raise NotFound("move", entry.id)
        values = {key: value for key, value in entry_document(entry).items() if key != "id"}
        gone = dict.fromkeys(row.parameters.keys() - values.keys())
        changes.append(Change("move", row.id, {**gone, **values, "deleted": False, "position": position}))
    changes.append(Change("strip", strip.id, beside_moves(treatment)))
    return changes


def put_in(
    session: Session,
    song_id: int,
    strip_id: int,
    treatment: Treatment,
    label: str,
    *,
    strip_revision: int | None = None,
    page: str = "",
) -> list[int]:
    """Moves behind those that are there, with phase, amounts and aftercare where the treatment has any; their ids."""
    song, row = locked_strip(session, song_id, strip_id, None, strip_revision)
    state = read_song(session, song_id)
    strip = state.strip(strip_id)
    for entry in treatment.entries:
        check_entry(state, strip, entry)
    made = [insert_move(session, row, entry).id for entry in treatment.entries]
    shown = [Change("move", i, {"deleted": False}) for i in made]
    hidden = [Change("move", i, {"deleted": True}) for i in made]
    usual = beside_moves(Treatment())
    own = {key: value for key, value in beside_moves(treatment).items() if value != usual[key]}
    if "amounts" in own:
        own["amounts"] = {**strip.amounts, **own["amounts"]}
    if own:
        before = beside_moves(strip.treatment)
        shown.append(Change("strip", row.id, own))
        hidden.append(Change("strip", row.id, {key: before[key] for key in own}))
    change_song(session, song, label, shown, hidden, page=page)
    return made


def reset_strip(
    session: Session, song_id: int, strip_id: int, *, strip_revision: int | None = None, page: str = ""
) -> None:
    """Take all of a strip's treatment away as one step."""
    song, row = locked_strip(session, song_id, strip_id, None, strip_revision)
    changes = brought_back(session, row, Treatment())
    change_song(session, song, f"{row.name}: reset", changes, page=page)


def reset_move(
    session: Session,
    song_id: int,
    move_id: int,
    fields: Sequence[str] = (),
    *,
    strip_revision: int | None = None,
    page: str = "",
) -> None:
    """Bring a move, or some of its values, back to how it was made, as one step.

    Raises
    ------
    NotFound : there is no such move.
    InvalidValue : it has no such value.
    """
    song = lock_song(session, song_id)
    row = session.get(MoveRow, move_id)
    if row is None or row.deleted:
        raise NotFound("move", move_id)
    strip = strip_row(session, song_id, row.strip_id)
    check_strip(strip, strip_revision)
    now = entry_document(entry_of(row))
    made = _as_made(session, song_id, move_id, now)
    for name in fields:
        if name not in now:
            raise InvalidValue("fields", name, "the move has no such value")
    wanted = {key: made.get(key) for key in {*now, *made} if key != "id" and (not fields or key in fields)}
    changed = {key: value for key, value in wanted.items() if now.get(key) != value}
    if changed:
        label = f"{strip.name}: reset {words_of(entry_of(row))}"
        change_song(session, song, label, [Change("move", move_id, changed)], page=page)


def _as_made(session: Session, song_id: int, move_id: int, now: dict[str, Any]) -> dict[str, Any]:
    """A move's document as it was when it was made: all that was written since then taken back."""
    made = dict(now)
    for edit in session.scalars(select(Edit).where(Edit.song_id == song_id).order_by(Edit.id.desc())):
        for change in from_json(edit.backward):
            if change.table == "move" and change.id == move_id:
                made.update({k: v for k, v in change.values.items() if k not in ("deleted", "position")})
    return {key: value for key, value in made.items() if value is not None}


def reorder_moves(
    session: Session,
    song_id: int,
    strip_id: int,
    move_ids: Sequence[int],
    *,
    strip_revision: int | None = None,
    page: str = "",
) -> None:
    """Put a strip's moves into another order.

    Raises
    ------
    InvalidValue : these are not all of its moves, each once.
    """
    song, strip = locked_strip(session, song_id, strip_id, None, strip_revision)
    there = {row.id: row for row in _rows(session, strip_id)}
    if sorted(move_ids) != sorted(there):
        raise InvalidValue("move_ids", list(move_ids), "name each move of the track once")
    changes = [
        Change("move", i, {"position": position})
        for position, i in enumerate(move_ids, 1)
        if there[i].position != position
    ]
    if changes:
        change_song(session, song, f"{strip.name}: order of moves", changes, page=page)
