"""How much a request may bring: read in full before anything is done with it, up to a size."""

from __future__ import annotations

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from mivlo.web.problems import problem

MOST_BYTES = 1 << 20
"""The largest song's changes need a tenth of it."""


def _is_streamed(path: str) -> bool:
    """What is bounded by its own rules as it comes: recordings and backups."""
    return path.endswith("/files") or path == "/api/restore"


class Bounds:
    """Middleware that refuses larger bodies, but for those that are streamed to disk.

    Parameters
    ----------
    app : what lies behind.
    most : bytes of a body.
    """

    def __init__(self, app: ASGIApp, most: int = MOST_BYTES) -> None:
        self._app, self._most = app, most

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or scope["method"] in ("GET", "HEAD") or _is_streamed(scope["path"]):
            return await self._app(scope, receive, send)
        body = bytearray()
        while True:
            message = await receive()
            if message["type"] != "http.request":  # gone again
                return None
            body += message.get("body", b"")
            if len(body) > self._most:
                said = f"This is more than the {self._most / 1e6:.0f} MB that a change may have. Send it in parts."
                return await problem(413, said)(scope, receive, send)
            if not message.get("more_body"):
                break
        waiting: list[Message] = [{"type": "http.request", "body": bytes(body), "more_body": False}]

        async def replayed() -> Message:
            return waiting.pop() if waiting else await receive()

        await self._app(scope, replayed, send)
