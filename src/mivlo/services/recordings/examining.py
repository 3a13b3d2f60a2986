"""What there is of the recordings of all songs: in the store, and on this machine."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select

from mivlo.audio.originals import original_name
from mivlo.services.recordings.files import recordings, store
from mivlo.services.recordings.importing import BroughtIn
from mivlo.store.database import session
from mivlo.store.models import RecordingRow, Song, StripRow


@dataclass(frozen=True, slots=True)
class RecordingsState:
    """How many recordings the songs have, which the store has lost, how many have no current working copy here."""

    all: int
    missing: list[str]
    to_make: int


def count_recordings() -> RecordingsState:
    """Look at all recordings that are in use."""
    wanted = (
        select(RecordingRow.audio_sha256, RecordingRow.file_name, RecordingRow.starts_at_s, Song.sample_rate)
        .join(StripRow, RecordingRow.strip_id == StripRow.id)
        .join(Song, StripRow.song_id == Song.id)
        .where(~RecordingRow.deleted, ~StripRow.deleted)
        .distinct()
    )
    with session() as open_session:
        rows = open_session.execute(wanted).all()
    kept, local = store(), recordings()
    missing, to_make = [], 0
    for digest, file_name, starts_at_s, rate in rows:
        if not kept.exists(original_name(digest, file_name)):
            missing.append(file_name)
        elif not local.has(BroughtIn(digest, file_name, starts_at_s), rate):
            to_make += 1
    return RecordingsState(len(rows), missing, to_make)
