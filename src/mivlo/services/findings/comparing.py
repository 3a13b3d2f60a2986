"""What the other tracks of a song say of each finding: compared once all looks are over, kept by the finding's id."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any, NamedTuple

from pydantic import TypeAdapter
from sqlalchemy import select
from sqlalchemy.orm import Session

from mivlo.core.findings import Kind
from mivlo.core.findings.ensemble import METHOD, Beside, look_together
from mivlo.core.roles import Role
from mivlo.services.findings.looking import looking, recorded, told_by_others
from mivlo.services.song.edits import lock_song
from mivlo.services.song.state import SongState, StripState, read_song
from mivlo.services.tasks.tasks import TaskProgress, create_task, get_task, open_tasks
from mivlo.store.database import session as open_session
from mivlo.store.database import tell
from mivlo.store.models import ComparisonRow, FindingRow

COMPARED = (Kind.RING, Kind.OWN_TONE)
MOST_TRACKS = 64
_known: TypeAdapter[dict[int, Beside]] = TypeAdapter(dict[int, Beside])


class _Spot(NamedTuple):
    id: int
    strip_id: int
    frequency_hz: float
    bandwidth_oct: float


def _tracks(song: SongState) -> list[StripState]:
    """What can be compared: recordings with sound. What is treated counts as it was recorded."""
    return [t for t in song.tracks if t.frames][:MOST_TRACKS]


def _compared(session: Session, song: SongState, tracks: Sequence[StripState]) -> list[_Spot]:
    """Without their documents: this is asked whenever a song rests. Of a room its look has heard the others already."""
    asked = [t.id for t in tracks if not told_by_others(song, t)]
    query = select(FindingRow.id, FindingRow.strip_id, FindingRow.frequency_hz, FindingRow.bandwidth_oct)
    query = query.where(FindingRow.strip_id.in_(asked), FindingRow.kind.in_(COMPARED))
    return [_Spot(*row) for row in session.execute(query.where(FindingRow.present).order_by(FindingRow.id))]


def _key(song: SongState, tracks: Sequence[StripState], spots: Sequence[_Spot]) -> str:
    """Names all that a comparison depends on."""
    places = [(s.id, s.strip_id, round(s.frequency_hz, 1), round(s.bandwidth_oct, 3)) for s in spots]
    facts = [
        METHOD,
        song.sample_rate,
        [(t.id, t.recording.audio_sha256, t.recording.starts_at_s, t.role is Role.ROOM) for t in tracks],
        places,
    ]
    return hashlib.sha256(json.dumps(facts, default=str).encode()).hexdigest()


def request_comparison(session: Session, song_id: int) -> int | None:
    """A task that compares the tracks, where all looks are over and something has changed since; its id."""
    lock_song(session, song_id)
    if looking(session, song_id) or open_tasks(session, song_id, "compare") or is_compared(session, song_id):
        return None
    return create_task(session, song_id, "compare", "the tracks beside each other", {}).id


def is_compared(session: Session, song_id: int) -> bool:
    """Whether what is known is of the findings as they are, or there is nothing to compare."""
    song = read_song(session, song_id)
    tracks = _tracks(song)
    spots = _compared(session, song, tracks)
    if len(tracks) < 2 or not spots:
        return True
    known = session.get(ComparisonRow, song_id)
    return known is not None and known.key == _key(song, tracks, spots)


def run_comparison(task_id: int) -> dict[str, Any]:
    """Do the task and keep what was said. Can be run twice without harm."""
    with open_session() as session:
        song = read_song(session, get_task(session, task_id).song_id)
        tracks = _tracks(song)
        spots = _compared(session, song, tracks)
        key = _key(song, tracks, spots)
    if len(tracks) < 2 or not spots:
        return {}
    progress = TaskProgress(task_id)
    sounds = [recorded(t, song.sample_rate) for t in tracks]
    together = look_together(
        sounds,
        sample_rate=song.sample_rate,
        rooms=[i for i, t in enumerate(tracks) if t.role is Role.ROOM],
        progress=lambda share: progress(0.7 * share),
    )
    number = {t.id: i for i, t in enumerate(tracks)}
    said: dict[str, Any] = {}
    for done, spot in enumerate(spots, 1):
        found = together.beside(number[spot.strip_id], spot.frequency_hz, spot.bandwidth_oct)
        if found != Beside():
            said[str(spot.id)] = asdict(found.renamed([t.id for t in tracks]))
        progress(0.7 + 0.3 * done / len(spots))
    with open_session() as session:
        session.merge(ComparisonRow(song_id=song.id, key=key, document=said))
        tell(session, song.id, "findings")
    return {"findings": len(said)}


def comparison_of(session: Session, song_id: int) -> dict[int, Beside]:
    """What the other tracks say of findings, by id; tracks by their ids."""
    known = session.get(ComparisonRow, song_id)
    return {} if known is None else _known.validate_python(known.document)
