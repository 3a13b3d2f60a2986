"""Bringing songs back from a backup: everything is checked first, nothing that is there is changed."""

from __future__ import annotations

import hashlib
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any, BinaryIO

from pydantic import BaseModel, ValidationError
from sqlalchemy import insert, select, text, update
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from mivlo.audio.decode import LARGEST_BYTES
from mivlo.audio.room import check_room
from mivlo.config import settings
from mivlo.core.errors import MivloError
from mivlo.description import key_document, sentence
from mivlo.services.backup.documents import MANIFEST, TABLES, KeptOriginal, KeptSong, Manifest, SongDocument
from mivlo.services.backup.saving import archived_name
from mivlo.services.recordings.files import originals
from mivlo.services.song.songs import named
from mivlo.services.song.state import read_song
from mivlo.store.database import session
from mivlo.store.models import Base, Edit, LinkMemberRow, MoveRow, SnapshotRow, Song, StripRow
from mivlo.store.outages import is_away, is_full

Progress = Callable[[float], None]
_CHUNK = 1 << 20
LARGEST_DOCUMENT = 64_000_000
"""Bytes of a song's rows: some hundred thousand edits."""
_COMPRESSION = (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED)


class BadBackup(MivloError):
    """A file is no backup, or is damaged; nothing was changed."""


def restore(path: Path, name: str | None = None, progress: Progress = lambda share: None) -> list[int]:
    """Bring all songs of a backup back as new songs; their ids.

    Raises
    ------
    BadBackup : says what is wrong with the file. DiskFull : there is no room for its originals.
    """
    name = name or path.name
    try:
        with zipfile.ZipFile(path) as archive:
            return _restore(_Archive(archive, name), progress)
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError, OverflowError) as error:
        raise BadBackup(f"Could not use {name}: it is not a backup, or it is damaged ({_short(error)}).") from error


def _short(error: Exception) -> str:
    return str(error)[:120].rstrip(".") or type(error).__name__


class _Archive:
    """The members of an archive, read up to what they say of themselves and to our bounds."""

    def __init__(self, archive: zipfile.ZipFile, name: str) -> None:
        self._archive, self.name = archive, name
        self._members = {member.filename: member for member in archive.infolist()}

    def open(self, member: str, most: int) -> BinaryIO:
        known = self._members.get(member)
        if known is None:
            raise BadBackup(f"Could not use {self.name}: {member} is missing in it.")
        if known.file_size > most or known.compress_type not in _COMPRESSION or known.flag_bits & 1:
            raise BadBackup(f"Could not use {self.name}: {member} is too large, or packed in a way that is not ours.")
        return self._archive.open(known)  # type: ignore[return-value]

    def read(self, member: str, most: int, sha256: str | None = None) -> bytes:
        with self.open(member, most) as file:
            data = file.read()
        if sha256 is not None and hashlib.sha256(data).hexdigest() != sha256:
            raise BadBackup(f"Could not use {self.name}: {member} was changed or damaged since it was written.")
        return data


def _validated(model: Any, data: bytes, archive: _Archive, member: str) -> Any:
    try:
        return model.model_validate_json(data)
    except ValidationError as error:
        said = sentence(error)
        said = said if len(said) < 400 else f"{said[:400]} ..."
        raise BadBackup(
            f"Could not use {archive.name}: {member}: {said}. It may have been made by a newer version."
        ) from error


def _restore(archive: _Archive, progress: Progress) -> list[int]:
    manifest: Manifest = _validated(Manifest, archive.read(MANIFEST, LARGEST_DOCUMENT), archive, MANIFEST)
    here = [original for original in manifest.originals if not original.missing]
    known = {original.sha256 for original in manifest.originals}
    for kept in manifest.songs:  # one after the other: together they may be large
        for row in _document(archive, kept).recordings:
            if row.audio_sha256 not in known:
                raise BadBackup(f"Could not use {archive.name}: the recording {row.file_name} is missing in it.")
    total = sum(original.bytes for original in here)
    check_room(settings().data_dir, total, f"restoring {archive.name}", keep_free=settings().keep_free_bytes)
    done = 0
    for original in here:
        done += _take_in(archive, original)
        progress(done / max(total, 1))
    try:
        with session() as open_session:
            return [_insert(open_session, _document(archive, kept)) for kept in manifest.songs]
    except (SQLAlchemyError, MivloError, KeyError, TypeError, AttributeError, ValueError) as error:
        if isinstance(error, SQLAlchemyError) and (is_away(error) or is_full(error)):
            raise
        said = f" ({error})" if isinstance(error, MivloError) else ""
        raise BadBackup(
            f"Could not use {archive.name}: its songs do not fit together{said}. Nothing was changed."
        ) from error


def _document(archive: _Archive, kept: KeptSong) -> Any:
    document = _validated(
        SongDocument, archive.read(kept.document, LARGEST_DOCUMENT, kept.sha256), archive, kept.document
    )
    if len(document.songs) != 1:
        raise BadBackup(f"Could not use {archive.name}: {kept.document} must hold one song.")
    return document


