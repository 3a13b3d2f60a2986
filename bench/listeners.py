"""Several people listening to one song of nine stereo tracks with eight moves each: how many blocks come late.

A real server on a scratch database; the clients run in this process, on the same two cores, at the song's pace. A
block is late if it is not there when it has to be played; the server's 64 ms lie before it. Inside: everything
between the working copies and the socket. Measured twice: computed live, and with the treated sounds known.
"""

from __future__ import annotations

import asyncio
import json
import os
import time
from pathlib import Path

import httpx
import numpy as np
import soundfile
import websockets

from bench.scratch import scratch

RATE, SECONDS, TRACKS, MOVES, BLOCK = 48_000, 20, 9, 8, 512
LISTENERS = (1, 4, 8, 20)
PLAY_S = 15.0


async def _listen(url: str) -> tuple[int, int]:
    """Blocks played and blocks late."""
    async with websockets.connect(url, max_size=None, compression=None) as socket:
        received = played = late = 0
        gathered = asyncio.Event()  # as a player gathers a few first
        await socket.send(json.dumps({"type": "play"}))

        async def take() -> None:
            nonlocal received
            async for message in socket:
                received += isinstance(message, bytes) and message[0] == 1
                if received >= 5:
                    gathered.set()

        reader = asyncio.create_task(take())
        await gathered.wait()
        start = time.perf_counter()
        while time.perf_counter() - start < PLAY_S:
            due = int((time.perf_counter() - start) * RATE / BLOCK)
            while played < due:
                if played < received:
                    played += 1
                else:  # it runs dry: a gap of a block
                    late += 1
                    start += BLOCK / RATE
                    due -= 1
            await socket.send(json.dumps({"type": "played", "frames": played * BLOCK}))
            await asyncio.sleep(0.012)
        reader.cancel()
        return played, late


async def _all(url: str, count: int) -> str:
    results = await asyncio.gather(*(_listen(url) for _ in range(count)))
    played, late = sum(p for p, _ in results), sum(n for _, n in results)
    return f"{late} of {played + late} ({100 * late / max(1, played + late):.1f} %)"


def _song(address: str, folder: Path) -> int:
    from tests.web import server

    song = httpx.post(f"{address}/api/songs", json={"name": "Crowd", "sample_rate": RATE}).json()["id"]
    random = np.random.default_rng(1)
    for i in range(TRACKS):
        path = folder / f"{i}.wav"
        soundfile.write(path, random.standard_normal((SECONDS * RATE, 2)) * 0.02, RATE, subtype="PCM_24")
        server.send_file(address, int(song), path)
    for track in httpx.get(f"{address}/api/songs/{song}").json()["tracks"]:
        for k in range(MOVES):
            body = {"shape": "bell", "frequency_hz": 80.0 * 2**k, "q": 3.0, "gain_db": -4.0}
            httpx.post(f"{address}/api/songs/{song}/tracks/{track['id']}/moves", json=body)
    return int(song)


def measure() -> list[tuple[str, str, str]]:
    from tests.web import server

    from mivlo.config import settings

    out = []
    with scratch(54_395) as folder:
        for cached in (False, True):
            os.environ["MIVLO_TREATED_CACHE_GB"] = "4" if cached else "0"
            settings.cache_clear()
            with server.running() as address:
                if not cached:
                    song = _song(address, folder)
                _wait(address, song, folder / "data" / "treated" if cached else None)
                url = f"{address.replace('http', 'ws')}/api/songs/{song}/live"
                for count in LISTENERS:
                    told = asyncio.run(_all(url, count))
                    how = "treated sounds known" if cached else "computed live"
                    asked = "0 (8 must, 20 aim)" if cached else "-"
                    out.append(
                        (f"{count} listeners, {TRACKS} tracks of {MOVES} moves, {how}: late blocks", told, asked)
                    )
    return out


def _wait(address: str, song: int, treated: Path | None) -> None:
    """Until nothing is looked at any more and, if asked for, all treated sounds are kept."""
    deadline = time.monotonic() + 180
    while time.monotonic() < deadline:
        tasks = httpx.get(f"{address}/api/songs/{song}/tasks").json()
        if treated is not None:  # somebody has to listen for them to be made
            asyncio.run(_touch(f"{address.replace('http', 'ws')}/api/songs/{song}/live"))
        there = treated is None or len(list(treated.glob("??/*.f32"))) >= TRACKS
        if there and not [t for t in tasks if t["state"] in ("waiting", "running")]:
            return
        time.sleep(3.0)
    raise RuntimeError("it does not come to rest")


async def _touch(url: str) -> None:
    async with websockets.connect(url, max_size=None) as socket:
        await socket.recv()
