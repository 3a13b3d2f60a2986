"""A database that is away for a while: what that looks like, and waiting until it is back."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from typing import TypeVar

import psycopg
from sqlalchemy import exc

log = logging.getLogger("mivlo.store")
T = TypeVar("T")

PATIENCE_S = 600.0
"""For so long work in progress waits for the database."""
_FIRST_PAUSE_S, _LONGEST_PAUSE_S = 0.1, 2.0


def is_full(error: BaseException) -> bool:
    """Whether the database has refused to write because its disk is full."""
    cause = error.orig if isinstance(error, exc.DBAPIError) else error
    return isinstance(cause, psycopg.errors.DiskFull)


def is_away(error: BaseException) -> bool:
    """Whether an error means that the database could not be reached or broke off, not that it refused something."""
    if is_full(error):
        return False
    if isinstance(error, exc.DBAPIError):
        return bool(error.connection_invalidated) or isinstance(error, exc.OperationalError | exc.InterfaceError)
    return isinstance(error, psycopg.OperationalError | psycopg.InterfaceError)


def patiently(act: Callable[[], T], *, most_s: float = PATIENCE_S) -> T:
    """Do a whole transaction; where the database is away or has no room, wait and do it again.

    Raises
    ------
    Whatever it raises for other reasons, and the last error once `most_s` are over.
    """
    end = time.monotonic() + most_s
    pause = _FIRST_PAUSE_S
    while True:
        try:
            return act()
        except Exception as error:
            if not (is_away(error) or is_full(error)) or time.monotonic() > end:
                raise
            if pause == _FIRST_PAUSE_S:
                log.warning("the database is %s; waiting for it", "full" if is_full(error) else "away")
        time.sleep(pause)
        pause = min(_LONGEST_PAUSE_S, 2 * pause)
