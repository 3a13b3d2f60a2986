"""Originals: files as they were brought in, named by their content, never changed.

originals/ab/abcdef....wav      the name is the SHA-256 of the content
"""

from __future__ import annotations

import hashlib
import os
import uuid
from pathlib import Path

from mivlo.audio.objects import ObjectStore
from mivlo.audio.room import check_room


class Upload:
    """A file on its way in: written and hashed as it comes, kept or dropped at the end."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self.path = folder / f"{uuid.uuid4().hex}.part"
        self._hash = hashlib.sha256()
        self._file = self.path.open("wb")
        self.size = 0

    def write(self, data: bytes) -> None:
        self._hash.update(data)
        self._file.write(data)
        self.size += len(data)

    def close(self) -> str:
        """Sync to disk; the content's SHA-256."""
        self._file.flush()
        os.fsync(self._file.fileno())
        self._file.close()
        return self.digest()

    def digest(self) -> str:
        """The SHA-256 of what came so far."""
        return self._hash.hexdigest()

    def drop(self) -> None:
        self._file.close()
        self.path.unlink(missing_ok=True)


def original_name(digest: str, file_name: str) -> str:
    """The name of an original in the store; of the file's own name only the ending is kept."""
    suffix = file_name.rpartition(".")[2] if "." in file_name else ""
    clean = "".join(c for c in suffix.lower() if c.isalnum() and c.isascii())[:5]
    return f"originals/{digest[:2]}/{digest}.{clean or 'bin'}"


class Originals:
    """Brings files into the store.

    Parameters
    ----------
    store : where they are kept.
    incoming : a folder of this machine for files that are still being sent.
    keep_free : bytes that are left free on its disk.
    """

    def __init__(self, store: ObjectStore, incoming: Path, keep_free: int = 0) -> None:
        self._store, self._incoming, self._keep_free = store, incoming, keep_free

    def upload(self, name: str = "the file", expected: int = 0) -> Upload:
        """Begin to take a file in; DiskFull where there is no room for as many bytes as are expected."""
        check_room(self._incoming, expected, name, keep_free=self._keep_free)
        return Upload(self._incoming)

    def keep(self, upload: Upload, file_name: str) -> str:
        """Take an upload into the originals; equal content is stored once. Returns its SHA-256."""
        digest = upload.close()
        name = original_name(digest, file_name)
        if self._store.exists(name):
            upload.path.unlink()
        else:
            self._store.put(name, upload.path)
        return digest

    def keep_file(self, path: Path) -> str:
        """Copy a file of this machine into the originals. Returns its SHA-256."""
        upload = self.upload(path.name, path.stat().st_size)
        with path.open("rb") as file:
            while data := file.read(1 << 20):
                upload.write(data)
        return self.keep(upload, path.name)
