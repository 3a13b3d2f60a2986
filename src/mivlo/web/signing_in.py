"""One shared password for an installation that others can reach: a form, a signed cookie, few tries.

Nobody has an account; whoever knows the password is let in. The cookie holds a random number and the time, signed
with a key that changes with the password: a new password ends every session.
"""

from __future__ import annotations

import hashlib
import os
import secrets
import threading
from http.cookies import CookieError, SimpleCookie
from pathlib import Path
from urllib.parse import parse_qs, quote

import jinja2
from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, RedirectResponse, Response
from itsdangerous import BadSignature, URLSafeTimedSerializer
from limits import RateLimitItemPerMinute
from limits.storage import MemoryStorage
from limits.strategies import MovingWindowRateLimiter
from starlette.concurrency import run_in_threadpool
from starlette.datastructures import Headers
from starlette.types import ASGIApp, Receive, Scope, Send

from mivlo.core.errors import MivloError
from mivlo.web.headers import DOCUMENT
from mivlo.web.problems import problem

COOKIE = "mivlo-session"
SESSION_S = 30 * 24 * 3600
LONGEST_PASSWORD = 1000
_OPEN = frozenset({"/sign-in", "/api/health"})
_WINDOW_MINUTES = 5
_TRIES = RateLimitItemPerMinute(5, _WINDOW_MINUTES)
_TRIES_OF_ALL = RateLimitItemPerMinute(60, _WINDOW_MINUTES)
_HASHED = "$argon2"


class SignIn:
    """The password and the sessions of an installation.

    Parameters
    ----------
    password : as it is typed, or as an argon2 hash of it ("$argon2...").
    key_file : where the key for signatures is kept; made when it is not there.
    """

    def __init__(self, password: str, key_file: Path) -> None:
        self._hasher = PasswordHasher()
        self._hash = password if password.startswith(_HASHED) else self._hasher.hash(password)
        key = _key(key_file) + hashlib.sha256(password.encode("utf-8", "surrogateescape")).digest()
        self._sessions = URLSafeTimedSerializer(key, salt="mivlo session")
        self._tries = MovingWindowRateLimiter(MemoryStorage())
        self._one_at_a_time = threading.Lock()  # each check takes 64 MB

    def is_open(self, cookies: str) -> bool:
        """Whether a request with this cookie header belongs to a session."""
        try:
            found = SimpleCookie(cookies).get(COOKIE)
            if found is None:
                return False
            self._sessions.loads(found.value, max_age=SESSION_S)
        except (BadSignature, CookieError):
            return False
        return True

    def open(self, password: str, address: str) -> str | None:
        """A new session's cookie for the right password from an address; None for a wrong one.

        Raises
        ------
        TooManyTries : from this address, or altogether; the password was not looked at.
        """
        if not (self._tries.hit(_TRIES, address) and self._tries.hit(_TRIES_OF_ALL, "all")):
            raise TooManyTries(f"Too many tries. Wait {_WINDOW_MINUTES} minutes, then try again.")
        with self._one_at_a_time:
            try:
                self._hasher.verify(self._hash, password[:LONGEST_PASSWORD])
            except (VerificationError, InvalidHashError):
                return None
        self._tries.clear(_TRIES, address)
        return str(self._sessions.dumps(secrets.token_urlsafe(16)))


class TooManyTries(MivloError):
    """Someone tries passwords."""


def _key(file: Path) -> bytes:
    """The installation's own secret, kept where nobody else can read it."""
    file.parent.mkdir(parents=True, exist_ok=True)
    try:
        descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    except FileExistsError:
        known = file.read_bytes()
        if len(known) < 32:
            raise MivloError(f"{file} is damaged. Remove it; everybody then signs in anew.") from None
        return known
    key = secrets.token_bytes(32)
    with os.fdopen(descriptor, "wb") as out:
        out.write(key)
    return key


class SignedIn:
    """Middleware that lets in who is signed in. Programs sign in by the form as well, and send the cookie."""

    def __init__(self, app: ASGIApp, sign_in: SignIn) -> None:
        self._app, self._sign_in = app, sign_in

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket") or scope["path"] in _OPEN:
            return await self._app(scope, receive, send)
        if self._sign_in.is_open(Headers(scope=scope).get("cookie", "")):
            return await self._app(scope, receive, send)
        if scope["type"] == "websocket":
            await receive()
            return await send({"type": "websocket.close", "code": 4401, "reason": "Sign in first."})
        if scope["path"].startswith("/api/") or scope["method"] not in ("GET", "HEAD"):
            return await problem(401, "Sign in first: open the page.")(scope, receive, send)
        # whatever else was asked for lies behind the sign-in as well
        to = f"/sign-in?next={quote(scope['path'])}"
        return await RedirectResponse(to, 303)(scope, receive, send)


router = APIRouter(include_in_schema=False)
_page = jinja2.Environment(
    loader=jinja2.FileSystemLoader(Path(__file__).parent / "templates"), autoescape=True
).get_template("sign_in.html")


def _form(status: int, following: str, said: str = "") -> HTMLResponse:
    headers = {"Content-Security-Policy": DOCUMENT, "Cache-Control": "no-store"}
    return HTMLResponse(_page.render(following=following, said=said), status, headers=headers)


def _within(following: str) -> str:
    """A place of ours to go on to, whatever was asked for."""
    inside = following.startswith("/") and not following.startswith(("//", "/\\")) and following.isprintable()
    return following if inside else "/"


@router.get("/sign-in")
def show_form(request: Request) -> Response:
    """The form."""
    if request.app.state.sign_in is None:
        return RedirectResponse("/", 303)
    return _form(200, _within(request.query_params.get("next", "/")))


@router.post("/sign-in")
async def take_form(request: Request) -> Response:
    """Check a password; the cookie of a new session for the right one."""
    sign_in: SignIn | None = request.app.state.sign_in
    if sign_in is None:
        return RedirectResponse("/", 303)
    values = parse_qs((await request.body()).decode("utf-8", "replace"), max_num_fields=10)
    following = _within(values.get("next", ["/"])[0])
    address = request.client.host if request.client else "unknown"
    try:
        session = await run_in_threadpool(sign_in.open, values.get("password", [""])[0], address)
    except TooManyTries as refused:
        return _form(429, following, str(refused))
    if session is None:
        return _form(401, following, "That was not the password. Try again.")
    answer = RedirectResponse(following, 303)
    answer.set_cookie(
        COOKIE, session, max_age=SESSION_S, httponly=True, samesite="strict", secure=request.url.scheme == "https"
    )
    return answer


@router.post("/sign-out")
def sign_out() -> Response:
    """End this browser's session."""
    answer = RedirectResponse("/sign-in", 303)
    answer.delete_cookie(COOKIE, httponly=True, samesite="strict")
    return answer
