"""What every answer tells the browser that shows it: nothing of others, nothing inside others."""

from __future__ import annotations

from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

_NOTHING = "default-src 'none'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
DOCUMENT = "default-src 'none'; style-src 'unsafe-inline'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
"""For documents that have nothing but text and their own style."""


def page_policy(host: str) -> str:
    """For the page itself; `host` is the served name and port, under which it may listen."""
    return (
        "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; "
        f"connect-src 'self' ws://{host} wss://{host}; worker-src 'self' blob:; font-src 'self' data:; "
        "object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
    )


class SafeHeaders:
    """Middleware that adds them wherever an answer has none of its own."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            return await self._app(scope, receive, send)

        async def with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                kind = headers.get("content-type", "")
                is_page = kind.startswith("text/html") and not scope["path"].startswith("/api/")
                host = Headers(scope=scope).get("host", "")
                headers.setdefault("Content-Security-Policy", page_policy(host) if is_page else _NOTHING)
                headers.setdefault("X-Content-Type-Options", "nosniff")
                headers.setdefault("Referrer-Policy", "same-origin")
                headers.setdefault("Cross-Origin-Resource-Policy", "same-origin")
                headers.setdefault("Cross-Origin-Opener-Policy", "same-origin")
            await send(message)

        await self._app(scope, receive, with_headers)
