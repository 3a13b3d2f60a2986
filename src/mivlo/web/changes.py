"""Changes that a page sends again when their answer was lost carry a name, and are made once."""

from __future__ import annotations

from starlette.datastructures import Headers
from starlette.types import ASGIApp, Receive, Scope, Send

from mivlo.services.song.edits import change_name

HEADER = "Mivlo-Change"
_LONGEST = 64


class NamedChanges:
    """Middleware that passes the name of a change on to whoever makes it."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "http" and (name := Headers(scope=scope).get(HEADER, "")):
            change_name.set(name[:_LONGEST])
        await self._app(scope, receive, send)
