"""Changes told by the database, passed on to pages: one LISTEN connection for the whole server."""

from __future__ import annotations

import asyncio
import json
import logging
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from typing import Any

import psycopg
from starlette.concurrency import run_in_threadpool

from mivlo.config import settings
from mivlo.services.errors import NotReady
from mivlo.store.database import CHANNEL

log = logging.getLogger("mivlo.web")

Event = dict[str, Any]


SETTLED_S = 0.5
"""A song that has not been changed for so long is looked at again."""


AGAIN_S = 0.5
"""How soon the database is tried again."""
MOST_SUBSCRIBERS = 400
"""Pages that follow a song or listen; each takes a connection and some memory."""


class Full(NotReady):
    """Nobody more can be served."""


class Hub:
    """Subscribers by song; each gets its own queue.

    Parameters
    ----------
    settled : called in a thread with a song's id some time after its last change.
    """

    def __init__(self, settled: Callable[[int], object] = lambda song_id: None) -> None:
        self._queues: dict[int, set[asyncio.Queue[Event]]] = {}
        self._task: asyncio.Task[None] | None = None
        self._here = True
        self._settled = settled
        self._due: dict[int, asyncio.TimerHandle] = {}
        self._running: set[asyncio.Task[None]] = set()

    def check_room(self) -> None:
        """Raise Full where nobody more can follow."""
        if sum(map(len, self._queues.values())) >= MOST_SUBSCRIBERS:
            raise Full("Too many pages are open. Close some, then try again.")

    @asynccontextmanager
    async def subscribe(self, song_id: int) -> AsyncIterator[asyncio.Queue[Event]]:
        self.check_room()
        queue: asyncio.Queue[Event] = asyncio.Queue(maxsize=500)
        self._queues.setdefault(song_id, set()).add(queue)
        try:
            yield queue
        finally:
            self._queues[song_id].discard(queue)
            if not self._queues[song_id]:
                del self._queues[song_id]

    @property
    def database_is_here(self) -> bool:
        """Whether the database could be reached when it was last tried."""
        return self._here

    def publish(self, event: Event) -> None:
        for queue in self._queues.get(int(event["song_id"]), ()):
            if not queue.full():
                queue.put_nowait(event)

    def _changed(self, song_id: int) -> None:
        """Begin to wait anew for the song to rest."""
        if song_id in self._due:
            self._due.pop(song_id).cancel()
        self._due[song_id] = asyncio.get_running_loop().call_later(SETTLED_S, self._rests, song_id)

    def _rests(self, song_id: int) -> None:
        self._due.pop(song_id, None)
        task = asyncio.create_task(self._tell_settled(song_id))
        self._running.add(task)
        task.add_done_callback(self._running.discard)

    async def _tell_settled(self, song_id: int) -> None:
        try:
            await run_in_threadpool(self._settled, song_id)
        except Exception:
            log.exception("song %s could not be looked at again", song_id)

    def start(self) -> None:
        self._task = asyncio.create_task(self._listen())

    async def stop(self) -> None:
        for handle in self._due.values():
            handle.cancel()
        if self._task is not None:
            self._task.cancel()
            await asyncio.gather(self._task, *self._running, return_exceptions=True)

    def _tell_all(self, kind: str) -> None:
        for song_id in list(self._queues):
            self.publish({"song_id": song_id, "kind": kind})

    async def _listen(self) -> None:
        while True:
            try:
                connection = await psycopg.AsyncConnection.connect(settings().libpq_url, autocommit=True)
                async with connection:
                    await connection.execute(f"LISTEN {CHANNEL}")
                    self._here = True
                    self._tell_all("ready")  # what was told before we listened has reached nobody: all ask again
                    async for notice in connection.notifies():
                        event = json.loads(notice.payload)
                        self.publish(event)
                        if event["kind"] == "song":
                            self._changed(int(event["song_id"]))
            except psycopg.OperationalError:
                log.warning("the database is not reachable; trying again")
                self._here = False
                self._tell_all("away")
                await asyncio.sleep(AGAIN_S)
