"""What comes in is bounded, what goes out tells the browser to keep to itself; the whole interface takes odd requests."""

from __future__ import annotations

import csv
import io
import json
import stat

import httpx
import pytest
import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from schemathesis.checks import not_a_server_error

from mivlo.config import settings as ours
from mivlo.core.units import Floats
from mivlo.services.handover.sheets import _harmless
from tests.web.server import send_file

HUGE = [2**31, 2**63, 2**64, 10**30, 0, -1]


def test_a_body_of_a_hundred_megabytes_is_no_name(address: str) -> None:
    before = len(httpx.get(f"{address}/api/songs").json())

    def pieces():  # type: ignore[no-untyped-def]
        yield b'{"name": "'
        for _ in range(100):
            yield b"a" * (1 << 20)
        yield b'"}'

    try:
        answer = httpx.post(f"{address}/api/songs", content=pieces(), headers={"Content-Type": "application/json"})
        assert answer.status_code == 413
        assert "1 MB" in answer.json()["detail"]
    except httpx.WriteError:  # it stopped reading before we stopped writing
        pass
    assert len(httpx.get(f"{address}/api/songs").json()) == before
    assert httpx.post(f"{address}/api/songs", json={"name": "a" * 301}).status_code == 422


def test_names_are_kept_without_what_is_no_sign(address: str) -> None:
    for sent, kept in (
        ("a\u0000b", "a b"),
        ("  two\n lines\t", "two lines"),
        ("=1+1", "=1+1"),
        ("ü👩‍🎤", "ü👩‍🎤"),
    ):
        answer = httpx.post(
            f"{address}/api/songs", content=json.dumps({"name": sent}), headers={"Content-Type": "application/json"}
        )
        assert answer.status_code == 201, (sent, answer.text)
        assert answer.json()["name"] == kept
    half = httpx.post(
        f"{address}/api/songs", content=b'{"name": "\\ud800x"}', headers={"Content-Type": "application/json"}
    )
    assert half.status_code == 422
    for nothing in ("", "   ", "\u0000", "\n"):
        assert httpx.post(f"{address}/api/songs", json={"name": nothing}).status_code == 400


@pytest.mark.parametrize("number", HUGE)
def test_numbers_that_no_id_has(address: str, song_id: int, number: int) -> None:
    song = f"{address}/api/songs/{song_id}"
    asked = [
        ("GET", f"{address}/api/songs/{number}", None), ("DELETE", f"{song}/tracks/{number}", None),
        ("PATCH", f"{song}/moves/{number}", {"gain_db": -1}), ("GET", f"{song}/tracks/{number}/map", None),
        ("POST", f"{song}/history/{number}/go", None), ("GET", f"{address}/api/tasks/{number}", None),
        ("PUT", f"{song}/order", {"order": [number]}), ("POST", f"{song}/exports", {"track_ids": [number]}),
        ("PUT", f"{song}/strips/{number}/parent", {"parent_id": None}), ("PATCH", song, {"revision": number, "name": "x"}),
    ]  # fmt: skip
    for method, path, body in asked:
        answer = httpx.request(method, path, json=body)
        assert answer.status_code in (400, 404, 409, 422), (method, path, answer.text)
        assert answer.json()["detail"]


def test_null_is_no_value(address: str, song_id: int) -> None:
    track = httpx.get(f"{address}/api/songs/{song_id}").json()["tracks"][0]["id"]
    song = f"{address}/api/songs/{song_id}"
    for path, key in (
        (song, "name"), (song, "look_in_passage"), (f"{song}/tracks/{track}", "name"), (f"{song}/tracks/{track}", "role"),
        (f"{song}/tracks/{track}", "fader_db"), (f"{song}/tracks/{track}", "mute"), (f"{song}/tracks/{track}", "pan"),
    ):  # fmt: skip
        answer = httpx.patch(path, json={key: None})
        assert answer.status_code == 422, (path, key, answer.text)
        assert key in answer.json()["detail"]
    assert httpx.patch(song, json={"passage_from_s": None, "passage_to_s": None}).status_code == 200  # no passage


@pytest.mark.parametrize("path", ["/a%00b", "/%2e%2e/%2e%2e/etc/passwd", "/" + "a" * 5000, "/assets/%00", "/a%ffb"])
def test_odd_addresses_get_the_page_or_a_no(address: str, path: str) -> None:
    answer = httpx.get(address + path)
    assert answer.status_code in (200, 404), answer.text
    assert "root:" not in answer.text


