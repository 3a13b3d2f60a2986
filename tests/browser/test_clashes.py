"""Clashes on the real page: find, hear, swap, carve, switch, free, and the floor; by mouse and by keyboard alone."""

from __future__ import annotations

import re
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from tests.browser.conftest import state
from tests.browser.test_access import _violations
from tests.core.test_auditory import RATE
from tests.core.test_clashes import _band, _covered_pair
from tests.web.server import send_file


@pytest.fixture(scope="session")
def covered_wavs(tmp_path_factory: pytest.TempPathFactory) -> list[Path]:
    """A voice, strings over it, and a bass."""
    folder = tmp_path_factory.mktemp("covered")
    voice, strings = _covered_pair()
    bass = np.pad(_band()[1][0], (0, 2 * RATE))
    paths = [folder / name for name in ("01_Voice.wav", "02_Strings.wav", "03_Bass.wav")]
    for path, x in zip(paths, (voice, strings, bass), strict=True):
        soundfile.write(path, x, RATE, subtype="PCM_24")
    return paths


@pytest.fixture
def song(address: str, empty_song: int, covered_wavs: list[Path]) -> int:
    for path in covered_wavs:
        send_file(address, empty_song, path)
    for track, role in zip(state(address, empty_song)["tracks"], ("voice", "strings", "bass"), strict=True):
        httpx.patch(f"{address}/api/songs/{empty_song}/tracks/{track['id']}", json={"role": role})
    return empty_song


def _open(page: Page) -> None:
    page.goto("/clashes")
    expect(page.get_by_role("list", name="Clashes").get_by_role("listitem").first).to_be_visible()
    expect(page.get_by_role("button", name="Play")).to_be_enabled()


def _strings(address: str, song: int) -> list[dict[str, Any]]:
    return list(state(address, song)["tracks"][1]["moves"])


def _until(done: Callable[[], bool]) -> None:
    deadline = time.monotonic() + 25
    while not done():
        assert time.monotonic() < deadline
        time.sleep(0.05)


def test_a_clash_is_found_heard_swapped_and_carved(page: Page, address: str, song: int) -> None:
    _open(page)
    first = page.get_by_role("list", name="Clashes").get_by_role("listitem").first
    expect(first).to_contain_text("Voice under Strings")
    first.get_by_role("button").click()
    expect(page.get_by_role("button", name="Pause")).to_be_visible()  # its phrase plays at once
    card = page.locator("[data-test=clash]")
    expect(card).to_contain_text("Proposed: Voice")
    expect(card.get_by_role("button", name="Voice keeps")).to_have_attribute("aria-pressed", "true")
    expect(card).to_contain_text(re.compile(r"Strings: bell .* dB"))
    expect(card).to_contain_text(re.compile(r"Gains \d+\.\d\d sones"))
    card.get_by_role("button", name="With it").click()
    expect(card.get_by_role("button", name="With it")).to_have_attribute("aria-pressed", "true")
    assert _strings(address, song) == []  # heard, not saved
    card.get_by_role("button", name="Strings keeps").click()
    expect(card).to_contain_text(re.compile(r"Voice: bell .* dB"))
    card.get_by_role("button", name="Voice keeps").click()
    expect(card).to_contain_text(re.compile(r"Strings: bell .* dB"))
    card.get_by_role("button", name=re.compile("^Carve")).click()
    _until(lambda: len(_strings(address, song)) == 1)
    assert _strings(address, song)[0]["links"] == ["carve"]
    switch = page.get_by_role("button", name=re.compile("1 carve on"))
    switch.click()
    _until(lambda: not _strings(address, song)[0]["enabled"])
    expect(page.get_by_role("button", name=re.compile("1 carve off"))).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    _until(lambda: bool(_strings(address, song)[0]["enabled"]))


def test_by_keyboard_alone(page: Page, address: str, song: int) -> None:
    _open(page)
    page.keyboard.press(".")
    card = page.locator("[data-test=clash]")
    expect(card).to_contain_text(re.compile(r"Gains \d+\.\d\d sones"))
    page.keyboard.press("8")
    expect(card.get_by_role("button", name="With it")).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("8")
    expect(card.get_by_role("button", name="With it")).to_have_attribute("aria-pressed", "false")
    page.keyboard.press("Shift+y")
    expect(card.get_by_role("button", name="Strings keeps")).to_have_attribute("aria-pressed", "true")
    expect(card).to_contain_text(re.compile(r"Voice: bell .* dB"))
    page.keyboard.press("Shift+c")
    _until(lambda: len(state(address, song)["tracks"][0]["moves"]) == 1)
    page.keyboard.press("Shift+e")
    _until(lambda: not state(address, song)["tracks"][0]["moves"][0]["enabled"])
    page.keyboard.press("Escape")
    expect(card).to_be_hidden()


def test_a_track_is_freed_and_the_floor_is_taken(page: Page, address: str, song: int) -> None:
    _open(page)
    page.get_by_role("tab", name="Free a track").click()
    page.get_by_role("combobox", name="Track to be freed").click(force=True)
    page.get_by_role("option", name="Voice").click()
    part = page.locator("[data-test=free]")
    expect(part).to_contain_text(re.compile(r"Gains \d+\.\d\d sones"))
    part.get_by_role("button", name=re.compile("^Carve")).click()
    _until(lambda: len(_strings(address, song)) >= 1)
    page.get_by_role("tab", name="Floor").click()
    floor = page.locator("[data-test=floor]")
    expect(floor).to_contain_text("it lives in the low end")
    floor.get_by_role("checkbox", name="Cut Strings").uncheck()
    floor.get_by_role("button", name=re.compile("^Make 1 low cut")).click()
    _until(lambda: [m["shape"] for m in state(address, song)["tracks"][0]["moves"]] == ["low_cut"])
    assert all(m["shape"] == "bell" for m in _strings(address, song))


def test_a_fader_makes_what_is_shown_old_until_it_is_computed_again(page: Page, address: str, song: int) -> None:
    _open(page)
    strings = state(address, song)["tracks"][1]["id"]
    head = page.get_by_role("button", name=re.compile("^Voice .* kept"))
    before = head.inner_text()
    httpx.patch(f"{address}/api/songs/{song}/tracks/{strings}", json={"fader_db": -20.0})
    expect(head).not_to_have_text(before)


def test_the_whole_song_is_looked_at_when_it_is_asked_for(page: Page, address: str, song: int) -> None:
    _open(page)
    page.get_by_role("button", name="passage", exact=True).click()
    expect(page.get_by_text("The whole song was not looked at yet.")).to_be_visible()
    page.get_by_role("button", name="Look at the whole song").click()
    expect(page.get_by_role("list", name="Clashes").get_by_role("listitem").first).to_contain_text(
        "Voice under Strings"
    )
    strings = state(address, song)["tracks"][1]["id"]
    httpx.patch(f"{address}/api/songs/{song}/tracks/{strings}", json={"fader_db": -1.0})
    expect(page.get_by_role("button", name="Look again")).to_be_visible()
    expect(page.get_by_text("older than the song")).to_be_visible()


def test_the_page_can_be_used_by_all(page: Page, song: int) -> None:
    _open(page)
    for _ in ("day", "night"):
        page.keyboard.press(".")
        expect(page.locator("[data-test=clash]")).to_contain_text(re.compile(r"Gains \d"))
        assert _violations(page) == []
        page.get_by_role("tab", name="Floor").click()
        expect(page.locator("[data-test=floor]")).to_contain_text("Sum of the lows")
        assert _violations(page) == []
        page.get_by_role("tab", name="Clashes").click()
        page.get_by_role("button", name="Night").click()
