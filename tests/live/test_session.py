"""A listening session over its socket, as docs/live.md describes it; the client here knows only that."""

from __future__ import annotations

import asyncio
import contextlib
import json
import struct
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any, get_args

import httpx
import numpy as np
import pytest
import websockets

from mivlo.live import protocol
from tests.conftest import run_apart


class Client:
    """A small client: acknowledges what it gets, as if it had played it at once."""

    def __init__(self, socket: websockets.ClientConnection) -> None:
        self.socket = socket
        self.seq = 0
        self.frames = 0
        self.sound: list[np.ndarray] = []
        self.contained = 0
        self.positions: list[float] = []
        self.states: list[dict[str, Any]] = []
        self.reports: list[dict[str, Any]] = []
        self.errors: list[str] = []
        self.curves: list[tuple[int, np.ndarray, np.ndarray]] = []
        self.spectra = 0
        self.hello: dict[str, Any] = {}

    async def send(self, **message: Any) -> int:
        self.seq += 1
        await self.socket.send(json.dumps({"seq": self.seq, **message}))
        return self.seq

    async def take(self) -> None:
        message = await asyncio.wait_for(self.socket.recv(), 10)
        if isinstance(message, str):
            told = json.loads(message)
            {"hello": lambda: setattr(self, "hello", told), "state": lambda: self.states.append(told),
             "report": lambda: self.reports.append(told), "error": lambda: self.errors.append(told["message"])}[told["type"]]()  # fmt: skip
        elif message[0] == protocol.SOUND:
            _, _, frames, seq, first, position = struct.unpack_from("<BBHIQd", message)
            assert first == self.frames, "a block is missing or out of order"
            self.sound.append(np.frombuffer(message, np.float32, offset=24).reshape(-1, 2))
            self.frames += frames
            self.contained = max(self.contained, seq)
            self.positions.append(position)
            await self.socket.send(json.dumps({"type": "played", "frames": self.frames}))
        elif message[0] == protocol.CURVES:
            _, count, points, seq, _track = struct.unpack_from("<BBHII", message)
            ids = np.frombuffer(message, np.uint32, count, offset=12)
            values = np.frombuffer(message, np.float32, offset=12 + 4 * count).reshape(count + 1, points)
            self.curves.append((seq, ids, values))
        else:
            self.spectra += 1

    async def until(self, done: Callable[[], bool]) -> None:
        for _ in range(4_000):
            if done():
                return
            await self.take()
        raise AssertionError("it did not come")


def _talk(address: str, song: int, story: Callable[[Client], Awaitable[None]]) -> Client:
    async def run() -> Client:
        url = f"{address.replace('http', 'ws')}/api/songs/{song}/live"
        async with websockets.connect(url, max_size=None) as socket:
            client = Client(socket)
            await client.until(lambda: bool(client.hello))
            await story(client)
            return client

    return run_apart(run())


@pytest.fixture
def track_id(address: str, song_id: int) -> int:
    track = httpx.get(f"{address}/api/songs/{song_id}").json()["tracks"][0]["id"]
    body = {"shape": "bell", "frequency_hz": 523.25, "q": 8.0, "gain_db": -9.0}
    httpx.post(f"{address}/api/songs/{song_id}/tracks/{track}/moves", json=body)
    return int(track)


def test_a_session_greets_plays_and_reports(address: str, song_id: int, track_id: int) -> None:
    async def story(client: Client) -> None:
        await client.send(type="focus", track_id=track_id)
        await client.send(type="scope", scope="alone")
        await client.send(type="play")
        await client.until(lambda: client.frames > 48_000 and client.spectra > 0 and bool(client.reports))
        await client.send(type="pause")
        await client.until(lambda: not client.states[-1]["playing"])

    client = _talk(address, song_id, story)
    assert client.hello["protocol"] == 2
    assert len(client.hello["grid_hz"]) == 478
    assert np.max(np.abs(np.concatenate(client.sound))) > 0.01
    assert client.positions == sorted(client.positions)
    assert client.reports[-1]["dropped"] == 0
    assert client.errors == []


