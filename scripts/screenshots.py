"""Takes docs/screenshots/ anew from a running `make start` with the demo song.

It makes its own moves on the cajón and takes them back afterwards.
"""

from __future__ import annotations

from pathlib import Path

import httpx
from playwright.sync_api import Page, sync_playwright

ADDRESS = "http://127.0.0.1:8417"
FOLDER = Path(__file__).resolve().parents[1] / "docs" / "screenshots"
ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--autoplay-policy=no-user-gesture-required",
]
MOVES = (
    {"shape": "bell", "frequency_hz": 412.0, "q": 20.0, "gain_db": -8.0},
    {"shape": "bell", "frequency_hz": 637.0, "q": 18.0, "gain_db": -5.0},
    {"shape": "bell", "frequency_hz": 305.0, "q": 0.92, "gain_db": -3.0},
    {"shape": "low_cut", "frequency_hz": 55.0, "slope_db_per_octave": 24},
)


def _shot(page: Page, name: str) -> None:
    page.screenshot(path=FOLDER / f"{name}.png")


def _bench(page: Page, song: int, track: int) -> None:
    page.goto(f"{ADDRESS}/bench/{track}")
    page.wait_for_timeout(2_500)
    page.get_by_role("button", name="This track").click()
    page.get_by_role("button", name="Move 1: Bell").focus()
    page.get_by_role("button", name="Play").click()
    page.wait_for_timeout(2_500)
    _shot(page, "bench")
    box = page.locator("[data-test=profile]").bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 90, box["y"] + box["height"] * 0.5)
    page.mouse.down()
    page.mouse.move(box["x"] + 90, box["y"] + box["height"] * 0.503, steps=4)
    page.wait_for_timeout(1_200)
    _shot(page, "bench-probe")
    page.mouse.up()
    page.get_by_role("button", name="Pause").click()
    page.keyboard.press("?")
    page.wait_for_timeout(600)
    _shot(page, "keys")
    page.keyboard.press("Escape")


def _finding(page: Page, track: int) -> None:
    page.goto(f"{ADDRESS}/bench/{track}")
    page.wait_for_timeout(2_500)
    page.get_by_role("button", name="This track").click()
    page.mouse.move(5, 5)
    page.keyboard.press("f")
    page.keyboard.press("8")
    page.wait_for_timeout(2_500)
    _shot(page, "bench-finding")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Pause").click()


def _listening(page: Page, base: str, named: dict[str, int]) -> None:
    """A move that gives way to another track, and more of what was marked; what was made is taken back."""
    start = {"name": "give_way", "frequency_hz": 450.0, "key": named["Narrator"]}
    httpx.post(f"{base}/tracks/{named['Harmonium']}/starts", json=start, timeout=30).raise_for_status()
    page.goto(f"{ADDRESS}/bench/{named['Harmonium']}")
    page.wait_for_timeout(2_500)
    page.get_by_role("button", name="Move 1: Bell").focus()
    page.get_by_role("button", name="Play").click()
    page.wait_for_timeout(4_500)
    _shot(page, "bench-dynamic")
    page.get_by_role("button", name="Pause").click()
    httpx.post(f"{base}/undo").raise_for_status()
    page.goto(f"{ADDRESS}/bench/{named['Narrator']}")
    page.wait_for_timeout(2_500)
    page.get_by_label("Findings").get_by_role("button", name="whistle").first.click()
    page.get_by_role("button", name="More like it").click()
    page.wait_for_selector("[data-test=alike] .moment")
    page.get_by_role("button", name="passage", exact=True).click()
    page.wait_for_timeout(2_500)
    _shot(page, "bench-alike")
    page.get_by_role("button", name="whole song", exact=True).click()
    page.keyboard.press("Escape")
    body = {"mode": "adaptive", "from_hz": 200, "to_hz": 12_000}
    httpx.post(f"{base}/tracks/{named['Trumpet']}/moves", json=body).raise_for_status()
    page.goto(f"{ADDRESS}/bench/{named['Trumpet']}")
    page.wait_for_timeout(2_500)
    page.get_by_role("button", name="Move 1: Adaptive").focus()
    page.wait_for_timeout(4_000)
    _shot(page, "bench-adaptive")
    httpx.post(f"{base}/undo").raise_for_status()


def _rungs(page: Page, track: int) -> None:
    page.goto(f"{ADDRESS}/bench/{track}")
    page.wait_for_timeout(2_500)
    page.keyboard.press("Shift+R")
    rows = page.get_by_role("slider", name="Rung at")
    for i, steps in ((9, -4), (10, -7), (11, -5), (19, 3), (20, 4), (21, 2)):
        rows.nth(i).focus()
        for _ in range(abs(steps)):
            page.keyboard.press("ArrowLeft" if steps < 0 else "ArrowRight")
            page.wait_for_timeout(150)
    page.get_by_role("button", name="Play").click()
    page.wait_for_timeout(3_500)
    _shot(page, "bench-rungs")
    page.get_by_role("button", name="Pause").click()


def _clashes(page: Page) -> None:
    """Who covers whom, with the first clash chosen and heard; then the floor."""
    page.goto(f"{ADDRESS}/clashes")
    page.wait_for_selector("[aria-label=Clashes] li", timeout=30_000)
    page.keyboard.press(".")
    page.get_by_role("button", name="With it").click(timeout=30_000)
    page.wait_for_timeout(1_500)
    _shot(page, "clashes")
    page.get_by_role("tab", name="Floor").click()
    page.get_by_text("Sum of the lows").wait_for(timeout=60_000)
    page.get_by_role("button", name="Night").click()
    page.wait_for_timeout(500)
    _shot(page, "clashes-floor")
    page.get_by_role("button", name="Night").click()
    page.get_by_role("button", name="Pause").click()


