"""Making a backup while everything runs: one snapshot of the database, and the originals, which never change."""

from __future__ import annotations

import hashlib
import json
import os
import re
import uuid
import zipfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from sqlalchemy import select, text
from sqlalchemy.orm import Session

from mivlo import __version__
from mivlo.audio.originals import original_name
from mivlo.audio.room import check_room
from mivlo.audio.whole import written_whole
from mivlo.config import settings
from mivlo.core.errors import MivloError
from mivlo.services.backup import documents
from mivlo.services.backup.documents import MANIFEST, README, ROWS, SCHEMA, KeptOriginal, KeptSong, Manifest
from mivlo.services.errors import NotFound
from mivlo.services.recordings.files import store
from mivlo.services.song.songs import song_row
from mivlo.services.song.state import read_song
from mivlo.services.tasks.tasks import TaskProgress, create_task, get_task
from mivlo.store.database import session
from mivlo.store.models import MoveRow, Song, StripRow, TaskRow

Progress = Callable[[float], None]
_CHUNK = 1 << 20


@dataclass
class Saved:
    """What a backup holds, and what could not be put into it."""

    songs: list[str] = field(default_factory=list)
    originals: int = 0
    notices: list[str] = field(default_factory=list)


def find_songs(name: str | None) -> list[int]:
    """The songs of a name or number, or all; NotFound where there is none."""
    with session() as open_session:
        known = open_session.execute(select(Song.id, Song.name).where(~Song.deleted).order_by(Song.id)).all()
    found = [i for i, called in known if name is None or called == name or str(i) == name]
    if not found and name is not None:
        raise NotFound("song", name)
    return found


def save(song_ids: Sequence[int], out: Path, progress: Progress = lambda share: None) -> Saved:
    """Write a backup of some songs; the file appears under its name only when it is whole.

    Raises
    ------
    MivloError : there is such a file already. DiskFull : there is no room for it.
    """
    if out.exists():
        raise MivloError(f"There is a file {out.name} already. Give another name, so that nothing is overwritten.")
    contents, originals = _snapshot(song_ids)
    kept = [_look_at(digest, name) for digest, name in originals.items()]
    needed = sum(len(text) for _, text in contents) + sum(original.bytes for original in kept)
    check_room(out, needed + 1_000_000, f"the backup {out.name}", keep_free=settings().keep_free_bytes)
    with written_whole(out) as partial, partial.open("xb") as file:
        with zipfile.ZipFile(file, "w", zipfile.ZIP_STORED) as archive:
            _write(archive, contents, kept, progress)
        file.flush()
        os.fsync(file.fileno())
    lost = [original.file_name for original in kept if original.missing]
    said = f"{len(lost)} recordings are missing in the store and not in the backup: {', '.join(lost[:5])}."
    notices = [said] if lost else []
    return Saved([name for name, _ in contents], len(kept) - len(lost), notices)


def _snapshot(song_ids: Sequence[int]) -> tuple[list[tuple[str, bytes]], dict[str, str]]:
    """Each song's name and document, and the originals that they play: digest to file name; all of one moment."""
    contents, originals = [], {}
    with session() as open_session:
        open_session.execute(text("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ READ ONLY"))
        for song_id in song_ids:
            rows = _rows(open_session, song_id)
            originals.update({row["audio_sha256"]: row["file_name"] for row in rows["recordings"]})
            document = documents.SongDocument.model_validate({name: rows[name] for name in ROWS})
            contents.append((rows["songs"][0]["name"], document.model_dump_json(indent=1).encode()))
    return contents, originals


def _rows(open_session: Session, song_id: int) -> dict[str, list[dict[str, Any]]]:
    """All rows of a song, by table, oldest first."""
    song_row(open_session, song_id)
    strips = select(StripRow.id).where(StripRow.song_id == song_id)
    found: dict[str, list[dict[str, Any]]] = {}
    for table in documents.TABLES:
        own: Any = table.__table__
        columns = own.columns
        if table is Song:
            wanted = columns.id == song_id
        elif "song_id" in columns:
            wanted = columns.song_id == song_id
        elif "strip_id" in columns:
            wanted = columns.strip_id.in_(strips)
        else:
            wanted = columns.move_id.in_(select(MoveRow.id).where(MoveRow.strip_id.in_(strips)))
        query = select(*columns).where(wanted).order_by(*own.primary_key.columns)
        found[table.__tablename__] = [dict(row) for row in open_session.execute(query).mappings()]
    return found


