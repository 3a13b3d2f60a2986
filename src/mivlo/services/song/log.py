"""The log of a song: rows that are only ever added, and what can be read from them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, load_only

from mivlo.store.models import Edit

_DOING = ("change", "go")
"""Kinds of rows that do something new; the others undo or redo it."""
ANYBODY = "*"
"""The page of steps that were made before pages had names: everybody may take them back."""


@dataclass(frozen=True, slots=True)
class Change:
    """New values of one row: table ("song", "strip", "recording", "move", "finding"), its id, name to value."""

    table: str
    id: int
    values: dict[str, Any]

    def places(self) -> set[tuple[str, int, str]]:
        """What it writes: table, id and name of each value."""
        return {(self.table, self.id, name) for name in self.values}


def as_json(changes: Sequence[Change]) -> list[dict[str, Any]]:
    return [{"table": c.table, "id": c.id, "values": c.values} for c in changes]


def from_json(rows: Sequence[dict[str, Any]]) -> list[Change]:
    return [Change(row["table"], row["id"], row["values"]) for row in rows]


def merged(changes: Sequence[Change]) -> list[Change]:
    """One change a row, later values over earlier ones."""
    out: dict[tuple[str, int], dict[str, Any]] = {}
    for change in changes:
        out.setdefault((change.table, change.id), {}).update(change.values)
    return [Change(table, row, values) for (table, row), values in out.items()]


@dataclass(frozen=True, slots=True)
class Step:
    """What is undone at once: one edit, or the edits of one gesture, oldest first."""

    edits: tuple[Edit, ...]

    @property
    def id(self) -> int:
        return self.edits[0].id

    @property
    def last(self) -> Edit:
        return self.edits[-1]

    @property
    def label(self) -> str:
        return self.last.label

    def forward(self) -> list[Change]:
        return merged([c for edit in self.edits for c in from_json(edit.forward)])

    def backward(self) -> list[Change]:
        return merged([c for edit in reversed(self.edits) for c in from_json(edit.backward)])


def rows(session: Session, song_id: int) -> list[Edit]:
    """The whole log, oldest first; what each row changed is read when it is asked for."""
    light = load_only(
        Edit.id, Edit.revision, Edit.kind, Edit.of_id, Edit.begins_id, Edit.page, Edit.label, Edit.created_at
    )
    return list(session.scalars(select(Edit).where(Edit.song_id == song_id).options(light).order_by(Edit.id)))


def _undone(log: Sequence[Edit]) -> dict[int, Edit]:
    """Steps that are undone at present, by their first edit, with the row that undid them."""
    out: dict[int, Edit] = {}
    for row in log:
        if row.kind == "undo" and row.of_id is not None:
            out[row.of_id] = row
        elif row.kind == "redo" and row.of_id is not None:
            out.pop(row.of_id, None)
    return out


def _steps(log: Sequence[Edit]) -> dict[int, Step]:
    """The steps that can be undone, by their first edit."""
    parts: dict[int, list[Edit]] = {}
    for row in log:
        if row.kind in _DOING:
            parts.setdefault(row.begins_id or row.id, []).append(row)
    return {first: Step(tuple(edits)) for first, edits in parts.items()}


def _may_undo(row: Edit, page: str) -> bool:
    """Whether a step is a page's own, or everybody's; without a page all are."""
    return not page or row.page in (page, ANYBODY)


def next_undo(log: Sequence[Edit], page: str = "", wanted: Callable[[Step], bool] = lambda step: True) -> Step | None:
    """The last step of a page (without one: of the song) that still holds and is wanted."""
    undone = _undone(log)
    held = [step for step in _steps(log).values() if step.id not in undone and _may_undo(step.last, page)]
    held.sort(key=lambda step: step.last.id, reverse=True)
    return next((step for step in held if wanted(step)), None)


def next_redo(log: Sequence[Edit], page: str = "") -> Step | None:
    """The step that a page undid last, if it has done nothing new since."""
    latest = max((row.id for row in log if row.kind in _DOING and _may_undo(row, page)), default=0)
    open_undos = [row for row in _undone(log).values() if row.id > latest and _may_undo(row, page)]
    last = max(open_undos, key=lambda row: row.id, default=None)
    return None if last is None or last.of_id is None else _steps(log)[last.of_id]


@dataclass(frozen=True, slots=True)
class LoggedEdit:
    """A line of the history.

    state : "done", "undone" (can be redone) or "abandoned" (undone, and something new was done since).
    """

    id: int
    revision: int
    kind: str
    of_id: int | None
    step_id: int
    page: str
    label: str
    state: str
    created_at: datetime


def history(session: Session, song_id: int, most: int = 50, *, steps: bool = True) -> list[LoggedEdit]:
    """The newest rows of the log, newest first; without `steps` only what was done, not its undoing."""
    log = rows(session, song_id)
    undone = _undone(log)
    latest: dict[str, int] = {}
    for row in log:
        if row.kind in _DOING:
            latest[row.page] = row.id

    def state(row: Edit) -> str:
        undo = undone.get(row.begins_id or row.id)
        if row.kind not in _DOING or undo is None:
            return "done"
        return "abandoned" if latest.get(undo.page, 0) > undo.id else "undone"

    return [
        LoggedEdit(
            row.id, row.revision, row.kind, row.of_id, row.begins_id or row.id, row.page, row.label, state(row),
            row.created_at,
        )
        for row in [row for row in log if steps or row.kind in _DOING][-most:][::-1]
    ]  # fmt: skip
