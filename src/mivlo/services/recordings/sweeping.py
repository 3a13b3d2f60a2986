"""Half files that nobody finishes any more: found by their names, their age, and what the database knows."""

from __future__ import annotations

import logging
import re
import shutil
import time
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import chain
from pathlib import Path

from sqlalchemy import select

from mivlo.config import settings
from mivlo.services.tasks.tasks import OPEN_STATES
from mivlo.store.database import session
from mivlo.store.models import TaskRow

log = logging.getLogger("mivlo.sweeping")

OLD_S = 3600.0
"""What is half made is written to all the time; untouched for so long, its maker is gone."""
_OURS = re.compile(r"(^|\.)[0-9a-f]{32}\.part$")
"""Names that only we give: a random number and ".part". Nothing else is ever removed."""


@dataclass(frozen=True, slots=True)
class Swept:
    """How much was removed."""

    files: int
    bytes: int


def sweep(*, older_than_s: float = OLD_S) -> Swept:
    """Remove what was begun and never finished, in the folders in which we make things."""
    root, count, size = settings().data_dir, 0, 0
    busy = _exports_under_way()
    for place in _half_made(root):
        if place.parent.name == "exports" and place.name.partition(".")[0] in busy:
            continue
        try:
            if time.time() - _last_touched(place) < older_than_s:
                continue
            bytes_ = _size(place)
            if place.is_dir():
                shutil.rmtree(place)
            else:
                place.unlink()
        except FileNotFoundError:  # it got its name, or somebody else swept it
            continue
        except OSError as error:
            log.warning("%s could not be removed: %s", place, error.strerror)
            continue
        count, size = count + 1, size + bytes_
    if count:
        log.info("removed %d half-made files, %.1f MB", count, size / 1e6)
    return Swept(count, size)


def _half_made(root: Path) -> Iterator[Path]:
    patterns = ("incoming/*", "working/??/*", "fetched/*/*", "treated/??/*", "exports/*")
    places = [root.glob(pattern) for pattern in patterns]
    if (backups := settings().backup_dir) is not None:
        places.append(backups.glob("mivlo-*.part"))
    for place in chain.from_iterable(places):
        if _OURS.search(place.name) and not place.is_symlink():
            yield place


def _exports_under_way() -> set[str]:
    with session() as open_session:
        wanted = select(TaskRow.id).where(TaskRow.kind.in_(("export", "backup")), TaskRow.state.in_(OPEN_STATES))
        return {str(task_id) for task_id in open_session.scalars(wanted)}


def _last_touched(place: Path) -> float:
    inside = place.rglob("*") if place.is_dir() else ()
    return max((p.stat().st_mtime for p in (place, *inside)), default=0.0)


def _size(place: Path) -> int:
    return sum(p.stat().st_size for p in (place.rglob("*") if place.is_dir() else (place,)) if p.is_file())
