"""A session as large as real ones: 48 stereo tracks of 4 minutes with four moves each, on a scratch database.

Import through the interface with one worker, playing from the treated cache, the answers that the page waits for, and
the page itself in Chromium: until all rows are there, and how evenly it draws while it scrolls and plays.
"""

from __future__ import annotations

import asyncio
import os
import statistics
import time
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import soundfile

from bench.listeners import _all
from bench.scratch import scratch

RATE, SECONDS, TRACKS, MOVES = 48_000, 240, 48, 4
PATIENCE_S = 1800.0
ARGUMENTS = ["--no-sandbox", "--disable-gpu", "--autoplay-policy=no-user-gesture-required"]
_FRAMES = """async () => {
  const list = document.querySelector("[role=list]");
  const times = [];
  let last = performance.now();
  for (let i = 0; i < 180; i++) {
    await new Promise(requestAnimationFrame);
    const now = performance.now();
    times.push(now - last);
    last = now;
    list.scrollTop = (list.scrollHeight - list.clientHeight) * (0.5 - 0.5 * Math.cos(i / 15));
  }
  times.sort((a, b) => a - b);
  return [times[90], times[171]];
}"""


def _bring_in(address: str, folder: Path) -> int:
    song = int(httpx.post(f"{address}/api/songs", json={"name": "Crowd", "sample_rate": RATE}).json()["id"])
    random = np.random.default_rng(1)
    sound = (random.standard_normal((SECONDS * RATE, 2)) * 0.02).astype(np.float32)
    path = folder / "part.wav"
    for i in range(TRACKS):
        soundfile.write(path, np.roll(sound, i * 1_000, axis=0), RATE, subtype="PCM_16")
        name = {"name": f"{i:02d}_Part {i}.wav"}
        httpx.post(f"{address}/api/songs/{song}/files", params=name, content=path.read_bytes(), timeout=120)
    return song


def _until_idle(address: str, song: int, *kinds: str) -> None:
    deadline = time.monotonic() + PATIENCE_S
    while time.monotonic() < deadline:
        tasks = httpx.get(f"{address}/api/songs/{song}/tasks").json()
        if not [t for t in tasks if t["kind"] in kinds and t["state"] in ("waiting", "running")]:
            return
        time.sleep(0.5)
    raise RuntimeError("it does not come to rest")


def _until_known(address: str, song: int, treated: Path) -> None:
    from bench.listeners import _touch

    deadline = time.monotonic() + PATIENCE_S
    asyncio.run(_touch(f"{address.replace('http', 'ws')}/api/songs/{song}/live"))
    while len(list(treated.glob("??/*.f32"))) < TRACKS:
        if time.monotonic() > deadline:
            raise RuntimeError("the treated sounds are not made")
        time.sleep(1.0)


def _answers(base: str) -> tuple[float, float]:
    """Median ms of reading the song and of moving a fader."""
    read, change = [], []
    track = httpx.get(base).json()["tracks"][7]["id"]
    with httpx.Client() as client:
        for i in range(15):
            start = time.perf_counter()
            client.get(base)
            read.append(time.perf_counter() - start)
            start = time.perf_counter()
            client.patch(f"{base}/tracks/{track}", json={"fader_db": -0.5 * i}).raise_for_status()
            change.append(time.perf_counter() - start)
    return 1000 * statistics.median(read), 1000 * statistics.median(change)


def _page(address: str) -> dict[str, float]:
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=ARGUMENTS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        start = time.perf_counter()
        page.goto(f"{address}/tracks")
        page.get_by_role("listitem").nth(TRACKS - 1).wait_for(state="attached", timeout=60_000)
        found: dict[str, Any] = {"rows": time.perf_counter() - start}
        page.wait_for_timeout(2_000)
        found["still"] = page.evaluate(_FRAMES)
        page.get_by_role("button", name="Play").click()
        page.wait_for_timeout(2_000)
        found["playing"] = page.evaluate(_FRAMES)
        found["dropped"] = page.evaluate("document.querySelector('.drop')?.innerText ?? 'none'")
        if shot := os.environ.get("MIVLO_BENCH_SHOT"):
            page.screenshot(path=shot)
        browser.close()
    return found


def measure() -> list[tuple[str, str, str]]:
    from tests.web import server

    what = f"{TRACKS} stereo tracks of {SECONDS // 60} min"
    with scratch(54_396, MIVLO_TREATED_CACHE_GB="20") as folder, server.running() as address:
        start = time.perf_counter()
        song = _bring_in(address, folder)
        _until_idle(address, song, "import")
        imported = time.perf_counter() - start
        _until_idle(address, song, "import", "analyse")
        looked = time.perf_counter() - start
        base = f"{address}/api/songs/{song}"
        for track in httpx.get(base).json()["tracks"]:
            for k in range(MOVES):
                body = {"shape": "bell", "frequency_hz": 80.0 * 4**k, "q": 3.0, "gain_db": -4.0}
                httpx.post(f"{base}/tracks/{track['id']}/moves", json=body).raise_for_status()
        start = time.perf_counter()
        _until_known(address, song, folder / "data" / "treated")
        made = time.perf_counter() - start
        _until_idle(address, song, "import", "analyse")
        read, change = _answers(base)
        late = asyncio.run(_all(f"{address.replace('http', 'ws')}/api/songs/{song}/live", 1))
        page = _page(address)
    still, playing = page["still"], page["playing"]
    return [
        (f"{what}: brought in and imported, one worker", f"{imported:.0f} s", "-"),
        (f"{what}: all looked at, counted from the first upload", f"{looked:.0f} s", "-"),
        (f"{what}: treated sounds of {MOVES} moves each made in the background", f"{made:.0f} s", "-"),
        (f"{what}: reading the song, moving a fader (medians)", f"{read:.0f} ms, {change:.0f} ms", "100 ms"),
        (f"{what}: playing from the cache, late blocks", late, "0"),
        (f"{what}: page opened until all rows are there", f"{page['rows']:.1f} s", "-"),
        (f"{what}: a frame while scrolling, median and 95 %", f"{still[0]:.0f} ms, {still[1]:.0f} ms", "33 ms"),
        (f"{what}: the same while playing", f"{playing[0]:.0f} ms, {playing[1]:.0f} ms", "33 ms"),
        (f"{what}: blocks dropped by the page", str(page["dropped"]), "none"),
    ]
