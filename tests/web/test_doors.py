"""Who is let in, against the real server, as pages and programs would knock."""

from __future__ import annotations

import asyncio

import httpx
import pytest
import websockets
from hypothesis import given
from hypothesis import strategies as st

from mivlo.web.doors import Doors, served_names
from tests.conftest import run_apart

STRANGE_HOSTS = ["evil.example", "127.0.0.1.evil.example", "localhost.evil.example", "", "evil.example:80", "127.0.0.1@evil.example", "[::1", "192.168.0.7"]  # fmt: skip
STRANGE_ORIGINS = ["http://evil.example", "null", "", "https://127.0.0.1", "http://localhost:1", "file://", "http://127.0.0.1.evil.example", "http://[", "garbage"]  # fmt: skip


def _host(address: str) -> str:
    return address.removeprefix("http://")


@pytest.mark.parametrize("host", STRANGE_HOSTS)
def test_under_a_strange_name_nothing_is_answered(address: str, song_id: int, host: str) -> None:
    for path in ("/", "/api/songs", f"/api/songs/{song_id}"):
        answer = httpx.get(address + path, headers={"Host": host})
        assert answer.status_code in (400, 403), (path, answer.status_code)  # the server itself refuses an empty one
        assert "Marimba" not in answer.text


@pytest.mark.parametrize("origin", STRANGE_ORIGINS)
def test_a_page_elsewhere_changes_nothing(address: str, song_id: int, origin: str) -> None:
    base = f"{address}/api/songs/{song_id}"
    known = ("name", "revision", "undo_label", "redo_label")
    before = {key: httpx.get(base).json()[key] for key in known}
    for method, path, body in (
        ("POST", f"{base}/undo", None), ("POST", f"{base}/redo", None), ("POST", f"{base}/look", None),
        ("POST", f"{base}/files?name=x.wav", b"RIFF"), ("PATCH", base, b'{"name": "stolen"}'),
        ("POST", f"{address}/api/songs", b'{"name": "theirs"}'),
    ):  # fmt: skip
        answer = httpx.request(method, path, content=body, headers={"Origin": origin})
        assert answer.status_code == 403, (method, path, answer.status_code)
        assert "Open Mivlo's own page" in answer.json()["detail"]
    assert {key: httpx.get(base).json()[key] for key in known} == before


@pytest.mark.parametrize("origin", STRANGE_ORIGINS)
def test_a_page_elsewhere_can_not_listen(address: str, song_id: int, origin: str) -> None:
    async def knock() -> None:
        url = f"{address.replace('http', 'ws')}/api/songs/{song_id}/live"
        with pytest.raises(websockets.InvalidStatus) as refused:
            async with websockets.connect(url, additional_headers={"Origin": origin}):
                await asyncio.sleep(0)
        assert refused.value.response.status_code == 403

    run_apart(knock())


def test_our_own_page_and_programs_are_let_in(address: str, song_id: int) -> None:
    port = address.rsplit(":", 1)[1]
    for host in ("127.0.0.1", "localhost", "LOCALHOST"):
        headers = {"Host": f"{host}:{port}", "Origin": f"http://{host}:{port}"}
        answer = httpx.patch(f"{address}/api/songs/{song_id}", json={"name": f"By {host}"}, headers=headers)
        assert answer.status_code == 200, answer.text
    assert httpx.patch(f"{address}/api/songs/{song_id}", json={"name": "By a program"}).status_code == 200
    assert (
        httpx.get(f"{address}/api/songs", headers={"Origin": "http://evil.example"}).status_code == 200
    )  # reads nothing: no CORS

    async def listen() -> None:
        url = f"{address.replace('http', 'ws')}/api/songs/{song_id}/live"
        async with websockets.connect(url, additional_headers={"Origin": address}) as socket:
            await socket.recv()

    run_apart(listen())


def test_names_can_be_added_and_wildcards_are_none() -> None:
    assert served_names("0.0.0.0", " Studio.local ,, ") >= {"studio.local", "localhost"}
    assert "0.0.0.0" not in served_names("0.0.0.0", "0.0.0.0")
    assert served_names("10.0.0.5", "") >= {"10.0.0.5"}


@given(st.text(max_size=30), st.none() | st.text(max_size=30), st.sampled_from(["GET", "POST", "DELETE"]))
def test_whatever_is_sent_as_name_and_origin_is_judged_without_an_error(
    host: str, origin: str | None, method: str
) -> None:
    headers = [(b"host", host.encode("utf-8", "replace"))]
    if origin is not None:
        headers.append((b"origin", origin.encode("utf-8", "replace")))
    door = Doors(lambda *_: None, served_names("127.0.0.1", ""))  # type: ignore[arg-type, return-value]
    refusal = door._refusal({"type": "http", "method": method, "headers": headers})
    if not host.startswith(("127.0.0.1", "localhost", "[::1]")) and host.lower() not in ("localhost",):
        assert refusal is not None
