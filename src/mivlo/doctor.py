"""What `mivlo doctor` looks at."""

from __future__ import annotations

import os
import uuid
from dataclasses import dataclass

from sqlalchemy.exc import SQLAlchemyError

from mivlo.config import settings
from mivlo.jobs import queue
from mivlo.services.recordings.examining import count_recordings
from mivlo.store import database


@dataclass(frozen=True, slots=True)
class Check:
    """One part: whether it is in order, and what it says (with what to do if not)."""

    name: str
    ok: bool
    says: str


def examine() -> list[Check]:
    """All checks, in the order in which things depend on each other."""
    base = _database()
    return [
        base,
        _worker() if base.ok else Check("worker", False, "unknown without the database."),
        _store(),
        _sounds() if base.ok else Check("sounds", False, "unknown without the database."),
        _page(),
    ]


def _database() -> Check:
    try:
        current = database.schema_is_current()
    except SQLAlchemyError:
        return Check("database", False, "not reachable. Run `make start`, or set MIVLO_DATABASE_URL to a running one.")
    if not current:
        return Check("database", False, "its tables are not up to date. Run `mivlo migrate`.")
    return Check("database", True, "reachable, tables up to date.")


def _worker() -> Check:
    found = queue.describe()
    if not found["workers"]:
        return Check("worker", False, f"none runs ({found['waiting']} tasks wait). Run `mivlo worker`.")
    return Check("worker", True, f"{found['workers']} running, {found['waiting']} tasks waiting.")


def _store() -> Check:
    folder = settings().data_dir
    try:
        folder.mkdir(parents=True, exist_ok=True)
        test = folder / f".{uuid.uuid4().hex}"
        test.write_bytes(b"x")
        test.unlink()
    except OSError as error:
        return Check("store", False, f"can't write to {folder} ({error.strerror}). Set MIVLO_DATA_DIR.")
    disk = os.statvfs(folder)
    free = disk.f_bavail * disk.f_frsize / 1e9
    if free < 2:
        return Check("store", False, f"only {free:.1f} GB are free at {folder}. Make room there.")
    return Check("store", True, f"{folder}, {free:.0f} GB free.")


def _sounds() -> Check:
    """Recordings of the songs: whether the store has them, and which this machine has ready to be played."""
    state = count_recordings()
    if state.missing:
        names = ", ".join(state.missing[:3]) + (" ..." if len(state.missing) > 3 else "")
        says = f"{len(state.missing)} of {state.all} are missing in the store ({names}). Put them back from a backup."
        return Check("sounds", False, says)
    if state.to_make:
        made = "have no current working copy here and get one when they are used"
        says = f"{state.all} in the store; {state.to_make} {made}."
        return Check("sounds", True, says)
    return Check("sounds", True, f"{state.all} in the store, all ready.")


def _page() -> Check:
    if not (settings().page_dir / "index.html").is_file():
        return Check("page", False, "not built. Run `make setup`.")
    return Check("page", True, "built.")