def test_curves_follow_a_drag_at_once(address: str, song_id: int, track_id: int) -> None:
    move = httpx.get(f"{address}/api/songs/{song_id}").json()["tracks"][0]["moves"][0]

    async def story(client: Client) -> None:
        await client.send(type="focus", track_id=track_id)
        await client.until(lambda: bool(client.curves))
        number = await client.send(type="moves", track_id=track_id, moves=[{**move, "gain_db": -3.0}])
        await client.until(lambda: client.curves[-1][0] >= number)

    client = _talk(address, song_id, story)
    grid = np.array(client.hello["grid_hz"])
    at = int(np.argmin(np.abs(grid - 523.25)))
    assert client.curves[0][2][0, at] == pytest.approx(-9.0, abs=0.2)
    assert client.curves[-1][2][0, at] == pytest.approx(-3.0, abs=0.1)
    assert client.curves[-1][1].tolist() == [move["id"]]
    # a drag is not saved
    assert httpx.get(f"{address}/api/songs/{song_id}").json()["tracks"][0]["moves"][0]["gain_db"] == -9.0


def test_blocks_say_which_message_they_contain(address: str, song_id: int, track_id: int) -> None:
    async def story(client: Client) -> None:
        await client.send(type="play")
        await client.until(lambda: client.frames > 10_000)
        number = await client.send(type="signal", signal="untreated")
        before = client.frames
        await client.until(lambda: client.contained >= number)
        # no more than what was rendered ahead lies between the message and its block
        assert client.frames - before <= (client.hello["ahead_s"] + 0.03) * 48_000

    _talk(address, song_id, story)


def test_what_is_saved_elsewhere_is_heard_here(address: str, song_id: int, track_id: int) -> None:
    async def story(client: Client) -> None:
        await client.send(type="focus", track_id=track_id)
        await client.until(lambda: bool(client.curves))
        body = {"shape": "notch", "frequency_hz": 1_000.0, "q": 10.0}
        url = f"{address}/api/songs/{song_id}/tracks/{track_id}/moves"
        await asyncio.to_thread(httpx.post, url, json=body)
        await client.until(lambda: len(client.curves[-1][1]) == 2)

    _talk(address, song_id, story)


def test_what_was_saved_a_moment_ago_can_be_spoken_of_at_once(address: str, song_id: int, track_id: int) -> None:
    async def story(client: Client) -> None:
        await client.send(type="focus", track_id=track_id)
        url = f"{address}/api/songs/{song_id}/tracks/{track_id}/moves"
        for hz in range(500, 3_000, 250):
            body = {"shape": "bell", "frequency_hz": hz, "gain_db": -3.0}
            song = (await asyncio.to_thread(httpx.post, url, json=body)).json()
            made = song["tracks"][0]["moves"][-1]["id"]
            await client.send(type="only", move_ids=[made])
            await client.until(lambda made=made: bool(client.states) and client.states[-1]["only"] == [made])
        # what is nowhere is refused, once that is sure
        await client.send(type="only", move_ids=[10**6])
        await client.until(lambda: bool(client.errors))
        assert client.states[-1]["only"] == [made]

    client = _talk(address, song_id, story)
    assert len(client.errors) == 1


def test_a_listeners_own_passage_outlives_changes_that_are_not_about_it(
    address: str, song_id: int, track_id: int
) -> None:
    async def story(client: Client) -> None:
        await client.send(type="passage", from_s=1.0, to_s=2.0)
        await client.until(lambda: bool(client.states) and client.states[-1]["passage"] == [1.0, 2.0])
        base = f"{address}/api/songs/{song_id}"
        await asyncio.to_thread(httpx.patch, f"{base}/tracks/{track_id}", json={"fader_db": -3.0})
        seen = len(client.states)
        await client.until(lambda: len(client.states) > seen)
        assert client.states[-1]["passage"] == [1.0, 2.0]
        await asyncio.to_thread(httpx.patch, base, json={"passage_from_s": 0.5, "passage_to_s": 3.0})
        await client.until(lambda: client.states[-1]["passage"] == [0.5, 3.0])

    _talk(address, song_id, story)


def test_two_listen_at_once_each_for_themselves(address: str, song_id: int, track_id: int) -> None:
    async def story(client: Client) -> None:
        async def other() -> None:
            url = f"{address.replace('http', 'ws')}/api/songs/{song_id}/live"
            async with websockets.connect(url, max_size=None) as socket:
                second = Client(socket)
                await second.until(lambda: bool(second.hello))
                await second.send(type="seek", at_s=3.0)
                await second.send(type="play")
                await second.until(lambda: second.frames > 20_000)
                assert second.positions[0] == pytest.approx(3.0)

        await client.send(type="play")
        await asyncio.gather(client.until(lambda: client.frames > 20_000), other())
        assert client.positions[0] == 0.0

    _talk(address, song_id, story)


