"""The store: files under names, wherever they are kept: in a folder of this machine or on anything fsspec reaches."""

from __future__ import annotations

import contextlib
import os
import shutil
import uuid
from pathlib import Path
from typing import BinaryIO, cast

from fsspec.core import url_to_fs
from fsspec.implementations.local import LocalFileSystem

from mivlo.audio.whole import written_whole


class ObjectStore:
    """Files that are written once and read by many; each appears under its name only when it is whole.

    Parameters
    ----------
    address : a folder, or any address that fsspec understands ("memory://mivlo", "sftp://...").
    """

    def __init__(self, address: str) -> None:
        self.address = address
        self._files, root = url_to_fs(address)
        self._root = root.rstrip("/")

    def _path(self, name: str) -> str:
        return f"{self._root}/{name}"

    def exists(self, name: str) -> bool:
        """Whether there is such a file."""
        return bool(self._files.exists(self._path(name)))

    def open(self, name: str) -> BinaryIO:
        """Read a file from its start; FileNotFoundError where there is none."""
        return cast(BinaryIO, self._files.open(self._path(name), "rb"))

    def put(self, name: str, path: Path) -> None:
        """Take a file of this machine over under a name; it is gone from where it was."""
        place = self._path(name)
        self._files.makedirs(place.rpartition("/")[0], exist_ok=True)
        if isinstance(self._files, LocalFileSystem):
            _move(path, Path(place))
            return
        partial = f"{place}.{uuid.uuid4().hex}.part"
        self._files.put_file(str(path), partial)
        self._files.mv(partial, place)
        path.unlink()

    def sizes(self, folder: str) -> dict[str, int]:
        """All files in a folder and below, by name, with their bytes."""
        found = self._files.find(self._path(folder), detail=True)
        return {path.removeprefix(f"{self._root}/"): int(about["size"]) for path, about in found.items()}

    def remove(self, name: str) -> None:
        """Remove a file; it may be gone already."""
        with contextlib.suppress(FileNotFoundError):
            self._files.rm_file(self._path(name))

    def here(self, name: str) -> Path | None:
        """Where a file lies if it lies on this machine, so that nothing has to be fetched."""
        if not isinstance(self._files, LocalFileSystem):
            return None
        place = Path(self._path(name))
        return place if place.is_file() else None

    def fetch(self, name: str, place: Path) -> None:
        """Copy a file to this machine; it appears under its name only when it is whole."""
        place.parent.mkdir(parents=True, exist_ok=True)
        with written_whole(place) as partial, self.open(name) as source, partial.open("wb") as out:
            shutil.copyfileobj(source, out, 1 << 20)


def _move(path: Path, place: Path) -> None:
    try:
        path.replace(place)
    except OSError:  # on another disk: copied beside its place first
        with written_whole(place) as partial:
            shutil.copyfile(path, partial)
            with partial.open("rb") as written:
                os.fsync(written.fileno())
        path.unlink()