def _take_in(archive: _Archive, original: KeptOriginal) -> int:
    """Put an original into the store, if it is what it says; its bytes."""
    upload = originals().upload(original.file_name, original.bytes)
    try:
        with archive.open(archived_name(original), min(original.bytes, LARGEST_BYTES)) as file:
            while data := file.read(_CHUNK):
                upload.write(data)
        if upload.digest() != original.sha256:
            said = f"the recording {original.file_name} in it is damaged. Nothing was changed"
            raise BadBackup(f"Could not use {archive.name}: {said}.")
        originals().keep(upload, original.file_name)
    except BaseException:
        upload.drop()
        raise
    return upload.size


_POINTS_TO = {
    "song_id": "songs", "strip_id": "strips", "parent_id": "strips", "move_id": "moves", "link_id": "links",
    "of_id": "edits", "begins_id": "edits",
}  # fmt: skip
"""Columns that hold the id of a row of another table."""
_LOGGED = {"song": "songs", "strip": "strips", "recording": "recordings", "move": "moves", "finding": "findings"}
Ids = dict[str, dict[int, int]]


def _insert(open_session: Session, document: Any) -> int:
    """A song of its document, under new numbers; refused where it can't be read again as a song."""
    ids: Ids = {}
    for table in TABLES:
        rows = getattr(document, table.__tablename__)
        if table is not LinkMemberRow:
            numbers = _new_numbers(open_session, table, len(rows))
            ids[table.__tablename__] = dict(zip([row.id for row in rows], numbers, strict=True))
    parents: list[tuple[int, int | None]] = []
    for table in TABLES:
        values = [_values(row, table, ids) for row in getattr(document, table.__tablename__)]
        if table is Song:
            values[0]["name"] = _free_name(open_session, values[0]["name"])
        if table is StripRow:  # a group may stand behind what is routed into it
            parents = [(row["id"], row.pop("parent_id", None)) for row in values]
        if values:
            open_session.execute(insert(table.__table__), values)  # type: ignore[arg-type]
    for strip_id, parent_id in parents:
        if parent_id is not None:
            open_session.execute(update(StripRow).where(StripRow.id == strip_id).values(parent_id=parent_id))
    (song_id,) = ids["songs"].values()
    open_session.expire_all()
    _ = read_song(open_session, song_id).plan  # refuses what is no song
    return song_id


def _new_numbers(open_session: Session, table: type[Base], count: int) -> list[int]:
    query = text("SELECT nextval(pg_get_serial_sequence(:name, 'id')) FROM generate_series(1, :count)")
    return list(open_session.scalars(query, {"name": table.__tablename__, "count": count}))


def _values(row: BaseModel, table: type[Base], ids: Ids) -> dict[str, Any]:
    """A row's values with the new numbers; what an older version did not have yet is left to the defaults."""
    values = row.model_dump(exclude_unset=True)
    if "id" in values:
        values["id"] = ids[table.__tablename__][values["id"]]
    for name, other in _POINTS_TO.items():
        if values.get(name) is not None:
            values[name] = ids[other][values[name]]
    if table is Song:
        values = _decided(values, ids)
    if table is MoveRow:
        values["parameters"] = _rekeyed(values["parameters"], ids)
    if table is SnapshotRow:
        values["document"] = _kept(values["document"], ids)
    if table is Edit:
        values["forward"] = [_renumbered(change, ids) for change in values["forward"]]
        values["backward"] = [_renumbered(change, ids) for change in values["backward"]]
    return values


def _renumbered(change: dict[str, Any], ids: Ids) -> dict[str, Any]:
    """A change of the log with the new numbers."""
    inside = {
        name: ids[_POINTS_TO[name]][value] if name in _POINTS_TO and value is not None else value
        for name, value in change["values"].items()
    }
    inside = _decided(_rekeyed(inside, ids), ids)
    return {**change, "id": ids[_LOGGED[change["table"]]][change["id"]], "values": inside}


def _kept(document: dict[str, Any], ids: Ids) -> dict[str, Any]:
    """What a snapshot holds with the new numbers of its strips and moves."""
    return {
        str(ids["strips"][int(strip)]): {
            **treatment,
            "entries": [
                {**e, "id": ids["moves"][e["id"]], "move": _rekeyed(e["move"], ids)} for e in treatment["entries"]
            ],
        }
        for strip, treatment in document.items()
        if int(strip) in ids["strips"]
    }


def _decided(values: dict[str, Any], ids: Ids) -> dict[str, Any]:
    """Values of a song with the new numbers of the strips that its decisions and orders speak of."""
    made = dict(values)
    if values.get("decisions"):
        made["decisions"] = [
            {**d, **{name: ids["strips"].get(d[name], 0) for name in ("covered", "by")}} for d in values["decisions"]
        ]
    if values.get("orders"):
        made["orders"] = [
            {**o, "track_ids": [ids["strips"][i] for i in o["track_ids"] if i in ids["strips"]]}
            for o in values["orders"]
        ]
    return made


def _rekeyed(move: dict[str, Any], ids: Ids) -> dict[str, Any]:
    """Values of a move with the new number of the strip that it listens to; nobody's where that is not in the song."""
    return key_document(move, lambda source: ids["strips"].get(source, 0))


def _free_name(open_session: Session, name: str) -> str:
    """The name, or one that says that it was restored where a song is called so already."""
    name = named(name)
    taken = set(open_session.scalars(select(Song.name).where(~Song.deleted)))
    number, free = 1, name
    while free in taken:
        free = f"{name[:100]} (restored{'' if number == 1 else f' {number}'})"
        number += 1
    return free
