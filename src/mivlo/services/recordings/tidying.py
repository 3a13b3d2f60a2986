"""What can be freed on disk: exports that were made, and what can be made again. Originals are never among it."""

from __future__ import annotations

import logging
import re
import shutil
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.exc import DBAPIError

from mivlo.audio.cache import working_name
from mivlo.audio.room import DiskFull, free_bytes, is_full, size_words
from mivlo.config import settings
from mivlo.services.recordings.files import store
from mivlo.services.recordings.sweeping import OLD_S
from mivlo.services.recordings.treated import treated_cache
from mivlo.services.tasks.tasks import OPEN_STATES
from mivlo.store import outages
from mivlo.store.database import session, tell
from mivlo.store.models import RecordingRow, Song, StripRow, TaskRow

log = logging.getLogger("mivlo.tidying")

_EXPORT = re.compile(r"exports/(\d+)/[^/]+$")
_COPY = re.compile(r"([0-9a-f]{64})_\d+(_\d+)?$")


@dataclass(frozen=True, slots=True)
class DiskUse:
    """Bytes on the disk of the data folder: free, and what exports and caches take that could be freed."""

    free: int
    exports: int
    caches: int


def disk_use() -> DiskUse:
    """Look."""
    return DiskUse(
        free_bytes(settings().data_dir),
        sum(size for _, _, size in _exports()),
        sum(size for _, size in _caches()),
    )


FULL = "The disk is full; what was begun was not finished, and nothing that was there is lost."


def full_disk(error: BaseException) -> str | None:
    """What to say where a full disk is why something failed, be it ours or the database's; None for other reasons."""
    if not (is_full(error) or outages.is_full(error)):
        return None
    return f"{error if isinstance(error, DiskFull) else FULL} {_advice()}"


def _advice() -> str:
    """Words behind a refusal for want of room: what can be freed, and how."""
    use = disk_use()
    if not use.exports and not use.caches:
        return "Make room on that disk, then try again."
    takes = f"Exports take {size_words(use.exports)} and caches {size_words(use.caches)}"
    return f"{takes}: remove them on Handover or with `mivlo tidy`, then try again."


def tidy(*, exports: bool, caches: bool) -> int:
    """Remove finished exports, and what can be made again and is not in use; bytes that were freed."""
    freed = 0
    if caches:
        for place, size in list(_caches()):
            if place.is_dir():
                shutil.rmtree(place, ignore_errors=True)  # a working copy that no song uses
            else:
                place.unlink(missing_ok=True)  # a treated sound
            freed += size
    if exports:
        removed: set[int] = set()
        for task_id, name, size in list(_exports()):
            store().remove(name)
            freed += size
            removed.add(task_id)
        _note(removed)
    log.info("freed %s", size_words(freed))
    return freed


def _exports() -> Iterator[tuple[int, str, int]]:
    """Task, name and bytes of each file of finished exports; those that are being written lie elsewhere."""
    for name, size in store().sizes("exports").items():
        if match := _EXPORT.search(name):
            yield int(match[1]), name, size


def _caches() -> Iterator[tuple[Path, int]]:
    yield from treated_cache().entries()
    used = _used_recordings()
    if used is None:
        return
    for place in (settings().data_dir / "working").glob("??/*"):
        copy = _COPY.match(place.name)
        if copy and not used & {copy[0], copy[1]} and time.time() - place.stat().st_mtime > OLD_S:
            yield place, sum(file.stat().st_size for file in place.rglob("*") if file.is_file())


def _used_recordings() -> set[str] | None:
    """Working copies that a song plays, and contents that one is about to; None where the database is away."""
    kept = (
        select(RecordingRow.audio_sha256, RecordingRow.starts_at_s, Song.sample_rate)
        .join(StripRow, RecordingRow.strip_id == StripRow.id)
        .join(Song, StripRow.song_id == Song.id)
        .where(~RecordingRow.deleted, ~StripRow.deleted, ~Song.deleted)
    )
    coming = select(TaskRow.payload["sha256"].as_string()).where(
        TaskRow.kind == "import", TaskRow.state.in_(OPEN_STATES)
    )
    try:
        with session() as open_session:
            names = (working_name(*row) for row in open_session.execute(kept))
            return {*names, *open_session.scalars(coming)}
    except DBAPIError as error:
        if outages.is_away(error):
            return None
        raise


def _note(tasks: set[int]) -> None:
    """Say of exports that their files are gone. Without the database, asking for them says so as well."""
    try:
        with session() as open_session:
            for task in open_session.scalars(select(TaskRow).where(TaskRow.id.in_(tasks))):
                task.result = {**task.result, "files": []}
                task.message = "Its files were removed to make room. Export again if you need them."
                tell(open_session, task.song_id, "task", task_id=task.id)
    except DBAPIError as error:
        if not outages.is_away(error):
            raise
