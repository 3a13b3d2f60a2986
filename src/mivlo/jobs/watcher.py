"""Looks after the folders that songs watch, in a thread of the worker."""

from __future__ import annotations

import logging
import threading

from sqlalchemy.exc import DBAPIError

from mivlo.config import settings
from mivlo.services.errors import NotFound
from mivlo.services.handover.song_watch import Looked, look, watching_songs
from mivlo.store.outages import is_away

log = logging.getLogger("mivlo.watcher")
LOOK_EVERY_S = 0.5


class Watcher:
    """Looks at all songs that watch a folder, again and again, until it is stopped; at none where none may be."""

    def __init__(self) -> None:
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None
        self._looked: dict[int, Looked | None] = {}

    def start(self) -> None:
        if settings().watched_roots:
            self._thread = threading.Thread(target=self._run, name="watcher", daemon=True)
            self._thread.start()

    def stop(self) -> None:
        """End it; a file that is half written is dropped."""
        self._stop.set()

    def _run(self) -> None:
        while not self._stop.wait(LOOK_EVERY_S):
            try:
                for song_id in watching_songs():
                    self._look(song_id)
            except DBAPIError as error:
                if not is_away(error):
                    log.exception("looking at watched folders failed")

    def _look(self, song_id: int) -> None:
        try:
            self._looked[song_id] = look(song_id, self._looked.get(song_id))
        except NotFound:
            self._looked.pop(song_id, None)  # it was deleted meanwhile
        except DBAPIError:
            raise
        except Exception:  # the other songs are looked at all the same
            log.exception("looking at the folder of song %s failed", song_id)
