"""Faders, pans and rows on Tracks."""

from __future__ import annotations

import re
from pathlib import Path

import httpx
import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from tests.browser.conftest import settled, state
from tests.web.server import bring, wait_for_task


def _drag(page: Page, name: str, dx: float) -> None:
    slider = page.get_by_role("slider", name=name)
    settled(page, slider)  # what stands above the rows comes a little later
    handle = slider.bounding_box()
    assert handle is not None
    x, y = handle["x"] + handle["width"] / 2, handle["y"] + handle["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    for step in range(1, 9):
        page.mouse.move(x + dx * step / 8, y)
        page.wait_for_timeout(60)
    page.mouse.up()


def test_a_fader_is_dragged_heard_meanwhile_and_undone_as_one(page: Page, address: str, full_song: int) -> None:
    page.goto("/tracks")
    expect(page.get_by_role("button", name="Play")).to_be_enabled()
    track = state(address, full_song)["tracks"][0]
    revision = state(address, full_song)["revision"]
    _drag(page, "Fader of Marimba", -60)
    fader = page.get_by_role("listitem", name="Marimba", exact=True).get_by_label("Fader in dB")
    expect(fader).not_to_have_value("0.0")
    expect(page.get_by_text("Saved")).to_be_visible()
    page.wait_for_function(
        "async ([song, value]) => (await (await fetch(`/api/songs/${song}`)).json()).tracks[0].fader_db == value",
        arg=[full_song, float(fader.input_value().replace("\u2212", "-"))],
    )
    after = state(address, full_song)
    assert after["tracks"][0]["fader_db"] < -8
    assert after["revision"] > revision + 1  # it was heard on its way
    page.keyboard.press("Control+z")
    expect(fader).to_have_value("0.0")
    assert state(address, full_song)["tracks"][0]["fader_db"] == track["fader_db"] == 0.0


def test_a_pan_is_dragged_and_put_back_by_keys(page: Page, address: str, full_song: int) -> None:
    page.goto("/tracks")
    pan = page.get_by_role("slider", name="Pan of Marimba")
    expect(pan).to_have_attribute("aria-valuetext", "middle")
    _drag(page, "Pan of Marimba", -12)
    expect(pan).to_have_attribute("aria-valuetext", re.compile("% left"))
    pan.press("Home")
    expect(pan).to_have_attribute("aria-valuetext", "middle")
    pan.press("ArrowRight")
    expect(pan).to_have_attribute("aria-valuetext", "5 % right")


def test_a_tracks_polarity_is_turned_and_turned_back(page: Page, address: str, full_song: int) -> None:
    page.goto("/tracks")
    turn = page.get_by_role("button", name="Turn the polarity of").first
    expect(turn).to_have_attribute("aria-pressed", "false")
    turn.click()
    expect(turn).to_have_attribute("aria-pressed", "true")
    assert state(address, full_song)["tracks"][0]["turned"] is True
    page.keyboard.press("Control+z")
    expect(turn).to_have_attribute("aria-pressed", "false")
    assert state(address, full_song)["tracks"][0]["turned"] is False


@pytest.fixture
def long_song(address: str, empty_song: int, tmp_path: Path) -> int:
    """A song of many tracks, short ones: all brought in at once."""
    soundfile.write(tmp_path / "hush.wav", np.full(24_000, 0.001), 48_000, subtype="PCM_24")
    brought = [bring(address, empty_song, tmp_path / "hush.wav", f"{i:02d}_Part {i}.wav") for i in range(24)]
    for task in brought:
        wait_for_task(address, task)
    return empty_song


def test_twenty_rows_of_a_long_song_are_in_sight(page: Page, address: str, long_song: int) -> None:
    page.goto("/tracks")
    expect(page.get_by_role("listitem", name="Part 0", exact=True)).to_be_visible()
    assert len(httpx.get(f"{address}/api/songs/{long_song}").json()["tracks"]) == 24
    seen = page.evaluate(
        """() => {
          const list = document.querySelector("[role=list]").getBoundingClientRect();
          const rows = [...document.querySelectorAll("[role=listitem]")].map((row) => row.getBoundingClientRect());
          return rows.filter((row) => row.top >= list.top && row.bottom <= list.bottom).length;
        }"""
    )
    assert seen >= 20
    page.get_by_role("button", name="low rows").click()
    expect(page.get_by_role("button", name="low rows")).to_have_attribute("aria-pressed", "false")
    row = page.get_by_role("listitem", name="Part 0", exact=True).bounding_box()
    assert row is not None
    assert row["height"] > 50
