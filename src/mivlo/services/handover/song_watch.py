"""Folders of a song: stems that appear or change in one are taken in, treated stems are written into another.

Only below folders that the start was given (MIVLO_WATCH_DIRS). One worker at a time does it for a song; all that it has
to know stands in the database, so that any worker goes on.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import func, select, text
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from mivlo.audio.cache import MissingRecording
from mivlo.audio.decode import inspect
from mivlo.audio.encode import CONTAINERS, Container, depth_of
from mivlo.audio.room import is_full
from mivlo.audio.whole import written_whole
from mivlo.config import settings
from mivlo.core.errors import InvalidValue, MivloError
from mivlo.services.handover.exporting import write_in_place
from mivlo.services.handover.watching import REST_S, SOUND_ENDINGS
from mivlo.services.recordings.files import originals, recordings
from mivlo.services.recordings.importing import request_import, request_replacement
from mivlo.services.song.edits import lock_song
from mivlo.services.song.songs import song_row
from mivlo.services.song.state import SongState, StripState, read_song
from mivlo.services.tasks.tasks import open_tasks
from mivlo.store.database import session, tell
from mivlo.store.models import Edit, Song, WatchRow

MOST_SAID = 8
MOST_STEMS = 200
_LOCK = 41_700_000
"""Added to a song's id it names the lock of who watches for it."""


@dataclass(frozen=True, slots=True)
class WatchState:
    """What a song watches: both folders as they were given, what was said last; `roots`: where they may lie."""

    source: str | None
    out: str | None
    says: tuple[str, ...]
    roots: tuple[str, ...]


def watch_of(open_session: Session, song_id: int) -> WatchState:
    """What a song watches; without folders if nothing."""
    song_row(open_session, song_id)
    row = open_session.get(WatchRow, song_id)
    roots = tuple(str(root) for root in settings().watched_roots)
    return WatchState(row.source, row.out, tuple(row.says), roots) if row else WatchState(None, None, (), roots)


def begin_watching(open_session: Session, song_id: int, source: str, out: str) -> None:
    """Have a song watch a folder and write into another.

    Raises
    ------
    InvalidValue : they don't lie below a folder that the start was given, there is no such source, they lie within
        each other, or another song writes there.
    """
    lock_song(open_session, song_id)
    came, went = _allowed("source", source), _allowed("out", out)
    if not came.is_dir():
        raise InvalidValue("source", source, "there is no such folder")
    if went.exists() and not went.is_dir():
        raise InvalidValue("out", out, "that is a file; name a folder")
    if came == went or came in went.parents or went in came.parents:
        raise InvalidValue("out", out, "treated stems would be taken in again; choose a folder beside the source")
    row = open_session.get(WatchRow, song_id)
    if row is None:
        row = WatchRow(song_id=song_id, source=str(came), out=str(went))
        open_session.add(row)
    elif (row.source, row.out) != (str(came), str(went)):
        row.seen = row.seen if row.source == str(came) else {}
        row.written = row.written if row.out == str(went) else {}
        row.source, row.out = str(came), str(went)
    row.says = []
    try:
        open_session.flush()
    except IntegrityError:
        raise InvalidValue("out", out, "another song writes there; choose another folder") from None
    tell(open_session, song_id, "watch")


def end_watching(open_session: Session, song_id: int) -> None:
    """Watch nothing any more; files and tracks stay."""
    song_row(open_session, song_id)
    row = open_session.get(WatchRow, song_id)
    if row is not None:
        open_session.delete(row)
        tell(open_session, song_id, "watch")


def _allowed(name: str, folder: str) -> Path:
    """A folder by its real place, links followed, if it lies below one that the start was given."""
    roots = settings().watched_roots
    if not roots:
        raise InvalidValue(name, folder, "give the start folders first: MIVLO_WATCH_DIRS=/path/to/sessions make start")
    try:
        place = (roots[0] / folder).resolve()  # one that does not begin with / lies below the first of them
    except (OSError, ValueError, RuntimeError):
        raise InvalidValue(name, folder[:100], "that is no name of a folder") from None
    if not any(place == root or root in place.parents for root in roots):
        raise InvalidValue(name, folder, f"it must lie below {' or '.join(str(root) for root in roots)}")
    return place


