"""Habits of the hand in the real page: rungs, sets, twins, recipes, balance, snapshots, order, bypass, company, typing."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from mivlo.core.graph import treat
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.units import octaves_to_q
from tests.browser.conftest import choose, settled, state, tap
from tests.browser.test_access import _violations
from tests.patience import until
from tests.web.server import go_back, last_edit, send_file

RATE = 48_000


@pytest.fixture(scope="module")
def begun(address: str, db_of_module: None, tmp_path_factory: pytest.TempPathFactory) -> tuple[int, int]:
    """Two takes of noise that ring at 500 and at 550 Hz, the second one brighter; and their last edit."""
    folder = tmp_path_factory.mktemp("takes")
    song = httpx.post(f"{address}/api/songs", json={"name": "Weir", "sample_rate": RATE}).json()["id"]
    for seed, (name, hz) in enumerate((("01_One.wav", 500.0), ("02_Two.wav", 550.0))):
        x = np.random.default_rng(seed).standard_normal((4 * RATE, 1)) * 0.02
        ring = StaticMove(Shape.BELL, hz, q=octaves_to_q(0.1), gain_db=14.0)
        bright = StaticMove(Shape.HIGH_SHELF, 3_000.0, gain_db=6.0 * seed)
        soundfile.write(folder / name, treat(x, [ring, bright], sample_rate=RATE), RATE, subtype="FLOAT")
        send_file(address, song, folder / name, name)
    return song, last_edit(address, song)


@pytest.fixture
def song(address: str, begun: tuple[int, int]) -> int:
    go_back(address, *begun)
    return begun[0]


def _moves(address: str, song: int, track: int = 0) -> list[dict[str, Any]]:
    return list(state(address, song)["tracks"][track]["moves"])


def _add(address: str, song: int, **values: Any) -> None:
    body = {"shape": "bell", "frequency_hz": 500.0, "q": octaves_to_q(0.1), "gain_db": -8.0, **values}
    track = state(address, song)["tracks"][0]["id"]
    httpx.post(f"{address}/api/songs/{song}/tracks/{track}/moves", json=body).raise_for_status()


def _bench(page: Page, address: str, song: int) -> None:
    track = state(address, song)["tracks"][0]["id"]
    page.goto(f"/bench/{track}")
    expect(page.get_by_role("heading", name="One", exact=True)).to_be_visible()


def test_rungs_are_pulled_heard_and_turned_into_moves(page: Page, address: str, song: int) -> None:
    _bench(page, address, song)
    page.keyboard.press("Shift+R")
    rows = page.get_by_role("slider", name=re.compile("^Rung at"))
    expect(rows).to_have_count(33)
    rows.nth(12).focus()
    for _ in range(6):
        page.keyboard.press("ArrowLeft")
    expect(rows.nth(12)).to_have_attribute("aria-valuenow", "-3")
    until(lambda: _moves(address, song)[0]["gains_db"][12] == -3.0)
    page.keyboard.press("ArrowUp")
    expect(rows.nth(13)).to_be_focused()
    # by drag: to the right, up
    box = rows.nth(20).bounding_box()
    assert box
    page.mouse.move(box["x"] + 60, box["y"] + 4)
    page.mouse.down()
    page.mouse.move(box["x"] + 100, box["y"] + 4, steps=4)
    page.mouse.up()
    until(lambda: _moves(address, song)[0]["gains_db"][20] > 1.0)
    # heard alone, and several together
    rows.nth(12).focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name=re.compile("^Hear the rung"), pressed=True)).to_have_count(1)
    rows.nth(14).focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name=re.compile("^Hear the rung"), pressed=True)).to_have_count(2)
    assert _violations(page) == []
    page.get_by_role("spinbutton", name="Bands").fill("26")
    page.keyboard.press("Enter")
    expect(rows).to_have_count(26)
    page.get_by_role("button", name="Turn into moves").click()
    expect(page.get_by_text(re.compile(r"follows? the rungs within \d\.\d dB RMS"))).to_be_visible()
    until(lambda: {m["mode"] for m in _moves(address, song)} == {"static"})


def test_a_set_of_harmonics_moves_together_until_one_is_changed_alone(page: Page, address: str, song: int) -> None:
    _bench(page, address, song)
    choose(page, "Add a move", "Set of harmonics …")
    part = page.get_by_role("group", name="Set of harmonics")
    frequency = part.get_by_role("spinbutton", name="from in Hz")
    frequency.fill("F#3")
    frequency.press("Enter")
    expect(part).to_contain_text("F♯3: 185, 370, 740")
    part.get_by_role("button", name="Make 5 moves").click()
    expect(page.get_by_text("set: F♯3, five octaves")).to_be_visible()
    page.get_by_role("button", name=re.compile("^Bell ≡ 370")).press("Enter")
    editor = page.get_by_role("group", name="Move 2")
    gain = editor.get_by_role("spinbutton", name="Gain in dB")
    gain.fill("-18/2")
    gain.press("Enter")
    until(lambda: [m["gain_db"] for m in _moves(address, song)] == [-9.0] * 5)
    editor.get_by_role("button", name="This one alone").press("Enter")
    gain.fill("-3 dB")
    gain.press("Enter")
    until(lambda: [m["gain_db"] for m in _moves(address, song)] == [-9.0, -3.0, -9.0, -9.0, -9.0])
    # what can't be read is said, and changes nothing
    gain.fill("loud")
    gain.press("Enter")
    expect(page.get_by_text("“loud” can't be read as gain. Write it like -3 or -6/2.")).to_be_visible()
    expect(gain).to_have_value("−3.0")
    editor.get_by_role("button", name="Reset").press("Enter")
    until(lambda: _moves(address, song)[1]["gain_db"] == -6.0)


def test_a_move_gets_a_twin_that_is_re_tuned(page: Page, address: str, song: int) -> None:
    _add(address, song)
    _bench(page, address, song)
    page.get_by_role("button", name=re.compile("^Bell 500")).press("Enter")
    page.get_by_role("button", name="Twins …").press("Enter")
    several = page.get_by_role("combobox", name="Twins on")
    several.press("ArrowDown")
    page.get_by_role("option", name="Two", exact=True).filter(visible=True).click()
    several.press("Escape")
    page.get_by_role("button", name="Make twins").press("Enter")
    until(lambda: len(_moves(address, song, 1)) == 1)
    assert abs(1200 * np.log2(_moves(address, song, 1)[0]["frequency_hz"] / 550.0)) < 25


def test_a_recipe_is_kept_and_a_sheet_brought_in(page: Page, address: str, song: int, tmp_path: Path) -> None:
    _add(address, song)
    _bench(page, address, song)
    choose(page, "Add a move", "Recipe or sheet …")
    part = page.get_by_role("group", name="Recipes")
    expect(part.get_by_role("button", name=re.compile("Ring of a hand drum"))).to_be_visible()
    part.get_by_role("button", name="Keep this treatment …").press("Enter")
    part.get_by_role("textbox", name="Name of the recipe").fill("Weir ring")
    part.get_by_role("textbox", name="When to use it").fill("For the weir.")
    part.get_by_role("button", name="Keep", exact=True).press("Enter")
    expect(part.get_by_role("button", name=re.compile("^Weir ring"))).to_be_visible()
    sheet = {"format": "mivlo-sheet", "version": 1, "moves": [{"shape": "low_cut", "frequency_hz": 70}]}
    (tmp_path / "low.json").write_text(json.dumps(sheet))
    part.get_by_label("Sheet file").set_input_files(tmp_path / "low.json")
    until(lambda: [m["shape"] for m in _moves(address, song)] == ["bell", "low_cut"])
    choose(page, "Add a move", "Recipe or sheet …")
    part.get_by_role("button", name="Forget Weir ring").press("Enter")
    expect(part.get_by_role("button", name=re.compile("^Weir ring"))).to_have_count(0)


def test_the_bands_of_all_moves_are_heard_together_and_a_set_is_swept_and_cut(
    page: Page, address: str, song: int
) -> None:
    for hz in (500.0, 1_500.0):
        _add(address, song, frequency_hz=hz)
    _bench(page, address, song)
    together = page.get_by_role("button", name="Hear the bands of all moves")
    together.click()
    expect(together).to_have_attribute("aria-pressed", "true")
    expect(page.get_by_role("group", name="Probe").get_by_role("button", name="Alone")).to_have_attribute(
        "aria-pressed", "true"
    )
    expect(page.get_by_text(re.compile("held back"))).to_be_visible()
    together.click()
    expect(together).to_have_attribute("aria-pressed", "false")
    # a set: swept, and cut as a group
    count = page.get_by_role("spinbutton", name="set of")
    count.fill("3")
    count.press("Enter")
    page.get_by_role("heading", name="One", exact=True).click()
    page.keyboard.press("l")
    expect(page.locator("[data-test=others]")).to_be_attached()
    page.keyboard.press("c")
    until(lambda: len(_moves(address, song)) == 5)
    made = _moves(address, song)[2:]
    assert [round(m["frequency_hz"] / made[0]["frequency_hz"]) for m in made] == [1, 2, 4]
    assert len({m["links"][0] for m in made}) == 1
    # read as notes
    page.keyboard.press("Shift+N")
    expect(page.get_by_role("button", name=re.compile("^Bell B4"))).to_be_visible()  # 500 Hz
    page.keyboard.press("Shift+N")


def test_a_balance_is_seen_heard_and_taken(page: Page, address: str, song: int, tmp_path: Path) -> None:
    _bench(page, address, song)
    choose(page, "Add a move", "Balance towards another sound …")
    choose(page, "Balance towards", "Two")
    part = page.get_by_role("group", name="Balance")
    expect(part.get_by_role("status")).to_contain_text(re.compile(r"differ by \d+\.\d dB RMS"))
    part.get_by_role("button", name="Hear them").press("Enter")
    part.get_by_role("button", name=re.compile("^Make (it|them)")).press("Enter")
    until(lambda: len(_moves(address, song)) > 0)
    assert all(m["gain_db"] < 0 and m["links"] == ["balance"] for m in _moves(address, song))
    # towards a file, and towards its own other half
    choose(page, "Add a move", "Balance towards another sound …")
    dark = treat(
        np.random.default_rng(5).standard_normal((2 * RATE, 1)) * 0.05,
        [StaticMove(Shape.HIGH_SHELF, 1_000.0, gain_db=-12.0)],
        sample_rate=RATE,
    )
    soundfile.write(tmp_path / "dark.wav", dark, RATE, subtype="PCM_24")
    part.get_by_label("Reference file").set_input_files(tmp_path / "dark.wav")
    expect(part.get_by_role("status")).to_contain_text(re.compile(r"differ by \d+\.\d dB RMS"))
    count = len(_moves(address, song))
    part.get_by_role("button", name=re.compile("^Make (it|them)")).press("Enter")
    until(lambda: len(_moves(address, song)) > count)
    assert httpx.get(f"{address}/api/songs/{song}/history").json()[0]["label"] == "One: balance towards dark.wav"
    choose(page, "Add a move", "Balance towards another sound …")
    choose(page, "Balance towards", "this track at other times")
    expect(part.get_by_role("status")).to_contain_text(re.compile(r"differ by \d+\.\d dB RMS"))


def test_snapshots_and_history_bring_the_song_back(page: Page, address: str, song: int) -> None:
    _add(address, song)
    _bench(page, address, song)
    page.keyboard.press("Shift+S")
    until(lambda: len(httpx.get(f"{address}/api/songs/{song}/snapshots").json()) == 1)
    page.get_by_role("button", name=re.compile("^Bell 500")).press("Enter")
    gain = page.get_by_role("spinbutton", name="Gain in dB")
    gain.fill("-2")
    gain.press("Enter")
    until(lambda: _moves(address, song)[0]["gain_db"] == -2.0)
    page.get_by_role("button", name="Snapshots").click()
    menu = page.get_by_role("group", name="Snapshots")
    menu.get_by_role("textbox", name="Name of the snapshot").fill("shallow")
    menu.get_by_role("button", name="Keep One").press("Enter")
    expect(menu.get_by_role("button", name=re.compile("^shallow"))).to_be_visible()
    page.keyboard.press("Escape")
    page.get_by_role("heading", name="One", exact=True).click()
    tap(page, "s")
    until(lambda: _moves(address, song)[0]["gain_db"] == -8.0)
    tap(page, "s")
    until(lambda: _moves(address, song)[0]["gain_db"] == -2.0)
    # side by side: with the state of now, then with the other one
    page.get_by_role("button", name="Snapshots").click()
    menu.get_by_role("button", name="Compare shallow").click()
    both = page.get_by_role("dialog", name="One, side by side")
    expect(both.get_by_role("img", name="Change by frequency")).to_be_visible()
    expect(both.get_by_role("columnheader")).to_have_text(["shallow", "as it is now"])
    expect(both.get_by_role("row", name="kept in the mix").get_by_role("cell").first).to_have_text(
        re.compile(r"^\d+ %$")
    )
    choose(page, "Beside which", "Snapshot 1")
    expect(both.get_by_role("columnheader")).to_have_text(["shallow", "Snapshot 1"])
    both.get_by_role("button", name="Close").click()
    page.get_by_role("button", name="History").click()
    page.get_by_role("list", name="History").get_by_role("button", name=re.compile("add bell 500")).first.press("Enter")
    until(lambda: _moves(address, song)[0]["gain_db"] == -8.0)


def test_a_range_that_must_stay_is_marked_and_a_cut_there_asks_once(page: Page, address: str, song: int) -> None:
    _bench(page, address, song)
    panel = page.locator("[data-test=treatment]")
    settled(page, panel)
    box = panel.bounding_box()
    assert box
    page.mouse.move(box["x"] + 20, box["y"] + box["height"] / 2)
    page.keyboard.press("k")
    until(lambda: len(state(address, song)["tracks"][0]["kept"]) == 1)
    page.keyboard.press("c")
    asked = page.get_by_role("dialog", name="Keep")
    expect(asked).to_contain_text("are marked to stay")
    asked.get_by_role("button", name="Leave it").click()
    expect(asked).to_be_hidden()
    assert _moves(address, song) == []
    page.mouse.move(box["x"] + 22, box["y"] + box["height"] / 2)
    page.keyboard.press("c")
    asked.get_by_role("button", name="Cut").click()
    until(lambda: len(_moves(address, song)) == 1)
    expect(asked).to_be_hidden()
    page.mouse.move(box["x"] + 20, box["y"] + box["height"] / 2)
    page.keyboard.press("c")
    until(lambda: len(_moves(address, song)) == 2)
    page.keyboard.press("k")
    until(lambda: state(address, song)["tracks"][0]["kept"] == [])


def _last_first(page: Page, address: str, song: int, *, shifted: bool = False) -> None:
    """Drag the last move to the top, and let go of it once the page says that it would land there: then it does."""
    rows = page.locator("[data-move]")
    moves = _moves(address, song)
    expect(rows).to_have_count(len(moves))

    def is_carried_to_the_top() -> bool:
        settled(page, rows.last)
        square = page.get_by_role("button", name=f"Move {len(moves)} on").bounding_box()
        onto = rows.first.bounding_box()
        assert square
        assert onto
        page.mouse.move(square["x"] + 9, square["y"] + 8)
        page.mouse.down()
        page.mouse.move(square["x"] + 9, square["y"] - 12)
        page.mouse.move(onto["x"] + 40, onto["y"] + 8)
        if "target" in str(rows.first.get_attribute("class")):
            return True
        page.mouse.move(5, 5)  # what came in has moved it from under the pointer: nothing happens here
        page.mouse.up()
        return False

    until(is_carried_to_the_top)
    if shifted:  # something that comes in above before the button is let go
        rows.first.evaluate("row => { row.parentElement.style.marginTop = '120px'; }")
    page.mouse.up()
    until(lambda: bool(_moves(address, song)[0]["id"] == moves[-1]["id"]))


def test_what_a_later_threshold_sees_after_a_change_of_order_is_told(page: Page, address: str, song: int) -> None:
    _add(address, song, gain_db=-24.0)
    listens = {"mode": "dynamic", "threshold_db": -46.0, "range_db": -6.0}
    _add(address, song, **listens, gain_db=0.0)
    _bench(page, address, song)
    _last_first(page, address, song)
    expect(page.get_by_text(re.compile(r"move 1 acts \d+ % of the time now, \d+ % before"))).to_be_visible()
    page.get_by_role("button", name="dB", exact=True).click()
    expect(page.get_by_role("button", name="±6 dB")).to_be_visible()


def test_moves_are_dragged_into_another_order(page: Page, address: str, song: int) -> None:
    for hz in (100.0, 200.0, 300.0):
        _add(address, song, frequency_hz=hz)
    _bench(page, address, song)
    _last_first(page, address, song, shifted=True)
    assert [m["frequency_hz"] for m in _moves(address, song)] == [300.0, 100.0, 200.0]
    # one by one: the chosen one alone, then the next
    page.get_by_role("button", name="each alone").press("Enter")
    page.get_by_role("heading", name="One", exact=True).click()
    page.keyboard.press("n")
    expect(page.locator("li.chosen")).to_have_count(1)
    page.get_by_role("button", name="each alone").press("Enter")
    choose(page, "Add a move", "Reset: no treatment")
    until(lambda: _moves(address, song) == [])


def test_all_treatments_are_switched_and_the_track_is_heard_in_company(page: Page, address: str, song: int) -> None:
    _add(address, song, gain_db=-24.0, q=0.4)
    _bench(page, address, song)
    expect(page.get_by_text(re.compile("^This guts the track: it cuts deeper than 8 dB from"))).to_be_visible()
    page.get_by_role("heading", name="One", exact=True).click()
    tap(page, "q")
    off = page.get_by_role("button", name=re.compile("^All treatments off"))
    expect(off).to_have_attribute("aria-pressed", "true")
    expect(off).to_contain_text(re.compile(r"−\d+\.\d dB"))  # as loud as with them
    tap(page, "q")
    expect(off).to_have_attribute("aria-pressed", "false")
    page.keyboard.press("Shift+M")
    expect(page.get_by_role("button", name="Mono")).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("Shift+D")
    expect(page.get_by_role("button", name="Dim")).to_have_attribute("aria-pressed", "true")
    # alone, with the other one, in the mix
    page.get_by_role("button", name="Two is heard together with another").press("Enter")
    page.get_by_role("heading", name="One", exact=True).click()
    hear = page.get_by_role("group", name="Hear")
    for name in ("This track", "With 1", "In the mix"):
        tap(page, "a")
        expect(hear.get_by_role("button", name=name)).to_have_attribute("aria-pressed", "true")
    page.get_by_role("button", name="Play").click()
    expect(page.locator("[data-test=levels]")).to_contain_text(
        re.compile(r"in −\d+\.\d out −\d+\.\d LUFS, −\d+\.\d LU")
    )
    assert _violations(page) == []
