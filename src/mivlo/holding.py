"""Folders that are ours alone: nobody else reads them, and one start at a time works on them."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
from pathlib import Path

from mivlo.core.errors import MivloError


def make_private(folder: Path) -> None:
    """Have a folder that nobody else on this machine can read."""
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    with contextlib.suppress(PermissionError):  # somebody else's, who has let us in
        folder.chmod(0o700)


class Held(MivloError):
    """Somebody else holds the folder; the text says who, and where they can be reached."""


class FolderLock:
    """A lock on a folder, kept in a file beside it. It goes with the process that holds it, and says who that is.

    Parameters
    ----------
    folder : what is held; it need not exist yet.
    address : where its holder can be reached.
    """

    def __init__(self, folder: Path, address: str) -> None:
        self.file = folder.with_name(folder.name + ".lock")
        self._folder, self._address = folder, address
        self._descriptor: int | None = None

    def take(self) -> None:
        """Hold the folder until `release`, or until this process ends in whatever way.

        Raises
        ------
        Held : another process holds it; nothing was touched.
        """
        self.file.parent.mkdir(parents=True, exist_ok=True)
        descriptor = os.open(self.file, os.O_RDWR | os.O_CREAT, 0o600)
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            holder = _read(descriptor)
            os.close(descriptor)
            raise Held(
                f"Mivlo runs already on {self._folder} (process {holder.get('pid', 'unknown')}): open "
                f"{holder.get('address', 'its address')}, or stop it first. To run another one beside it, give it "
                "folders of its own with MIVLO_DATA_DIR and MIVLO_PG_DIR."
            ) from None
        os.ftruncate(descriptor, 0)
        os.pwrite(descriptor, json.dumps({"pid": os.getpid(), "address": self._address}).encode(), 0)
        self._descriptor = descriptor

    def release(self) -> None:
        if self._descriptor is not None:
            os.ftruncate(self._descriptor, 0)
            os.close(self._descriptor)
            self._descriptor = None


def _read(descriptor: int) -> dict[str, object]:
    try:
        return dict(json.loads(os.pread(descriptor, 4096, 0)))
    except (ValueError, TypeError):  # it is just being written
        return {}
