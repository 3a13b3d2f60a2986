"""For everybody: no violations by axe-core, everything by keyboard, the keys one key away."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import state, tap

AXE = Path(__file__).parents[2] / "ui" / "node_modules" / "axe-core" / "axe.min.js"


def _violations(page: Page) -> list[str]:
    page.evaluate(AXE.read_text())
    found = page.evaluate("async () => (await axe.run(document)).violations")
    return [f"{v['id']}: {v['nodes'][0]['html'][:120]}" for v in found]


@pytest.mark.parametrize("night", [False, True])
@pytest.mark.parametrize("view", ["tracks", "bench", "handover"])
def test_no_view_has_violations(page: Page, full_song: int, view: str, night: bool) -> None:
    page.goto(f"/{view}")
    expect(page.get_by_role("button", name="Play")).to_be_enabled()
    if view == "bench":
        page.keyboard.press("l")
        page.keyboard.press("c")
        expect(page.get_by_role("group", name="Move 1")).to_be_visible()
    if night:
        page.get_by_role("button", name="Night").click()
        page.mouse.move(5, 5)
    assert _violations(page) == []


def test_the_keys_are_one_key_away_and_name_every_action(page: Page, full_song: int) -> None:
    page.goto("/bench")
    expect(page.get_by_role("heading", name="Marimba", exact=True)).to_be_visible()
    page.keyboard.press("?")
    dialog = page.get_by_role("dialog", name="Keys")
    expect(dialog).to_be_visible()
    for words in (
        "hold: probe at the line",
        "cut where the line is",
        "undo",
        "play or pause",
        "untreated or treated; held: only meanwhile",
    ):
        expect(dialog.get_by_text(words, exact=True)).to_be_visible()
    assert _violations(page) == []
    page.keyboard.press("Escape")
    expect(dialog).to_be_hidden()


def test_the_job_can_be_done_without_a_mouse(page: Page, address: str, full_song: int) -> None:
    page.goto("/bench")
    expect(page.get_by_role("button", name="Play")).to_be_enabled()
    alone = page.get_by_role("button", name="This track")
    tap(page, "a")
    expect(alone).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("Space")
    expect(page.get_by_role("button", name="Pause")).to_be_visible()
    page.keyboard.press("l")
    for _ in range(5):
        page.keyboard.press("ArrowUp")
    page.keyboard.press("]")
    expect(page.get_by_label("width in oct")).to_have_value("0.11")
    page.keyboard.down("p")
    expect(page.get_by_text(re.compile("held back"))).to_be_visible()
    page.keyboard.up("p")
    page.keyboard.press("c")
    expect(page.get_by_role("group", name="Move 1")).to_be_visible()
    move = state(address, full_song)["tracks"][0]["moves"][0]
    assert move["frequency_hz"] == pytest.approx(1_000 * 2 ** (5 / 48), rel=0.001)
    page.keyboard.press("e")
    expect(page.get_by_role("button", name="Move 1 on")).to_have_attribute("aria-pressed", "false")
    page.keyboard.press("d")
    expect(page.get_by_role("group", name="Move 2")).to_be_visible()
    page.keyboard.press("h")
    expect(page.get_by_role("button", name="Hear alone")).to_have_attribute("aria-pressed", "true")
    handle = page.get_by_role("button", name=re.compile("^Move 2: Bell"))
    handle.focus()
    page.keyboard.press("ArrowRight")
    expect(page.get_by_role("button", name=re.compile(r"^Move 2: .* −5.5 dB"))).to_be_visible()
    page.keyboard.press("Delete")
    expect(page.get_by_role("group", name="Move 2")).to_be_hidden()
    page.keyboard.press("Control+z")
    expect(page.get_by_role("button", name=re.compile(r"^Move 2: Bell"))).to_be_visible()
    page.keyboard.press("Control+ArrowDown")
    expect(page.get_by_role("heading", name="Second Marimba")).to_be_visible()
    page.keyboard.press("5")
    expect(page.get_by_role("button", name="Write 2 stems")).to_be_visible()


def test_a_held_probe_ends_when_the_window_is_left(page: Page, full_song: int) -> None:
    page.goto("/bench")
    expect(page.get_by_role("button", name="Play")).to_be_enabled()
    page.keyboard.down("p")
    expect(page.get_by_text(re.compile("held back"))).to_be_visible()
    page.evaluate("window.dispatchEvent(new Event('blur'))")
    expect(page.get_by_text("hold P to sweep")).to_be_visible()
    page.keyboard.up("p")