def _grouped(page: Page, base: str, named: dict[str, int]) -> None:
    """A group on Tracks, and on the bench about to be treated in place of its tracks; all is taken back."""
    inside = ["Cello", "Trumpet", "Marimba", "Harmonium"]
    body = {"name": "Pitched", "strip_ids": [named[name] for name in inside]}
    strips = httpx.post(f"{base}/groups", json=body).raise_for_status().json()["strips"]
    group = next(s["id"] for s in strips if s["name"] == "Pitched")
    for name, hz, gain in zip(inside, (430.0, 436.0, 2_400.0, 440.0), (-4.0, -2.0, -3.0, -6.0), strict=True):
        move = {"shape": "bell", "frequency_hz": hz, "q": 4.0, "gain_db": gain}
        httpx.post(f"{base}/tracks/{named[name]}/moves", json=move).raise_for_status()
    page.goto(f"{ADDRESS}/tracks")
    page.wait_for_timeout(2_500)
    _shot(page, "tracks-low")
    page.goto(f"{ADDRESS}/bench/{group}")
    page.wait_for_timeout(6_000)
    page.get_by_role("combobox", name="Add a move").press("ArrowDown")
    page.get_by_role("option", name="moves of its tracks").click()
    page.get_by_text("The sum over the passage").wait_for(timeout=30_000)
    page.wait_for_timeout(500)
    _shot(page, "bench-group")
    for _ in range(1 + len(inside)):
        httpx.post(f"{base}/undo").raise_for_status()


def _away(page: Page) -> None:
    """What is said while nothing can be saved; the change that waits is made afterwards, and taken back."""
    page.context.set_offline(True)
    page.get_by_role("listitem", name="Cello").get_by_role("button", name="Mute").click()
    page.wait_for_selector("[data-test=away]", timeout=20_000)
    page.wait_for_timeout(300)
    _shot(page, "away")
    page.context.set_offline(False)
    page.wait_for_selector("[data-test=away]", state="detached", timeout=20_000)
    page.get_by_role("button", name="Undo").click()
    page.wait_for_timeout(800)


def _compared(page: Page, base: str, track: int) -> None:
    """A snapshot beside the state of now, which has two moves more."""
    kept = httpx.post(f"{base}/snapshots", json={"name": "narrow", "strip_id": track}).json()["id"]
    for move in (
        {"shape": "low_shelf", "frequency_hz": 150.0, "q": 0.71, "gain_db": -4.0},
        {"shape": "bell", "frequency_hz": 2_900.0, "q": 1.0, "gain_db": 2.0},
    ):
        httpx.post(f"{base}/tracks/{track}/moves", json=move).raise_for_status()
    page.goto(f"{ADDRESS}/bench/{track}")
    page.wait_for_timeout(2_500)
    page.get_by_role("button", name="Snapshots").click()
    page.get_by_role("button", name="Compare narrow").click()
    page.wait_for_selector("[role=dialog] canvas", timeout=60_000)
    page.wait_for_timeout(800)
    _shot(page, "bench-compared")
    page.keyboard.press("Escape")
    for _ in range(2):
        httpx.post(f"{base}/undo").raise_for_status()
    httpx.delete(f"{base}/snapshots/{kept}").raise_for_status()


def main() -> None:
    """The views, one picture each, and the list of keys."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    song = httpx.get(f"{ADDRESS}/api/songs").json()[0]["id"]
    base = f"{ADDRESS}/api/songs/{song}"
    named = {t["name"]: t["id"] for t in httpx.get(base).json()["tracks"]}
    before = httpx.get(f"{base}/history", params={"most": 1, "steps": True}).json()[0]["id"]
    try:
        _take_all(song, base, named)
    finally:
        httpx.post(f"{base}/history/{before}/go").raise_for_status()


def _take_all(song: int, base: str, named: dict[str, int]) -> None:
    track = named["Cajón"]
    for move in MOVES:
        httpx.post(f"{base}/tracks/{track}/moves", json=move).raise_for_status()
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=ARGUMENTS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(f"{ADDRESS}/tracks")
        page.wait_for_timeout(2_000)
        page.get_by_role("button", name="Play").click()
        page.wait_for_timeout(2_500)
        _shot(page, "tracks")
        _away(page)
        page.get_by_role("button", name="Pause").click()
        _grouped(page, base, named)
        _bench(page, song, track)
        _finding(page, named["Trumpet"])
        _listening(page, base, named)
        _clashes(page)
        _rungs(page, named["Harmonium"])
        _compared(page, base, track)
        page.get_by_role("button", name="Night").click()
        page.goto(f"{ADDRESS}/bench/{track}")
        page.wait_for_timeout(2_500)
        _shot(page, "bench-night")
        page.get_by_role("button", name="Night").click()
        page.goto(f"{ADDRESS}/handover")
        page.get_by_role("button", name="Write 9 stems").click()
        page.wait_for_selector("a[href*='/files/']", timeout=120_000)
        page.get_by_role("button", name="Play").and_(page.locator(":enabled")).wait_for()
        page.wait_for_timeout(1_500)
        _shot(page, "handover")
        browser.close()


if __name__ == "__main__":
    main()