def test_a_message_that_makes_no_sense_is_answered_and_nothing_breaks(
    address: str, song_id: int, track_id: int
) -> None:
    async def story(client: Client) -> None:
        await client.send(type="dance")
        await client.send(type="seek", at_s="soon")
        await client.send(type="focus", track_id=track_id)
        await client.send(type="probe", probe={"frequency_hz": 500.0, "octaves": 9.0})
        await client.until(lambda: len(client.errors) == 3)
        await client.send(type="play")
        await client.until(lambda: client.frames > 5_000)

    client = _talk(address, song_id, story)
    assert "not understood" in client.errors[0]
    assert "1/20 to 2 octaves" in client.errors[2]


def test_the_level_match_arrives_by_itself(address: str, song_id: int, track_id: int) -> None:
    async def story(client: Client) -> None:
        await client.send(type="focus", track_id=track_id)
        await client.send(type="scope", scope="alone")
        await client.until(lambda: bool(client.states) and client.states[-1]["match_lu"] > 0.1)

    _talk(address, song_id, story)


def test_a_song_that_is_not_there_ends_the_session(address: str, db: None) -> None:
    async def run() -> None:
        url = f"{address.replace('http', 'ws')}/api/songs/4711/live"
        async with websockets.connect(url) as socket:
            with pytest.raises(websockets.ConnectionClosed) as closed:
                await asyncio.wait_for(socket.recv(), 10)
            assert closed.value.rcvd is not None
            assert closed.value.rcvd.code == 4404

    run_apart(run())


def test_the_protocol_is_written_down() -> None:
    text = (Path(__file__).parents[2] / "docs" / "live.md").read_text()
    known = get_args(get_args(protocol.Message)[0])
    assert len(known) > 10
    for message in known:
        (kind,) = get_args(message.model_fields["type"].annotation)
        assert f"`{kind}`" in text, kind
        for key in message.model_fields:
            assert f"`{key}`" in text, (kind, key)


# --- nothing that a client says ends its session, or costs without bound ----------------------------

ODD: list[str | bytes] = [
    b"\x00\x01", b"", "", "null", "[]", "{", '"play"', "{" * 5_000, '{"type": "play", "seq": 4294967296}',
    '{"type": "play", "seq": -1}', '{"type": "seek", "at_s": NaN}', '{"type": "seek", "at_s": 1e999}',
    '{"type": "seek", "at_s": 1e308}', '{"type": "seek", "at_s": null}', '{"type": "seek"}',
    '{"type": "passage", "from_s": 1e308, "to_s": 1e308}', '{"type": "passage", "from_s": NaN, "to_s": 2}',
    '{"type": "passage", "from_s": 5, "to_s": 1}', '{"type": "passage", "from_s": 1, "to_s": 1.001}',
    '{"type": "played", "frames": 1000000000000000000}', '{"type": "played", "frames": -5}',
    '{"type": "played", "frames": 1e400}', '{"type": "focus", "track_id": -1}', '{"type": "focus", "track_id": 4294967296}',
    '{"type": "focus", "track_id": 999999}', '{"type": "focus", "track_id": "one"}', '{"type": "scope", "scope": "moon"}',
    '{"type": "signal", "signal": null}', '{"type": "match", "on": "perhaps"}', '{"type": "loop"}',
    '{"type": "probe", "probe": {"frequency_hz": NaN}}', '{"type": "probe", "probe": {"frequency_hz": 500, "octaves": -1}}',
    '{"type": "probe", "probe": {"frequency_hz": 500}}', '{"type": "only", "move_ids": [1, -1]}', '{"type": "only", "move_ids": [77]}',
    '{"type": "moves", "track_id": 999999, "moves": []}', '{"type": "dance"}', '{"type": ["play"]}', '{"type": "play", "more": 1}',
    json.dumps({"type": "seek", "at_s": 1, "pad": "x" * 1_200_000}), "\ud800".encode("utf-8", "surrogatepass").decode("utf-8", "replace"),
]  # fmt: skip