def _look_at(digest: str, file_name: str) -> KeptOriginal:
    name = original_name(digest, file_name)
    size = store().sizes(name).get(name)
    return KeptOriginal(sha256=digest, file_name=file_name, bytes=size or 0, missing=size is None)


def archived_name(original: KeptOriginal) -> str:
    """Where an original lies in the archive."""
    return "originals/" + original_name(original.sha256, original.file_name).rpartition("/")[2]


def _write(
    archive: zipfile.ZipFile, contents: list[tuple[str, bytes]], originals: list[KeptOriginal], progress: Progress
) -> None:
    songs = []
    for number, (name, document) in enumerate(contents, 1):
        kept = KeptSong(name=name, document=f"songs/{number}.json", sha256=hashlib.sha256(document).hexdigest())
        archive.writestr(kept.document, document, zipfile.ZIP_DEFLATED)
        songs.append(kept)
    manifest = Manifest(made_at=datetime.now(UTC), made_by=f"mivlo {__version__}", songs=songs, originals=originals)
    archive.writestr(MANIFEST, manifest.model_dump_json(indent=1))
    archive.writestr(SCHEMA, json.dumps(documents.schema(), indent=1), zipfile.ZIP_DEFLATED)
    archive.writestr(README, f"{documents.__doc__}\nBring it back with: mivlo restore FILE.zip\n")
    done, total = 0, sum(original.bytes for original in originals) or 1
    for original in originals:
        if original.missing:
            continue
        entry = zipfile.ZipInfo(archived_name(original), datetime.now(UTC).timetuple()[:6])
        hashed = hashlib.sha256()
        with (
            store().open(original_name(original.sha256, original.file_name)) as source,
            archive.open(entry, "w", force_zip64=True) as out,
        ):
            while data := source.read(_CHUNK):
                hashed.update(data)
                out.write(data)
                done += len(data)
                progress(done / total)
        if hashed.hexdigest() != original.sha256:
            raise MivloError(
                f"The recording {original.file_name} in the store is damaged: it is not what was brought in. "
                "Put it back from an older backup first; nothing was written."
            )


# --- asked for on the page ------------------------------------------------------------------------------


def request_backup(song_id: int) -> TaskRow:
    """A task that makes a backup of a song as a file to be fetched."""
    with session() as open_session:
        name = read_song(open_session, song_id).name
        return create_task(open_session, song_id, "backup", f"Backup of {name}", {})


def run_backup(task_id: int) -> dict[str, Any]:
    """Do the task; run twice, the second makes another one in its place."""
    with session() as open_session:
        song_id = get_task(open_session, task_id).song_id
        name = read_song(open_session, song_id).name
    folder = settings().data_dir / "exports"
    folder.mkdir(parents=True, exist_ok=True)
    made = folder / f"{task_id}.{uuid.uuid4().hex}.part"
    try:
        saved = save([song_id], made, TaskProgress(task_id))
        clean = re.sub(r"[^\w\-]+", "_", name).strip("_") or "song"
        file_name = f"{clean}-backup.zip"
        store().put(f"exports/{task_id}/{file_name}", made)
    finally:
        made.unlink(missing_ok=True)  # our own, under a name that nobody else has
    return {"files": [file_name], "notices": saved.notices}


# --- by night -------------------------------------------------------------------------------------------

_STAMP = "%Y-%m-%dT%H-%M"
_NIGHTLY = re.compile(r"^mivlo-\d{4}-\d\d-\d\dT\d\d-\d\d\.zip$")


def nightly(now: datetime, folder: Path, hour: int, kept: int) -> Path | None:
    """Back all songs up unless that was done since the hour was last reached; the file, or None.

    The newest `kept` files of ours stay in the folder; nothing else in it is touched.
    """
    due = now.replace(hour=hour, minute=0, second=0, microsecond=0)
    if due > now:
        due -= timedelta(days=1)
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    ours = sorted(path for path in folder.iterdir() if _NIGHTLY.match(path.name))
    if ours and ours[-1].stem.removeprefix("mivlo-") >= due.strftime(_STAMP):
        return None
    songs = find_songs(None)
    if not songs:
        return None
    out = folder / f"mivlo-{now.strftime(_STAMP)}.zip"
    save(songs, out)
    for old in [*ours, out][:-kept]:
        old.unlink()  # of our own name, and newer ones are there
    return out
