"""Room on disk: looked for before much is written, and told by name when it runs out."""

from __future__ import annotations

import errno
import os
from pathlib import Path

from mivlo.core.errors import MivloError

_FULL = (errno.ENOSPC, errno.EDQUOT)


class DiskFull(MivloError):
    """There is not enough room on a disk; the text says for what, and how much it needs."""


def size_words(size: float) -> str:
    """A size in bytes for people."""
    for unit, bytes_ in (("GB", 1e9), ("MB", 1e6)):
        if size >= bytes_:
            return f"{size / bytes_:.1f} {unit}"
    return f"{max(size, 0) / 1e3:.0f} kB"


def free_bytes(folder: Path) -> int:
    """What is free for us where a folder is, or will be."""
    while not folder.exists() and folder != folder.parent:
        folder = folder.parent
    disk = os.statvfs(folder)
    return disk.f_bavail * disk.f_frsize


def check_room(folder: Path, needed: int, what: str, *, keep_free: int = 0) -> None:
    """Refuse to begin what can't be finished.

    Parameters
    ----------
    folder : where it is written.
    needed : bytes.
    what : names it, in the sentence.
    keep_free : bytes that shall be left for others, the database before all.

    Raises
    ------
    DiskFull : says how much is needed and how much is there.
    """
    free = free_bytes(folder)
    if free - needed >= keep_free:
        return
    beside = f", and {size_words(keep_free)} are kept free for the database" if keep_free else ""
    raise DiskFull(
        f"The disk is full: {what} needs {size_words(needed)}, {size_words(free)} are free in {folder}{beside}."
    )


def is_full(error: BaseException) -> bool:
    """Whether the system refused to write because a disk is full."""
    return isinstance(error, DiskFull) or (isinstance(error, OSError) and error.errno in _FULL)


LITTLE = 1 << 20
"""Where fewer bytes are free, it is why something could not be written."""


def as_full(error: BaseException, folder: Path) -> BaseException:
    """The error of a library that does not tell why it could not write: DiskFull where little is free."""
    free = free_bytes(folder)
    if free < LITTLE:
        return DiskFull(f"The disk is full: {size_words(free)} are free in {folder}, more is needed.")
    return error