def _odd_moves(track: int) -> list[str]:
    bell = {"id": 1, "shape": "bell", "frequency_hz": 500.0, "q": 1.0, "gain_db": -3.0}
    lists = [[{**bell, "id": i} for i in range(256)], [bell, bell], [{**bell, "id": -1}], [{**bell, "id": 2**32}],
             [{**bell, "q": 0}], [{**bell, "shape": "egg"}], [{"id": 4}], [None], "moves", [{**bell, "frequency_hz": 1e999}]]  # fmt: skip
    return [json.dumps({"type": "moves", "track_id": track, "moves": moves}) for moves in lists]


def test_no_odd_message_ends_a_session_or_changes_anything(address: str, song_id: int, track_id: int) -> None:
    async def story(client: Client) -> None:
        await client.send(type="play")
        await client.until(lambda: client.frames > 5_000)
        await client.send(type="match", on=False)
        await client.until(lambda: client.states[-1]["matching"] is False)
        before = {k: v for k, v in client.states[-1].items() if k not in ("position_s", "seq", "exact")}
        odd = [*ODD, *_odd_moves(track_id)]
        for message in odd:
            await client.socket.send(message)
        await client.until(lambda: len(client.errors) >= len(odd))
        number = await client.send(type="match", on=False)
        await client.until(lambda: client.states[-1]["seq"] >= number)
        frames = client.frames
        await client.until(lambda: client.frames > frames + 5_000)
        assert {k: v for k, v in client.states[-1].items() if k not in ("position_s", "seq", "exact")} == before
        assert len(client.errors) == len(odd)

    _talk(address, song_id, story)


def test_a_client_that_claims_to_have_played_more_does_not_make_the_server_render_on(
    address: str, song_id: int, track_id: int
) -> None:
    async def story(client: Client) -> None:
        await client.socket.send(json.dumps({"type": "play"}))
        await client.socket.send(json.dumps({"type": "played", "frames": 10**15}))
        received = 0
        with contextlib.suppress(TimeoutError):
            while True:
                message = await asyncio.wait_for(client.socket.recv(), 1.0)
                received += isinstance(message, bytes) and message[0] == protocol.SOUND
        assert 0 < received * 512 <= (client.hello["ahead_s"] + 0.02) * 48_000

    _talk(address, song_id, story)


def test_hundreds_of_ordinary_commands_in_any_order_are_carried_out(address: str, song_id: int, track_id: int) -> None:
    random = np.random.default_rng(11)
    bell = {"id": 900, "shape": "bell", "frequency_hz": 500.0, "q": 1.0, "gain_db": -3.0}

    def some() -> dict[str, Any]:
        choices: list[dict[str, Any]] = [
            {"type": "play"}, {"type": "pause"}, {"type": "seek", "at_s": float(random.uniform(0, 7))},
            {"type": "passage", "from_s": float(random.uniform(0, 3)), "to_s": float(random.uniform(3.1, 6))},
            {"type": "passage", "from_s": None, "to_s": None}, {"type": "loop", "on": bool(random.integers(2))},
            {"type": "focus", "track_id": [None, track_id][random.integers(2)]},
            {"type": "scope", "scope": ["alone", "mix"][random.integers(2)], "placed": bool(random.integers(2))},
            {"type": "signal", "signal": ["treated", "untreated", "removed"][random.integers(3)]},
            {"type": "match", "on": bool(random.integers(2))}, {"type": "probe", "probe": {"frequency_hz": 700.0}},
            {"type": "probe", "probe": None}, {"type": "moves", "track_id": track_id, "moves": [bell]},
            {"type": "moves", "track_id": track_id, "moves": None}, {"type": "only", "move_ids": [900]},
        ]  # fmt: skip
        return choices[random.integers(len(choices))]

    async def story(client: Client) -> None:
        for _ in range(300):
            await client.send(**some())
            if random.integers(4) == 0:
                await client.take()
        await client.send(type="focus", track_id=None)
        await client.send(type="passage", from_s=None, to_s=None)
        number = await client.send(type="play")
        await client.until(lambda: client.contained >= number)
        frames = client.frames
        await client.until(lambda: client.frames > frames + 5_000)

    _talk(address, song_id, story)
