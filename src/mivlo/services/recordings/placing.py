"""When recordings begin in a song: all at zero, or as the time references of their files say (EBU Tech 3285)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from sqlalchemy import select
from sqlalchemy.orm import Session

from mivlo.audio.cache import silent_frames
from mivlo.core.errors import InvalidValue
from mivlo.services.song.edits import change_song, lock_song
from mivlo.services.song.log import Change
from mivlo.store.models import MoveRow, RecordingRow, Song, StripRow

MOST_APART_S = 3600.0
"""Files that began further apart are hardly of one song: their references are a clock's, not places."""
_SAME_S = 1e-6  # references are whole samples; their difference as seconds is not


class Placing(StrEnum):
    """By what recordings are placed."""

    REFERENCE = "reference"
    ZERO = "zero"


def starts_by_reference(references: Mapping[int, float | None]) -> dict[int, float]:
    """When each recording begins so that all lie as they were recorded; the earliest at 0, one without reference too.

    Parameters
    ----------
    references : seconds from midnight, or None, by any key.
    """
    known = [r for r in references.values() if r is not None]
    first = min(known, default=0.0)
    return {key: 0.0 if r is None else r - first for key, r in references.items()}


def place_recordings(session: Session, song_id: int, by: Placing, *, page: str = "") -> None:
    """Place all recordings of a song as one step.

    Raises
    ------
    InvalidValue : no file has a time reference, or two began over MOST_APART_S apart.
    """
    song = lock_song(session, song_id)
    here = _in_use(session, song_id)
    references = {row.id: row.reference_s for row in here}
    if by is Placing.REFERENCE and all(r is None for r in references.values()):
        raise InvalidValue("by", by, "no file of this song says when it began (a WAV file with a time reference does)")
    starts = starts_by_reference(references) if by is Placing.REFERENCE else dict.fromkeys(references, 0.0)
    if max(starts.values(), default=0.0) > MOST_APART_S:
        raise InvalidValue("by", by, "the files began over an hour apart; they are left where they are")
    label = "place the tracks by their time reference" if by is Placing.REFERENCE else "all tracks begin at zero"
    changes = _moved(here, starts, song.sample_rate)
    if changes:
        change_song(session, song, label, changes, page=page)


@dataclass(frozen=True, slots=True)
class Place:
    """Where a new recording begins, what has to move for it, and what to say of it."""

    starts_at_s: float
    changes: tuple[Change, ...] = ()
    notice: str = ""


def place_of_new(session: Session, song: Song, reference_s: float | None, *, without: Sequence[int] = ()) -> Place:
    """Where a recording belongs that is brought into a song: among the others as the time references say.

    Where the others don't lie by their references (all at zero, say), it begins at zero too. One that began before all
    others moves them, as long as nothing in the song depends on their places. `without`: strips that it will replace.
    """
    if reference_s is None:
        return Place(0.0)
    here = [row for row in _in_use(session, song.id) if row.reference_s is not None and row.strip_id not in without]
    beginnings = [row.reference_s - row.starts_at_s for row in here if row.reference_s is not None]
    if not beginnings:
        return Place(0.0)
    if max(beginnings) - min(beginnings) > _SAME_S:
        return Place(0.0, notice="It begins at zero like the song's other tracks, though its time reference differs.")
    start = reference_s - beginnings[0]
    ends = [max(row.starts_at_s - min(start, 0.0) for row in here), start]
    if max(ends) > MOST_APART_S:
        return Place(0.0, notice="Its time reference is over an hour from that of the other tracks; it begins at zero.")
    if start >= 0.0:
        return Place(start if start > _SAME_S else 0.0)
    if _has_places(session, song):
        return Place(0.0, notice="By its time reference it begins before the song's other tracks; it was put at zero.")
    return Place(0.0, tuple(_moved(here, {row.id: row.starts_at_s - start for row in here}, song.sample_rate)))


def _in_use(session: Session, song_id: int) -> Sequence[RecordingRow]:
    """Recordings that the song's tracks play."""
    query = (
        select(RecordingRow)
        .join(StripRow, RecordingRow.strip_id == StripRow.id)
        .where(StripRow.song_id == song_id, ~StripRow.deleted, ~RecordingRow.deleted)
        .order_by(RecordingRow.id)
    )
    return session.scalars(query).all()


def _has_places(session: Session, song: Song) -> bool:
    """Whether something in a song depends on when its tracks sound: a passage, moves in stretches."""
    if song.passage_from_s is not None or song.orders:
        return True
    stretched = (
        select(MoveRow.id)
        .join(StripRow, MoveRow.strip_id == StripRow.id)
        .where(StripRow.song_id == song.id, ~StripRow.deleted, ~MoveRow.deleted, MoveRow.stretches != [])
    )
    return session.scalars(stretched.limit(1)).first() is not None


def _moved(here: Sequence[RecordingRow], starts: Mapping[int, float], rate: int) -> list[Change]:
    """What makes recordings begin at other times, by id."""
    changes = []
    for row in here:
        start = starts[row.id]
        if start != row.starts_at_s:
            frames = row.frames - silent_frames(row.starts_at_s, rate) + silent_frames(start, rate)
            changes.append(Change("recording", row.id, {"starts_at_s": start, "frames": frames}))
    return changes
