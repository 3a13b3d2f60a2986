"""What comes after bringing files in: beginnings, two sides made one, markers, sheets that are dropped."""

from __future__ import annotations

import json
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Page, expect

from mivlo.audio.marks import Marker, Marks, add_marks
from tests.audio.test_marks import bext, labels
from tests.browser.conftest import state
from tests.browser.test_access import _violations
from tests.patience import until
from tests.web.server import send_file

RATE = 48_000
HOUR = 3_600 * RATE


@pytest.fixture
def song(address: str, empty_song: int, write_wav, noise) -> int:  # type: ignore[no-untyped-def]
    """A left and a right side that began half a second after another file, which has two markers."""
    for i, (name, late) in enumerate((("Bass.wav", 0), ("Kick.L.wav", 24_000), ("Kick.R.wav", 24_000))):
        file: Path = write_wav(noise[i * 1_000 : i * 1_000 + 60_000, :1], name=name)
        markers = (Marker(1, 9_600), Marker(2, 48_000)) if not i else ()
        add_marks(file, Marks(bext(HOUR + late), markers, labels("verse", "chorus") if markers else None))
        send_file(address, empty_song, file)
    return empty_song


DROP = """([target, name, text]) => {
  const transfer = new DataTransfer();
  transfer.items.add(new File([text], name, { type: "application/json" }));
  for (const type of ["dragover", "drop"]) target.dispatchEvent(new DragEvent(type, { dataTransfer: transfer, bubbles: true, cancelable: true }));
}"""


def test_files_are_placed_paired_and_marked(page: Page, address: str, song: int) -> None:
    page.goto("/tracks")
    assert [t["starts_at_s"] for t in state(address, song)["tracks"]] == [0.0, 0.5, 0.5]
    offers = page.locator("[data-test=offers]")
    expect(offers.get_by_role("button", name="by time reference")).to_have_attribute("aria-pressed", "true")
    offers.get_by_role("button", name="all at zero").click()
    expect(offers.get_by_role("button", name="all at zero")).to_have_attribute("aria-pressed", "true")
    assert [t["starts_at_s"] for t in state(address, song)["tracks"]] == [0.0, 0.0, 0.0]
    page.keyboard.press("Control+z")
    expect(offers.get_by_role("button", name="by time reference")).to_have_attribute("aria-pressed", "true")
    # from a marker to the next one
    row = page.get_by_role("listitem", name="Bass")
    row.get_by_role("button", name="Passage from marker verse").click()
    until(lambda: state(address, song)["passage_to_s"] is not None)
    found = state(address, song)
    assert (found["passage_from_s"], found["passage_to_s"]) == (pytest.approx(0.2), pytest.approx(1.0))
    offers.get_by_role("button", name="Make Kick one stereo track").click()
    expect(page.get_by_role("listitem", name="Kick", exact=True)).to_be_visible()
    until(lambda: [(t["name"], t["channels"]) for t in state(address, song)["tracks"]] == [("Bass", 1), ("Kick", 2)])
    assert state(address, song)["tracks"][1]["starts_at_s"] == 0.5
    assert _violations(page) == []


def test_a_sheet_that_is_dropped_on_a_track_or_on_its_moves_is_put_on_it(page: Page, address: str, song: int) -> None:
    bell = {"shape": "bell", "frequency_hz": 412.0, "q": 8.0, "gain_db": -4.0}
    sheets = [{"format": "mivlo-sheet", "version": v, "moves": [{**bell, "frequency_hz": 400.0 + v}]} for v in (1, 2)]
    page.goto("/tracks")
    row = page.get_by_role("listitem", name="Bass")
    page.evaluate(DROP, [row.element_handle(), "Bass.json", json.dumps(sheets[0])])
    expect(page.get_by_text("Bass.json was put on Bass.")).to_be_visible()
    expect(row.get_by_role("button", name="Bench")).to_contain_text("1")
    page.evaluate(DROP, [row.element_handle(), "broken.json", "{"])
    expect(page.get_by_text("broken.json").first).to_be_visible()
    row.get_by_role("button", name="Bench").click()
    moves = page.get_by_role("region", name="Moves")
    page.evaluate(DROP, [moves.element_handle(), "more.json", json.dumps(sheets[1])])
    until(lambda: [m["frequency_hz"] for m in state(address, song)["tracks"][0]["moves"]] == [401.0, 402.0])
    # a move that acts in the passage alone
    httpx.patch(f"{address}/api/songs/{song}", json={"passage_from_s": 0.25, "passage_to_s": 0.75}).raise_for_status()
    moves.get_by_role("button", name="402").first.click()
    page.get_by_role("button", name="Only here").click()
    until(lambda: state(address, song)["tracks"][0]["moves"][1]["stretches"] == [[0.25, 0.75]])
    page.get_by_role("button", name="Act always").click()
    until(lambda: state(address, song)["tracks"][0]["moves"][1]["stretches"] == [])
