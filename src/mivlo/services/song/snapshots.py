"""Snapshots: named states of a strip's or the whole song's treatment, to compare with and to go back to."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from pydantic import TypeAdapter
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from mivlo.core.errors import InvalidValue
from mivlo.core.moves import Treatment
from mivlo.services.errors import NotFound
from mivlo.services.song.edits import change_song, lock_song
from mivlo.services.song.log import Change
from mivlo.services.song.songs import named
from mivlo.services.song.state import read_song
from mivlo.services.song.treating import brought_back
from mivlo.store.models import SnapshotRow, StripRow

MOST_SNAPSHOTS = 500
_documents: TypeAdapter[dict[int, Treatment]] = TypeAdapter(dict[int, Treatment])


@dataclass(frozen=True, slots=True)
class Snapshot:
    """What was kept, by strip; of one strip or, without one, of the whole song."""

    id: int
    name: str
    strip_id: int | None
    created_at: datetime
    treatments: dict[int, Treatment]


def snapshots(session: Session, song_id: int) -> list[Snapshot]:
    """Those of a song, newest last."""
    rows = select(SnapshotRow).where(SnapshotRow.song_id == song_id, SnapshotRow.deleted.is_(False))
    return [_read(row) for row in session.scalars(rows.order_by(SnapshotRow.id))]


def _read(row: SnapshotRow) -> Snapshot:
    found = _documents.validate_python(row.document)
    return Snapshot(row.id, row.name, row.strip_id, row.created_at, found)


def keep(session: Session, song_id: int, name: str, strip_id: int | None) -> int:
    """Keep how a strip, or all of them, is treated now; the snapshot's id.

    Raises
    ------
    InvalidValue : there are too many.
    """
    lock_song(session, song_id)
    song = read_song(session, song_id)
    count = session.scalar(select(func.count()).where(SnapshotRow.song_id == song_id, SnapshotRow.deleted.is_(False)))
    if int(count or 0) >= MOST_SNAPSHOTS:
        raise InvalidValue("snapshots", MOST_SNAPSHOTS, "a song keeps no more; delete some")
    strips = song.strips if strip_id is None else [song.strip(strip_id)]
    document: Any = _documents.dump_python({s.id: s.treatment for s in strips}, mode="json")
    row = SnapshotRow(song_id=song_id, strip_id=strip_id, name=named(name), document=document)
    session.add(row)
    session.flush()
    return row.id


def _row(session: Session, song_id: int, snapshot_id: int) -> SnapshotRow:
    row = session.get(SnapshotRow, snapshot_id)
    if row is None or row.deleted or row.song_id != song_id:
        raise NotFound("snapshot", snapshot_id)
    return row


def snapshot(session: Session, song_id: int, snapshot_id: int) -> Snapshot:
    """One of a song's."""
    return _read(_row(session, song_id, snapshot_id))


def go_back(session: Session, song_id: int, snapshot_id: int, *, page: str = "") -> None:
    """Treat what a snapshot holds as it was then, as one step; strips that are gone since then stay gone."""
    song = lock_song(session, song_id)
    kept = snapshot(session, song_id, snapshot_id)
    changes: list[Change] = []
    for strip_id, treatment in kept.treatments.items():
        strip = session.get(StripRow, strip_id)
        if strip is not None and not strip.deleted:
            changes += brought_back(session, strip, treatment)
    if changes:
        change_song(session, song, f"snapshot {kept.name}", changes, page=page)


def forget(session: Session, song_id: int, snapshot_id: int) -> None:
    """Take a snapshot out of the list."""
    lock_song(session, song_id)
    _row(session, song_id, snapshot_id).deleted = True
