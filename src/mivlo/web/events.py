"""Changes told by the database, passed on to pages: one LISTEN connection for the whole server."""

from __future__ import annotations

import asyncio
import json
import logging
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Any

import psycopg

from mivlo.config import settings
from mivlo.store.database import CHANNEL

log = logging.getLogger("mivlo.web")

Event = dict[str, Any]


class Hub:
    """Subscribers by song; each gets its own queue."""

    def __init__(self) -> None:
        self._queues: dict[int, set[asyncio.Queue[Event]]] = {}
        self._task: asyncio.Task[None] | None = None

    @asynccontextmanager
    async def subscribe(self, song_id: int) -> AsyncIterator[asyncio.Queue[Event]]:
        queue: asyncio.Queue[Event] = asyncio.Queue(maxsize=500)
        self._queues.setdefault(song_id, set()).add(queue)
        try:
            yield queue
        finally:
            self._queues[song_id].discard(queue)

    def publish(self, event: Event) -> None:
        for queue in self._queues.get(int(event["song_id"]), ()):
            if not queue.full():
                queue.put_nowait(event)

    def start(self) -> None:
        self._task = asyncio.create_task(self._listen())

    async def stop(self) -> None:
        if self._task is not None:
            self._task.cancel()
            await asyncio.gather(self._task, return_exceptions=True)

    async def _listen(self) -> None:
        while True:
            try:
                connection = await psycopg.AsyncConnection.connect(settings().libpq_url, autocommit=True)
                async with connection:
                    await connection.execute(f"LISTEN {CHANNEL}")
                    async for notice in connection.notifies():
                        self.publish(json.loads(notice.payload))
            except psycopg.OperationalError:
                log.warning("the database is not reachable; trying again")
                await asyncio.sleep(1.0)