def watching_songs() -> list[int]:
    """Songs that watch a folder."""
    with session() as open_session:
        query = select(WatchRow.song_id).join(Song, Song.id == WatchRow.song_id).where(~Song.deleted)
        return list(open_session.scalars(query))


@dataclass(frozen=True, slots=True)
class Looked:
    """All that a look depends on: where it is the same as at one that left nothing to do, there is nothing to do."""

    revision: int
    source: str
    out: str
    seen: dict[str, list[int]]
    written: dict[str, str]
    stems: list[tuple[Path, list[int]]]
    files: tuple[list[str], list[str]]


def look(song_id: int, before: Looked | None = None) -> Looked | None:
    """Take in what is new, write what has changed; nothing where another worker is at it.

    What can't be done is said, and not tried again until something changes.

    before : what the last look gave: reading the whole song is spared where nothing has changed since.

    Returns
    -------
    What was looked at, if nothing is left to do.
    """
    with session() as holding:
        if not holding.scalar(text("SELECT pg_try_advisory_xact_lock(:lock)"), {"lock": _LOCK + song_id}):
            return None
        with session() as open_session:
            row = open_session.get(WatchRow, song_id)
            if row is None:
                return None
            revision, source, out = song_row(open_session, song_id).revision, row.source, row.out
            seen, written = dict(row.seen), dict(row.written)
        try:
            for name, folder in (("source", source), ("out", out)):
                _allowed(name, folder)  # a link may have been put in its way since
            files = _names(Path(source)), _names(Path(out))
            now = Looked(revision, source, out, seen, written, list(_stems(Path(source))), files)
            if now == before:
                return before
            taken_in = _take_in(song_id, now)
            written_out = _write_out(song_id, now)
        except (MivloError, OSError) as problem:
            _say(song_id, "There is no room left on the disk." if is_full(problem) else str(problem))
            return None
    return now if taken_in and written_out else None


def _names(folder: Path) -> list[str]:
    """What lies in a folder, by name; nothing where there is none yet."""
    return sorted(os.listdir(folder)) if folder.is_dir() else []


def _stems(folder: Path) -> Iterator[tuple[Path, list[int]]]:
    """Sound files that have rested, and what they are told by: when they were changed, and their size."""
    found = sorted(p for p in folder.iterdir() if p.suffix.lower() in SOUND_ENDINGS and not p.name.startswith("."))
    for path in found[:MOST_STEMS]:
        try:
            facts = path.stat()
            resolved = path.resolve()
        except OSError:
            continue
        if not path.is_file() or folder.resolve() not in resolved.parents:
            continue  # a link to somewhere else
        now = time.time()
        if facts.st_size and not -REST_S < now - facts.st_mtime < REST_S:
            yield path, [facts.st_mtime_ns, facts.st_size]


def _take_in(song_id: int, now: Looked) -> bool:
    """Ask for what is new or has changed to be read; whether nothing has to wait."""
    done = True
    for path, facts in now.stems:
        if now.seen.get(path.name) == facts:
            continue
        try:
            inspect(path)
            digest = originals().keep_file(path)
        except MivloError as problem:
            _note(song_id, "seen", path.name, facts, str(problem))
            continue
        if [path.stat().st_mtime_ns, path.stat().st_size] != facts:
            done = False  # it was being replaced while it was read
            continue
        with session() as open_session:
            song = read_song(open_session, song_id)
            coming = _coming(open_session, song_id)
        if path.name in coming:
            done = False  # an older state of it is still being read
            continue
        track = next((t for t in song.tracks if t.file_name == path.name), None)
        if track is None:
            request_import(song_id, path.name, digest)
            _note(song_id, "seen", path.name, facts, f"{path.name} is taken in.")
        elif track.audio_sha256 != digest:
            request_replacement(song_id, track.id, path.name, digest)
            _note(song_id, "seen", path.name, facts, f"{path.name} has changed and is taken in again.")
        else:
            _note(song_id, "seen", path.name, facts)
    return done


