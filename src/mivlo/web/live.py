"""The WebSocket of a listening session."""

from __future__ import annotations

import asyncio
import contextlib

from fastapi import APIRouter, WebSocket, WebSocketDisconnect

from mivlo.core.errors import MivloError
from mivlo.live.session import LiveSession
from mivlo.web.events import Hub

router = APIRouter()


@router.websocket("/api/songs/{song_id}/live")
async def live(socket: WebSocket, song_id: int) -> None:
    """See docs/live.md."""
    await socket.accept()

    async def send(message: str | bytes) -> None:
        if isinstance(message, bytes):
            await socket.send_bytes(message)
        else:
            await socket.send_text(message)

    hub: Hub = socket.app.state.hub
    session = LiveSession(song_id, send)
    async with hub.subscribe(song_id) as changes:
        jobs = [
            asyncio.create_task(session.run()),
            asyncio.create_task(_receive(socket, session)),
            asyncio.create_task(_follow(changes, session)),
        ]
        done, pending = await asyncio.wait(jobs, return_when=asyncio.FIRST_COMPLETED)
        for job in pending:
            job.cancel()
        await asyncio.gather(*pending, return_exceptions=True)
        for job in done:
            error = job.exception()
            if isinstance(error, MivloError):
                with contextlib.suppress(RuntimeError, WebSocketDisconnect):
                    await socket.close(4404, str(error)[:120])
            elif error is not None and not isinstance(error, WebSocketDisconnect | RuntimeError):
                raise error


async def _receive(socket: WebSocket, session: LiveSession) -> None:
    while True:
        message = await socket.receive()
        if message["type"] == "websocket.disconnect":
            raise WebSocketDisconnect(message.get("code", 1000))
        text = message.get("text")
        await session.receive(text if text is not None else message.get("bytes") or b"")


async def _follow(changes: asyncio.Queue[dict[str, object]], session: LiveSession) -> None:
    while True:
        if (await changes.get())["kind"] in ("song", "ready"):
            session.song_changed()
