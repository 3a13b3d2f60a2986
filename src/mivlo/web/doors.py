"""Who is let in: requests under a served name, and writes and sockets of our own page alone.

A page elsewhere in the same browser can send requests to loopback, too. It can't choose the `Host` of an address that
it has looked up under its own name, and it can't hide its `Origin`. Programs send no `Origin`; they are let in.
"""

from __future__ import annotations

import ipaddress
from urllib.parse import urlsplit

from starlette.datastructures import Headers
from starlette.types import ASGIApp, Receive, Scope, Send

from mivlo.config import Settings
from mivlo.core.errors import MivloError
from mivlo.web.problems import problem

LOOPBACK_NAMES = frozenset({"127.0.0.1", "localhost", "::1"})
EVERYWHERE = ("0.0.0.0", "::", "")
_READING = frozenset({"GET", "HEAD", "OPTIONS"})


def served_names(host: str, names: str) -> frozenset[str]:
    """The names under which we answer: loopback's, the host that we listen on, and those of MIVLO_NAMES."""
    given = {name.strip().lower() for name in names.split(",")} | {host.lower()}
    return LOOPBACK_NAMES | frozenset(name for name in given if name and name not in EVERYWHERE)


def check_exposed(given: Settings) -> None:
    """Refuse to be reached by others without a password, or under any name.

    Raises
    ------
    MivloError : says what is missing.
    """
    if _is_loopback(given.host):
        return
    if not given.password.get_secret_value():
        raise MivloError(
            f"On {given.host or 'every address'} others can reach Mivlo. Set MIVLO_PASSWORD to a password for all "
            "who may, or leave MIVLO_HOST out so that only this machine can."
        )
    if given.host in EVERYWHERE and not given.names.strip(", "):
        raise MivloError(
            f"MIVLO_HOST={given.host} listens under every name. Set MIVLO_NAMES to those under which the page is "
            "opened, separated by commas, for example MIVLO_NAMES=studio.local."
        )


def _is_loopback(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def _name_of(netloc: str) -> str | None:
    try:
        return urlsplit(f"//{netloc}").hostname
    except ValueError:
        return None


def _netloc_of(origin: str) -> str | None:
    try:
        return urlsplit(origin).netloc.lower()
    except ValueError:
        return None


class Doors:
    """Middleware that refuses what does not come to a served name or comes from another page.

    Parameters
    ----------
    app : what lies behind.
    names : the served names, without ports.
    """

    def __init__(self, app: ASGIApp, names: frozenset[str]) -> None:
        self._app, self._names = app, names

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket"):
            return await self._app(scope, receive, send)
        refusal = self._refusal(scope)
        if refusal is None:
            return await self._app(scope, receive, send)
        if scope["type"] == "websocket":
            await receive()
            await send({"type": "websocket.close", "code": 4403, "reason": refusal[:120]})
            return None
        return await problem(403, refusal)(scope, receive, send)

    def _refusal(self, scope: Scope) -> str | None:
        headers = Headers(scope=scope)
        host = headers.get("host", "")
        if _name_of(host) not in self._names:
            return "This address is not one of Mivlo's. Add its name to MIVLO_NAMES if it should be."
        origin = headers.get("origin")
        writes = scope["type"] == "websocket" or scope["method"] not in _READING
        if origin is not None and writes and _netloc_of(origin) != host.lower():
            return "A page of another address may not do this. Open Mivlo's own page."
        return None
