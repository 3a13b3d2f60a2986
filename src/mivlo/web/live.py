"""The WebSocket of a listening session."""

from __future__ import annotations

import asyncio
import contextlib
from typing import Annotated

from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from fastapi import Path as InPath

from mivlo.core.errors import MivloError
from mivlo.live.session import LiveSession
from mivlo.web.events import Hub
from mivlo.web.schemas import LARGEST

router = APIRouter()
MOST_LISTENERS = 64
"""Listening sessions at once: more than a machine can render, few enough to keep it alive."""
_listening: set[WebSocket] = set()


@router.websocket("/api/songs/{song_id}/live")
async def live(socket: WebSocket, song_id: Annotated[int, InPath(ge=1, le=LARGEST)]) -> None:
    """See docs/live.md."""
    await socket.accept()
    if len(_listening) >= MOST_LISTENERS:
        await socket.close(4429, "Too many listen at once. Close other pages, then try again.")
        return
    _listening.add(socket)
    try:
        await _serve(socket, song_id)
    finally:
        _listening.discard(socket)


async def _serve(socket: WebSocket, song_id: int) -> None:

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
