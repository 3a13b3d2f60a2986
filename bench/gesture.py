"""From a gesture to the ear: a real server, a real socket, a client that plays in real time.

Measured from sending a control message to receiving the first block that contains it, plus what the client
then still has buffered before that block. And from a drag to its curves.
"""

from __future__ import annotations

import asyncio
import json
import statistics
import struct
import time
from pathlib import Path

import httpx
import numpy as np
import soundfile
import websockets

from bench.scratch import scratch

RATE, GESTURES = 48_000, 40


async def _story(url: str, track: int, move: dict) -> tuple[list[float], list[float]]:  # type: ignore[type-arg]
    heard: list[float] = []
    drawn: list[float] = []
    async with websockets.connect(url, max_size=None) as socket:
        asked: dict[int, float] = {}
        curves_asked: dict[int, float] = {}
        seq, received, began = 0, 0, 0.0

        async def send(**message: object) -> int:
            nonlocal seq
            seq += 1
            await socket.send(json.dumps({"seq": seq, **message}))
            return seq

        def played() -> int:
            return min(received, int((time.perf_counter() - began) * RATE)) if began else 0

        async def acknowledge() -> None:
            while True:
                await asyncio.sleep(0.0107)
                await socket.send(json.dumps({"type": "played", "frames": played()}))

        async def gestures() -> None:
            await asyncio.sleep(1.0)
            for k in range(GESTURES):
                gain = -3.0 - (k % 7)
                number = await send(type="moves", track_id=track, moves=[{**move, "gain_db": gain}])
                asked[number] = curves_asked[number] = time.perf_counter()
                await asyncio.sleep(0.11)

        await socket.recv()
        await send(type="focus", track_id=track)
        await send(type="play")
        jobs = [asyncio.create_task(acknowledge()), asyncio.create_task(gestures())]
        while len(heard) < GESTURES:
            message = await socket.recv()
            now = time.perf_counter()
            if isinstance(message, str):
                continue
            if message[0] == 1:
                _, _, frames, contained, first, _ = struct.unpack_from("<BBHIQd", message)
                began = began or now
                for number in [n for n in asked if n <= contained]:
                    heard.append(now - asked.pop(number) + max(0, first - played()) / RATE)
                received += frames
            elif message[0] == 3:
                (contained,) = struct.unpack_from("<I", message, 4)
                for number in [n for n in curves_asked if n <= contained]:
                    drawn.append(now - curves_asked.pop(number))
        for job in jobs:
            job.cancel()
    return heard, drawn


def measure() -> list[tuple[str, str, str]]:
    from tests.web import server  # the same real server as in the tests

    with scratch(54_399) as folder, server.running() as address:
        return _with_server(address, folder)


def _with_server(address: str, folder: Path) -> list[tuple[str, str, str]]:
    song = httpx.post(f"{address}/api/songs", json={"name": "Bench"}).json()["id"]
    from tests.web import server

    noise = np.random.default_rng(1).standard_normal((RATE * 20, 2)) * 0.05
    soundfile.write(folder / "noise.wav", noise, RATE)
    server.send_file(address, song, folder / "noise.wav")
    track = httpx.get(f"{address}/api/songs/{song}").json()["tracks"][0]["id"]
    base = f"{address}/api/songs/{song}/tracks/{track}"
    body = {"shape": "bell", "frequency_hz": 500.0, "q": 4.0, "gain_db": -3.0}
    move = httpx.post(f"{base}/moves", json=body).json()["tracks"][0]["moves"][0]
    url = f"{address.replace('http', 'ws')}/api/songs/{song}/live"
    heard, drawn = asyncio.run(_story(url, track, move))
    pages = []
    with httpx.Client() as client:  # making a client takes longer than the answer
        for _ in range(20):
            start = time.perf_counter()
            client.get(f"{address}/api/songs/{song}")
            pages.append(time.perf_counter() - start)

    def told(values: list[float]) -> str:
        return f"median {1000 * statistics.median(values):.0f} ms, worst of {len(values)} {1000 * max(values):.0f} ms"

    return [
        ("gesture to ear (message to block, plus the client's buffer)", told(heard), "120 ms"),
        ("drag to curves", told(drawn), "30 ms"),
        ("the state of a song over HTTP", told(pages), "100 ms"),
    ]
