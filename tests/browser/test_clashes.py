"""Clashes on the real page: find, hear, swap, carve, switch, free, and the floor; by mouse and by keyboard alone."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from tests.browser.conftest import choose, state, tap
from tests.browser.test_access import _violations
from tests.core.test_auditory import RATE
from tests.core.test_clashes import _band, _covered_pair
from tests.patience import until
from tests.web.server import go_back, last_edit, send_file


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


@pytest.fixture(scope="module")
def begun(address: str, db_of_module: None, covered_wavs: list[Path]) -> tuple[int, int]:
    """A song and its last edit. Made once, since no test is about making it."""
    made = httpx.post(f"{address}/api/songs", json={"name": "Sluice", "sample_rate": 48_000})
    song = int(made.json()["id"])
    for path in covered_wavs:
        send_file(address, song, path)
    for track, role in zip(state(address, song)["tracks"], ("voice", "strings", "bass"), strict=True):
        httpx.patch(f"{address}/api/songs/{song}/tracks/{track['id']}", json={"role": role})
    return song, last_edit(address, song)


@pytest.fixture
def song(address: str, begun: tuple[int, int]) -> int:
    """The song, as it was begun."""
    go_back(address, *begun)
    return begun[0]


def _open(page: Page) -> None:
    page.goto("/clashes")
    expect(page.get_by_role("list", name="Clashes").get_by_role("listitem").first).to_be_visible()
    expect(page.get_by_role("button", name="Play")).to_be_enabled()


def _strings(address: str, song: int) -> list[dict[str, Any]]:
    return list(state(address, song)["tracks"][1]["moves"])


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
    until(lambda: len(_strings(address, song)) == 1)
    assert _strings(address, song)[0]["links"] == ["carve"]
    switch = page.get_by_role("button", name=re.compile("1 carve on"))
    switch.click()
    until(lambda: not _strings(address, song)[0]["enabled"])
    expect(page.get_by_role("button", name=re.compile("1 carve off"))).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    until(lambda: bool(_strings(address, song)[0]["enabled"]))


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
    all_carves = page.get_by_role("button", name=re.compile(r"^1 carve o"))
    expect(all_carves).to_have_attribute("aria-pressed", "true")  # the page knows of it
    page.keyboard.press("Shift+e")
    expect(all_carves).to_have_attribute("aria-pressed", "false")
    until(lambda: not state(address, song)["tracks"][0]["moves"][0]["enabled"])
    page.keyboard.press("Escape")
    expect(card).to_be_hidden()


def test_a_track_is_freed_and_the_floor_is_taken(page: Page, address: str, song: int) -> None:
    _open(page)
    page.get_by_role("tab", name="Free a track").click()
    choose(page, "Track to be freed", "Voice")
    part = page.locator("[data-test=free]")
    expect(part).to_contain_text(re.compile(r"Gains \d+\.\d\d sones"))
    part.get_by_role("button", name=re.compile("^Carve")).click()
    until(lambda: len(_strings(address, song)) >= 1)
    page.get_by_role("tab", name="Floor").click()
    floor = page.locator("[data-test=floor]")
    expect(floor).to_contain_text("it lives in the low end")
    floor.get_by_role("checkbox", name="Cut Strings").uncheck()
    floor.get_by_role("button", name=re.compile("^Make 1 low cut")).click()
    until(lambda: [m["shape"] for m in state(address, song)["tracks"][0]["moves"]] == ["low_cut"])
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


def test_a_decision_is_kept_and_an_order_by_hand_settles_the_rest(page: Page, address: str, song: int) -> None:
    _open(page)
    first = page.get_by_role("list", name="Clashes").get_by_role("listitem").first
    first.get_by_role("button").click()
    card = page.locator("[data-test=clash]")
    card.get_by_role("button", name="Strings keeps").click()
    expect(card).to_contain_text("You decided so.")
    until(lambda: len(state(address, song)["decisions"]) == 1)
    page.reload()
    first.get_by_role("button").click()
    expect(card.get_by_role("button", name="Strings keeps")).to_have_attribute("aria-pressed", "true")
    card.get_by_role("button", name="As the order says").click()
    expect(card.get_by_role("button", name="Voice keeps")).to_have_attribute("aria-pressed", "true")
    assert state(address, song)["decisions"] == []
    # the order: by keys, then by dragging
    page.get_by_role("tab", name="Importance").click()
    order = page.get_by_role("list", name="Tracks by importance")
    expect(order.get_by_role("listitem").first).to_contain_text("Voice")
    order.get_by_role("button", name="Voice less important").press("Enter")
    expect(order.get_by_role("listitem").first).to_contain_text("Bass")
    order.get_by_role("listitem").filter(has_text="Strings").drag_to(order.get_by_role("listitem").first)
    expect(order.get_by_role("listitem").first).to_contain_text("Strings")
    assert _violations(page) == []
    page.get_by_role("tab", name="Clashes", exact=True).click()
    first.get_by_role("button").click()
    expect(card).to_contain_text("Proposed: Strings, since it stands higher in your order")
    page.get_by_role("tab", name="Importance").click()
    page.get_by_role("button", name="By role again").click()
    expect(order.get_by_role("listitem").first).to_contain_text("Voice")


def test_a_passage_has_an_order_of_its_own(page: Page, address: str, song: int) -> None:
    httpx.patch(f"{address}/api/songs/{song}", json={"passage_from_s": 0.5, "passage_to_s": 3.5})
    _open(page)
    page.get_by_role("tab", name="Importance").click()
    order = page.get_by_role("list", name="Tracks by importance")
    expect(order.get_by_role("listitem").first).to_contain_text("Voice")
    page.get_by_label("for this passage only").check()
    order.get_by_role("button", name="Voice less important").press("Enter")
    expect(order.get_by_role("listitem").first).to_contain_text("Bass")
    assert _violations(page) == []
    told = state(address, song)
    assert [t["importance"] for t in told["tracks"]] == [None, None, None]
    assert [(o["from_s"], o["to_s"]) for o in told["orders"]] == [(0.5, 3.5)]
    page.keyboard.press("Control+z")
    expect(order.get_by_role("listitem").first).to_contain_text("Voice")
    page.keyboard.press("Control+Shift+z")
    expect(order.get_by_role("listitem").first).to_contain_text("Bass")
    page.get_by_role("button", name="As in the song again").click()
    expect(order.get_by_role("listitem").first).to_contain_text("Voice")
    assert state(address, song)["orders"] == []


def test_the_range_of_both_is_heard_alone_and_in_the_mix(page: Page, address: str, song: int) -> None:
    _open(page)
    page.get_by_role("list", name="Clashes").get_by_role("listitem").first.get_by_role("button").click()
    card = page.locator("[data-test=clash]")
    both = card.get_by_role("button", name="Both")
    both.click()
    expect(both).to_have_attribute("aria-pressed", "true")
    place = card.get_by_role("button", name=re.compile("^(alone|in the mix)"))
    expect(place).to_have_text(re.compile("^alone"))
    tap(page, "a")
    expect(place).to_have_text(re.compile("^in the mix"))
    both.click()
    expect(both).to_have_attribute("aria-pressed", "false")
    assert [t["moves"] for t in state(address, song)["tracks"]] == [[], [], []]


def test_the_floor_is_heard_before_it_is_taken_and_the_level_is_a_setting(page: Page, address: str, song: int) -> None:
    _open(page)
    level = page.get_by_label("Playback level of the mix")
    level.fill("85")
    level.press("Enter")
    until(lambda: state(address, song)["playback_db_spl"] == 85.0)
    page.get_by_role("tab", name="Floor").click()
    hear = page.get_by_role("button", name=re.compile("^Hear with"))
    hear.click()
    expect(hear).to_have_attribute("aria-pressed", "true")
    expect(page.get_by_role("button", name="Pause")).to_be_visible()
    hear.click()
    expect(hear).to_have_attribute("aria-pressed", "false")
    assert [t["moves"] for t in state(address, song)["tracks"]] == [[], [], []]


def test_what_piles_up_is_taken_from_the_group_or_from_its_tracks(page: Page, address: str, song: int) -> None:
    _open(page)
    page.get_by_role("tab", name="2 to 5 kHz").click()
    part = page.locator("[data-test=harsh]")
    expect(part.get_by_role("list", name=re.compile("^Shares")).get_by_role("listitem").first).to_contain_text("%")
    assert _violations(page) == []
    cut = part.get_by_role("group", name="One cut on the group")
    cut.get_by_role("button", name="Hear it").click()
    expect(cut.get_by_role("button", name="Hear it")).to_have_attribute("aria-pressed", "true")
    cut.get_by_role("button", name="Cut the group").click()
    until(lambda: [len(s["moves"]) for s in state(address, song)["strips"] if s["kind"] == "mix"] == [1])


def test_a_group_stands_for_its_tracks_until_it_is_opened_and_two_are_looked_at_alone(
    page: Page, address: str, song: int
) -> None:
    tracks = {t["name"]: t["id"] for t in state(address, song)["tracks"]}
    body = {"name": "Band", "strip_ids": [tracks["Strings"], tracks["Bass"]]}
    httpx.post(f"{address}/api/songs/{song}/groups", json=body)
    _open(page)
    heads = page.locator(".columns .head")
    expect(heads).to_have_count(2)
    expect(page.get_by_role("list", name="Clashes").get_by_role("listitem").first).to_contain_text("Voice under Band")
    page.get_by_role("button", name="Show the tracks of Band").click()
    expect(heads).to_have_count(3)
    heads.filter(has_text="Voice").click()
    heads.filter(has_text="Bass").click()
    expect(heads).to_have_count(2)
    expect(page.get_by_role("list", name="Clashes")).not_to_contain_text("Strings")
    assert _violations(page) == []
    page.get_by_role("button", name="all against all").click()
    expect(heads).to_have_count(3)
    page.get_by_role("button", name="Band as one").click()
    expect(heads).to_have_count(2)