def _coming(open_session: Session, song_id: int) -> set[str]:
    """Files that are still being read."""
    return {task.label for task in open_tasks(open_session, song_id, "import")}


def _write_out(song_id: int, now: Looked) -> bool:
    """Write the treated stems whose sound has changed, once the song rests; whether nothing has to wait."""
    source, out = Path(now.source), Path(now.out)
    with session() as open_session:
        song = read_song(open_session, song_id)
        since = select(func.extract("epoch", func.clock_timestamp() - func.max(Edit.created_at)))
        rested = open_session.scalar(since.where(Edit.song_id == song_id))
        resting = rested is None or float(rested) >= REST_S
        busy = _coming(open_session, song_id)
    if not resting:
        return False
    heard = song.exported()
    taken: set[str] = set()
    for track in heard.tracks:
        if track.file_name in busy or not _is_stem(source, track.file_name):
            continue
        name = treated_name(track)
        if name.casefold() in taken:
            continue  # two tracks of one file: the first one's
        taken.add(name.casefold())
        sound = f"{heard.plan.sound(track.id)} {track.file_name}"
        if now.written.get(track.file_name) == sound and (out / name).is_file():
            continue
        try:
            clipped = _write_one(heard, track, source / track.file_name, out / name)
        except MissingRecording as problem:
            _note(song_id, "written", track.file_name, sound, str(problem))
            continue
        more = f"; {clipped} samples were above full scale and were clipped" if clipped else ""
        _note(song_id, "written", track.file_name, sound, f"{name} was written{more}.")
    return not busy


def _is_stem(source: Path, file_name: str) -> bool:
    """Whether a track's file is one of the folder's: a name that was sent may be a path to anywhere."""
    return bool(file_name) and Path(file_name).name == file_name and (source / file_name).is_file()


def treated_name(track: StripState) -> str:
    """The name of a track's treated file: its stem's, as WAV where that can't be written."""
    path = Path(track.file_name)
    return path.name if path.suffix.lower() in CONTAINERS else f"{path.stem}.wav"


def _write_one(song: SongState, track: StripState, stem: Path, place: Path) -> int:
    """Write one treated stem whole or not at all, for whoever may read the stem; how many samples were clipped."""
    if not place.parent.is_dir():
        place.parent.mkdir(parents=True)
        place.parent.chmod(stem.parent.stat().st_mode & 0o777)
    container = CONTAINERS.get(place.suffix.lower(), Container.WAV)
    kind = inspect(recordings().original(track.recording), track.file_name).subtype
    with written_whole(place) as fresh:
        clipped = write_in_place(fresh, song, track.id, depth_of(kind), container)
        fresh.chmod(stem.stat().st_mode & 0o666)
    return clipped


def _note(song_id: int, column: str, name: str, value: object, said: str = "") -> None:
    """Remember of a stem what was done, and say it."""
    with session() as open_session:
        row = open_session.get(WatchRow, song_id, with_for_update=True)
        if row is None:
            return  # it watches no more
        setattr(row, column, {**getattr(row, column), name: value})
        if said:
            _told(open_session, row, said)


def _say(song_id: int, said: str) -> None:
    """Say what could not be done, once."""
    with session() as open_session:
        row = open_session.get(WatchRow, song_id, with_for_update=True)
        if row is not None and (not row.says or row.says[-1] != said):
            _told(open_session, row, said)


def _told(open_session: Session, row: WatchRow, said: str) -> None:
    row.says = [*row.says, said][-MOST_SAID:]
    tell(open_session, row.song_id, "watch")
