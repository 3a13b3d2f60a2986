"""Groups and the mix on the real page: by dragging and by keys, on the bench, in place of their tracks, in the export."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import httpx
import pytest
from playwright.sync_api import Locator, Page, expect

from tests.browser.conftest import choose, settled, state
from tests.browser.test_access import _violations
from tests.patience import until
from tests.scenes import song_with

NAMES = ("Reed", "Brass", "Drum")


@pytest.fixture
def song(address: str, marimba_wav: Path) -> int:
    return song_with(address, *((f"{i + 1:02d}_{name}.wav", marimba_wav) for i, name in enumerate(NAMES)))


def _row(page: Page, name: str) -> Locator:
    return page.get_by_role("listitem", name=name, exact=True)


def _drag(page: Page, name: str, to: Locator) -> None:
    _row(page, name).locator(".grip").drag_to(to)


def _parents(address: str, song: int) -> dict[str, int | None]:
    return {t["name"]: t["parent_id"] for t in state(address, song)["tracks"]}


def _group(address: str, song: int, *inside: str) -> int:
    tracks = {t["name"]: t["id"] for t in state(address, song)["tracks"]}
    body = {"name": "Winds", "strip_ids": [tracks[name] for name in inside]}
    strips = httpx.post(f"{address}/api/songs/{song}/groups", json=body).json()["strips"]
    return int(next(s["id"] for s in strips if s["name"] == "Winds"))


def _bell(address: str, song: int, name: str, hz: float, gain: float) -> None:
    strip = next(s for s in state(address, song)["strips"] if s["name"] == name)
    body: dict[str, Any] = {"shape": "bell", "frequency_hz": hz, "q": 4.0, "gain_db": gain}
    assert httpx.post(f"{address}/api/songs/{song}/tracks/{strip['id']}/moves", json=body).status_code == 201


def test_tracks_are_dragged_into_a_group_it_is_folded_and_left_by_keys(page: Page, address: str, song: int) -> None:
    page.goto("/tracks")
    group = _row(page, "Group 1")

    def is_inside(name: str, to: Locator) -> bool:
        """Drag it, and again if something came in meanwhile and moved it from under the pointer."""
        if _parents(address, song)[name] is None:
            settled(page, to)
            _drag(page, name, to)
            page.wait_for_timeout(1_000)
        return _parents(address, song)[name] is not None

    until(lambda: is_inside("Brass", page.get_by_role("button", name="New group")))
    expect(group).to_contain_text("1 track")
    until(lambda: is_inside("Reed", group))
    expect(group).to_contain_text("2 tracks")
    band = next(s["id"] for s in state(address, song)["strips"] if s["kind"] == "group")
    assert _parents(address, song) == {"Reed": band, "Brass": band, "Drum": None}
    assert _violations(page) == []
    # folded, its tracks are out of sight, and stay so on a new visit
    page.get_by_role("button", name="Tracks of Group 1").click()
    expect(_row(page, "Reed")).to_be_hidden()
    page.reload()
    expect(_row(page, "Drum")).to_be_visible()
    expect(_row(page, "Brass")).to_be_hidden()
    page.get_by_role("button", name="Tracks of Group 1").click()
    expect(_row(page, "Brass")).to_be_visible()
    # by keys: out of it at its end, and back
    last = [t["name"] for t in state(address, song)["tracks"] if t["parent_id"] == band][-1]
    down = page.get_by_role("button", name=f"Move {last} down")
    down.focus()
    page.keyboard.press("Enter")
    until(lambda: _parents(address, song)[last] is None)
    page.get_by_role("button", name=f"Move {last} up").press("Enter")
    until(lambda: _parents(address, song)[last] == band)
    # fader, mute and solo are those of any strip
    group.get_by_role("button", name="Mute Group 1").click()
    group.get_by_role("slider", name="Fader of Group 1").press("ArrowDown")
    until(
        lambda: [s["mute"] and s["fader_db"] < 0 for s in state(address, song)["strips"] if s["id"] == band] == [True]
    )
    expect(_row(page, "Mix").get_by_role("button", name="Mute Mix")).to_be_visible()
    # taken apart and put together again
    page.get_by_role("button", name="Delete Group 1").click()
    expect(group).to_be_hidden()
    expect(_row(page, "Brass")).to_be_visible()
    undo, said = page.get_by_role("button", name="Undo"), page.get_by_role("alert").filter(has_text="Undo brings it")
    expect(said).to_be_visible()
    settled(page, said)
    above, below = undo.bounding_box(), said.bounding_box()
    assert above is not None
    assert below is not None
    assert below["y"] >= above["y"] + above["height"], "what speaks of Undo does not lie on it"
    undo.click()
    expect(group).to_contain_text("2 tracks")


def test_a_group_is_treated_on_the_bench_in_place_of_its_tracks(page: Page, address: str, song: int) -> None:
    band = _group(address, song, "Reed", "Brass")
    _bell(address, song, "Reed", 430.0, -4.0)
    _bell(address, song, "Brass", 440.0, -8.0)
    page.goto("/tracks")
    _row(page, "Winds").get_by_role("button", name="Bench").click()
    expect(page.get_by_role("heading", name="Winds", exact=True)).to_be_visible()
    expect(page.get_by_label("Findings")).to_contain_text(
        re.compile("stands out|open")
    )  # looked at since it was opened
    expect(page.get_by_role("button", name="This group")).to_be_visible()
    choose(page, "Add a move", re.compile("^moves of its tracks"))
    part = page.get_by_role("group", name="Treat the group in place of its tracks")
    expect(part).to_contain_text("from Reed and Brass")
    expect(part.get_by_role("status")).to_contain_text(
        re.compile(r"The sum over the passage changes by .* LU, at most by")
    )
    assert _violations(page) == []
    part.get_by_role("button", name="Move them here").click()
    until(lambda: all(not t["moves"] for t in state(address, song)["tracks"]))
    (move,) = next(s["moves"] for s in state(address, song)["strips"] if s["id"] == band)
    assert (move["gain_db"], round(move["frequency_hz"])) == (-6.0, 435)
    expect(page.get_by_role("button", name="Move 1 on")).to_be_visible()
    # and back, as copies
    choose(page, "Add a move", re.compile("on the tracks instead$"))
    back = page.get_by_role("group", name="Treat the tracks in its place")
    expect(back.get_by_role("status")).to_contain_text("stays as it is")
    back.get_by_role("button", name="Put them on the tracks").click()
    until(lambda: [len(t["moves"]) for t in state(address, song)["tracks"]] == [1, 1, 0])
    page.get_by_role("button", name="Undo").click()
    until(lambda: all(not t["moves"] for t in state(address, song)["tracks"]))


def test_the_mix_has_a_bench_and_a_stem(page: Page, address: str, song: int) -> None:
    _group(address, song, "Reed", "Brass")
    _bell(address, song, "Winds", 500.0, -3.0)
    page.goto("/tracks")
    _row(page, "Mix").get_by_role("button", name="Bench").click()
    expect(page.get_by_role("heading", name="Mix", exact=True)).to_be_visible()
    choose(page, "Add a move", re.compile("^Bell"))
    expect(page.get_by_role("button", name="Move 1 on")).to_be_visible()
    page.get_by_role("link", name="Handover").click()
    note = page.get_by_role("note")
    expect(note).to_contain_text("Winds has 1 move that the stems of its tracks don't carry")
    expect(note).to_contain_text("Mix has 1 move")
    page.get_by_text("Mix", exact=True).first.click()
    page.get_by_text("Winds (group)").click()
    page.locator("[data-test=export]").click()
    expect(page.get_by_text(re.compile("that the stems of Reed.* don't carry"))).to_be_visible()
