"""The real page in headless Chromium."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Browser, BrowserContext, Locator, Page, expect, sync_playwright

from tests.patience import PATIENCE_S
from tests.scenes import song_with

expect.set_options(timeout=1_000 * PATIENCE_S)

CHROMIUM = "/usr/bin/chromium-headless-shell"
ARGUMENTS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--autoplay-policy=no-user-gesture-required",
]  # fmt: skip


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    for item in items:
        if "tests/browser" in str(item.path):
            item.add_marker(pytest.mark.browser)


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        yield chromium
        chromium.close()


@pytest.fixture(scope="session")
def window(browser: Browser, address: str) -> Iterator[BrowserContext]:
    """Where pages are opened one after the other: what a page loads is read and compiled once."""
    made = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=address, accept_downloads=True)
    yield made
    made.close()


@pytest.fixture
def page(window: BrowserContext, address: str) -> Iterator[Page]:
    """A fresh page that remembers nothing; an error on it fails the test."""
    opened = window.new_page()
    window.new_cdp_session(opened).send("Storage.clearDataForOrigin", {"origin": address, "storageTypes": "all"})
    errors: list[str] = []
    opened.on("pageerror", lambda error: errors.append(str(error)))
    opened.set_default_timeout(1_000 * PATIENCE_S)
    yield opened
    opened.close()
    assert errors == []


@pytest.fixture
def empty_song(address: str, db: None) -> int:
    made = httpx.post(f"{address}/api/songs", json={"name": "Sluice", "sample_rate": 48_000})
    return int(made.json()["id"])


@pytest.fixture
def full_song(address: str, marimba_wav: Path) -> int:
    """A song with two tracks of recorded sound, the only one."""
    return song_with(address, (marimba_wav.name, marimba_wav), ("02_Second-Marimba.wav", marimba_wav))


def state(address: str, song: int) -> dict:  # type: ignore[type-arg]
    return dict(httpx.get(f"{address}/api/songs/{song}").json())


def tap(page: Page, key: str) -> None:
    """A key that does something else when it is held, pressed for 50 ms by the events' own times.

    The driver waits until the first half is done: on a busy machine that would be a key that is held.
    """
    keys, now = page.context.new_cdp_session(page), time.time()
    event = {"key": key, "code": f"Key{key.upper()}", "text": key, "windowsVirtualKeyCode": ord(key.upper())}
    keys.send("Input.dispatchKeyEvent", {"type": "keyDown", "timestamp": now, **event})
    keys.send("Input.dispatchKeyEvent", {"type": "keyUp", "timestamp": now + 0.05, **event})
    keys.detach()


def choose(page: Page, box: str, option: str | re.Pattern[str]) -> None:
    """Opens a list by its keys, since a list that is being laid out moves from under the pointer, and takes an entry."""
    page.get_by_role("combobox", name=box).press("ArrowDown")
    entries = page.get_by_role("option").filter(visible=True)
    entries.and_(page.get_by_role("option", name=option, exact=isinstance(option, str))).click()
    expect(entries).to_have_count(0)  # while the list closes, it closes the next one as well


def settled(page: Page, place: Locator) -> None:
    """Wait until something stays where it is: a pointer that is moved by hand goes where it was."""
    before, now = None, place.bounding_box()
    while now is None or now != before:
        page.wait_for_timeout(300)
        before, now = now, place.bounding_box()
