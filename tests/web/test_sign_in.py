"""The shared password: against a real server that others could reach."""

from __future__ import annotations

import asyncio
import os
import stat
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import argon2
import httpx
import pytest
import websockets
from hypothesis import given
from hypothesis import strategies as st

from mivlo.config import settings
from mivlo.web.signing_in import SignIn, TooManyTries, _within
from tests.conftest import run_apart
from tests.web.server import running

PASSWORD = "wood and wire ünd brass"


@pytest.fixture(scope="module")
def studio(database_url: str) -> Iterator[str]:
    """A server with a password."""
    with running(worker=False, environment={"MIVLO_PASSWORD": PASSWORD}) as address:
        yield address


def _sign_in(address: str, password: str = PASSWORD, **form: str) -> httpx.Response:
    return httpx.post(f"{address}/sign-in", data={"password": password, **form})


def test_nothing_is_shown_before_signing_in(studio: str) -> None:
    for path in ("/api/songs", "/api/sheet-schema.json", "/api/songs/1/sheet.html"):
        answer = httpx.get(studio + path)
        assert answer.status_code == 401
        assert "Sign in" in answer.json()["detail"]
    for path in ("/", "/bench", "/assets/anything.js"):
        answer = httpx.get(studio + path)
        assert (answer.status_code, answer.headers["location"]) == (303, f"/sign-in?next={path}")
    assert httpx.post(f"{studio}/api/songs", json={"name": "x"}).status_code == 401
    assert httpx.get(f"{studio}/api/songs", headers={"Cookie": "mivlo-session=guessed"}).status_code == 401


def test_who_knows_the_password_is_let_in_until_signing_out(studio: str) -> None:
    wrong = _sign_in(studio, "wood")
    assert wrong.status_code == 401
    assert "That was not the password" in wrong.text
    right = _sign_in(studio, next="/bench")
    assert (right.status_code, right.headers["location"]) == (303, "/bench")
    cookie = right.headers["set-cookie"]
    for part in ("HttpOnly", "SameSite=strict", "Path=/"):
        assert part in cookie
    assert "Secure" not in cookie  # it would be lost without TLS
    with httpx.Client(base_url=studio, cookies=dict(right.cookies)) as client:
        assert client.get("/api/songs").status_code == 200
        ended = client.post("/sign-out")
        assert 'mivlo-session=""' in ended.headers["set-cookie"]


def test_behind_tls_the_cookie_stays_there(studio: str) -> None:
    """A proxy on this machine says so (X-Forwarded-Proto, common practice)."""
    data = {"password": PASSWORD}
    answer = httpx.post(f"{studio}/sign-in", data=data, headers={"X-Forwarded-Proto": "https"})
    assert "Secure" in answer.headers["set-cookie"]


def test_listening_needs_the_session_too(studio: str) -> None:
    cookies = _sign_in(studio).cookies

    async def knock() -> None:
        url = f"{studio.replace('http', 'ws')}/api/songs/999/live"
        with pytest.raises(websockets.InvalidStatus) as refused:
            async with websockets.connect(url):
                await asyncio.sleep(0)
        assert refused.value.response.status_code == 403
        headers = {"Cookie": f"mivlo-session={cookies['mivlo-session']}"}
        async with websockets.connect(url, additional_headers=headers) as socket:
            with pytest.raises(websockets.ConnectionClosed) as closed:
                await socket.recv()
        assert closed.value.rcvd is not None
        assert closed.value.rcvd.code == 4404  # let in, but there is no such song

    run_apart(knock())


def test_tries_are_few(studio: str) -> None:
    """From an address of its own, so that the other tests are not shut out."""
    headers = {"X-Forwarded-For": "203.0.113.7"}  # RFC 5737: for examples
    answers = [
        httpx.post(f"{studio}/sign-in", data={"password": f"guess {i}"}, headers=headers).status_code for i in range(7)
    ]
    assert answers == [401] * 5 + [429] * 2
    assert httpx.post(f"{studio}/sign-in", data={"password": PASSWORD}, headers=headers).status_code == 429
    assert _sign_in(studio).status_code == 303  # others are let in


def test_a_hash_serves_as_well_and_a_new_password_ends_sessions(tmp_path: Path) -> None:
    hashed = argon2.PasswordHasher().hash("old")
    first = SignIn(hashed, tmp_path / "key")
    session = first.open("old", "a")
    assert session is not None
    assert first.open(hashed, "a") is None  # who has read the hash does not know the password
    assert first.is_open(f"other=1; mivlo-session={session}")
    assert SignIn(hashed, tmp_path / "key").is_open(f"mivlo-session={session}")  # a new start ends none
    assert not SignIn("new", tmp_path / "key").is_open(f"mivlo-session={session}")
    assert not SignIn(hashed, tmp_path / "other").is_open(f"mivlo-session={session}")
    assert stat.S_IMODE((tmp_path / "key").stat().st_mode) == 0o600


def test_all_together_may_not_try_without_bound(tmp_path: Path) -> None:
    quick = argon2.PasswordHasher(time_cost=1, memory_cost=64, parallelism=1)
    asked = SignIn(quick.hash("x"), tmp_path / "key")
    for number in range(60):
        assert asked.open("y", f"address {number}") is None
    with pytest.raises(TooManyTries):
        asked.open("x", "another address")


@given(st.text(max_size=200), st.binary(max_size=60))
def test_no_cookie_and_no_place_to_go_on_to_does_harm(cookies: str, place: bytes) -> None:
    asked = _known()
    assert not asked.is_open(cookies)
    assert not asked.is_open(f"mivlo-session={cookies}")
    following = _within(place.decode("utf-8", "replace"))
    assert following.startswith("/")
    assert not following.startswith(("//", "/\\"))


_KNOWN: list[SignIn] = []


def _known() -> SignIn:
    if not _KNOWN:
        _KNOWN.append(SignIn("x", settings().data_dir.parent / "test-key"))
    return _KNOWN[0]


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ({"MIVLO_HOST": "0.0.0.0"}, "MIVLO_PASSWORD"),
        ({"MIVLO_HOST": "192.168.0.7"}, "MIVLO_PASSWORD"),
        ({"MIVLO_HOST": "0.0.0.0", "MIVLO_PASSWORD": "x"}, "MIVLO_NAMES"),
        ({"MIVLO_HOST": "::", "MIVLO_PASSWORD": "x", "MIVLO_NAMES": " , "}, "MIVLO_NAMES"),
    ],
)
@pytest.mark.parametrize("command", ["start", "serve"])
def test_nobody_else_can_reach_it_by_mistake(command: str, given: dict[str, str], said: str, tmp_path: Path) -> None:
    folders = {"MIVLO_DATA_DIR": str(tmp_path / "data"), "MIVLO_PG_DIR": str(tmp_path / "postgres")}
    done = subprocess.run(
        [sys.executable, "-m", "mivlo.cli", command], env={**os.environ, **folders, **given},
        capture_output=True, text=True, timeout=120,
    )  # fmt: skip
    assert done.returncode == 1
    assert said in done.stderr
    assert done.stderr.count("\n") == 1
    assert not list(tmp_path.iterdir())
