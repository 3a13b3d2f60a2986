"""The real page in headless Chromium."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from tests.web.server import send_file

expect.set_options(timeout=25_000)  # a busy machine is slow, not wrong

CHROMIUM = "/usr/bin/chromium"
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


@pytest.fixture
def page(browser: Browser, address: str) -> Iterator[Page]:
    """A fresh page; an error on it fails the test."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=address, accept_downloads=True)
    opened = context.new_page()
    errors: list[str] = []
    opened.on("pageerror", lambda error: errors.append(str(error)))
    opened.set_default_timeout(25_000)
    yield opened
    context.close()
    assert errors == []


@pytest.fixture
def empty_song(address: str, db: None) -> int:
    made = httpx.post(f"{address}/api/songs", json={"name": "Sluice", "sample_rate": 48_000})
    return int(made.json()["id"])


@pytest.fixture
def full_song(address: str, empty_song: int, marimba_wav: Path, tmp_path: Path) -> int:
    """A song with two tracks of recorded sound."""
    send_file(address, empty_song, marimba_wav)
    send_file(address, empty_song, marimba_wav, "02_Second-Marimba.wav")
    return empty_song


def state(address: str, song: int) -> dict:  # type: ignore[type-arg]
    return dict(httpx.get(f"{address}/api/songs/{song}").json())