def test_every_answer_keeps_to_itself(address: str, song_id: int) -> None:
    song = f"/api/songs/{song_id}"
    paths = (
        "/",
        "/bench",
        song,
        f"{song}/sheet.csv",
        f"{song}/sheet.html",
        "/api/nothing",
        "/api/songs/0",
        "/mark.svg",
    )
    for path in paths:
        headers = httpx.get(address + path).headers
        assert headers["x-content-type-options"] == "nosniff", path
        policy = headers["content-security-policy"]
        assert "frame-ancestors 'none'" in policy
        for source in policy.replace(";", " ").split():
            # nothing but our own address, and no script that stands in a text
            assert not source.startswith("http"), (path, source)
            assert source.rpartition("//")[2] == source or source.rpartition("//")[2] == address.rpartition("//")[2]
        assert "script-src" not in policy
        assert "default-src 'self'" in policy or "default-src 'none'" in policy


@given(st.text(max_size=20) | st.floats() | st.integers())
def test_no_cell_is_taken_for_a_formula(value: object) -> None:
    """What spreadsheets take for a formula: OWASP, CSV Injection (from memory: = + - @, tab, carriage return)."""
    out = io.StringIO()
    csv.writer(out).writerow([_harmless(value)])
    out.seek(0)
    if isinstance(value, str):
        assert not str(_harmless(value)).startswith(("=", "+", "-", "@", "\t", "\r"))
        assert str(_harmless(value)).removeprefix("'") == value.removeprefix("'")
    else:
        assert _harmless(value) is value


def test_a_track_that_is_named_like_a_formula(address: str, song_id: int) -> None:
    song = httpx.get(f"{address}/api/songs/{song_id}").json()
    track = song["tracks"][0]["id"]
    base = f"{address}/api/songs/{song_id}"
    assert httpx.patch(f"{base}/tracks/{track}", json={"name": "=HYPERLINK(1)"}).status_code == 200
    move = {"shape": "bell", "frequency_hz": 400, "q": 3, "gain_db": -6}
    assert httpx.post(f"{base}/tracks/{track}/moves", json=move).status_code == 201
    row = next(csv.DictReader(io.StringIO(httpx.get(f"{base}/sheet.csv").text)))
    assert row["track"] == "'=HYPERLINK(1)"
    assert float(row["gain_db"]) == -6.0


def test_what_we_keep_nobody_else_reads(address: str, song_id: int, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    # a sound that no other test has brought in, with its own way of keeping files
    send_file(address, song_id, write_wav(noise[:9_871]))
    root = ours().data_dir
    assert stat.S_IMODE(root.stat().st_mode) == 0o700
    digest = httpx.get(f"{address}/api/songs/{song_id}").json()["tracks"][1]["audio_sha256"]
    kept = [*root.rglob(f"{digest}*"), *root.rglob(f"working/*/{digest}*/*")]
    assert len(kept) > 5
    for place in kept:
        assert not stat.S_IMODE(place.stat().st_mode) & 0o077, place


# --- the whole interface ------------------------------------------------------------------------------


def test_the_whole_interface_answers_odd_requests_without_a_fault(address: str, song_id: int) -> None:
    """Requests made of the OpenAPI document, valid and not, by schemathesis: no status of 500 or above."""
    document = httpx.get(f"{address}/openapi.json").json()
    track = httpx.get(f"{address}/api/songs/{song_id}").json()["tracks"][0]["id"]
    known = {"song_id": song_id, "track_id": track, "strip_id": track}
    schema = schemathesis.openapi.from_dict(document)
    asked = 0
    for found in schema.get_all_operations():
        operation = found.ok()
        if operation.path.endswith("/events"):  # goes on for ever
            continue

        @settings(
            max_examples=6, database=None, derandomize=True, phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        )  # fmt: skip
        @given(case=operation.as_strategy(), real=st.booleans())
        def check(case: schemathesis.Case, real: bool) -> None:
            nonlocal asked
            asked += 1
            if real and case.path_parameters:  # else nearly all would end at songs that are not there
                case.path_parameters = {
                    **case.path_parameters,
                    **{k: v for k, v in known.items() if k in case.path_parameters},
                }
            if case.method == "DELETE" and real:
                return
            answer = case.call(base_url=address, timeout=120)
            case.validate_response(answer, checks=[not_a_server_error])
            assert answer.status_code < 500

        check()
    assert asked > 500
