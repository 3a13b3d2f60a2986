"""The whole story as a person lives it: import, loop, sweep, cut, compare, undo, reload, export."""

from __future__ import annotations

import io
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
from mivlo.core.units import cents_between, octaves_to_q
from tests.browser.conftest import state, tap
from tests.patience import until


def _at(page: Page, panel: str, share_x: float, share_y: float) -> tuple[float, float]:
    box = page.locator(f"[data-test={panel}]").bounding_box()
    assert box is not None
    return box["x"] + box["width"] * share_x, box["y"] + box["height"] * share_y


def _pressed(page: Page, name: str) -> None:
    expect(page.get_by_role("button", name=name, exact=True)).to_have_attribute("aria-pressed", "true")


def _open_bench(page: Page, name: str = "Marimba") -> None:
    page.goto("/tracks")
    row = page.get_by_role("listitem", name=name, exact=True)
    row.get_by_role("button", name="Bench").press("Enter")  # by keys: what is told above the rows moves them
    expect(page.get_by_role("heading", name=name, exact=True)).to_be_visible()
    expect(page.get_by_role("button", name="Play")).to_be_enabled()


def _y_of(hz: float) -> float:
    """Share of the panels' height: 20 Hz to 20.48 kHz, ten octaves."""
    return 1.0 - float(np.log2(hz / 20.0)) / 10.0


def test_from_raw_files_to_treated_stems(
    page: Page, address: str, empty_song: int, marimba_wav: Path, tmp_path: Path
) -> None:
    # import: two good files and a bad one
    (tmp_path / "notes.wav").write_bytes(b"not sound")
    page.goto("/tracks")
    expect(page.get_by_text("No tracks yet")).to_be_visible()
    page.locator("[data-test=picker]").set_input_files(
        [
            {"name": "01_Marimba.wav", "mimeType": "audio/wav", "buffer": marimba_wav.read_bytes()},
            {"name": "notes.wav", "mimeType": "audio/wav", "buffer": b"not sound"},
            {"name": "02_Low_Marimba.wav", "mimeType": "audio/wav", "buffer": marimba_wav.read_bytes()},
        ]
    )
    expect(page.get_by_role("listitem", name="Low Marimba", exact=True)).to_be_visible()
    expect(page.get_by_role("listitem", name="Marimba", exact=True)).to_be_visible()
    expect(page.get_by_text("Could not read notes.wav: this is not a sound file we know")).to_be_visible()

    # loop: a passage by dragging over a lane
    lane = page.get_by_role("listitem", name="Marimba", exact=True).get_by_role("img", name=re.compile("^Waveform"))
    box = lane.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + box["width"] * 0.25, box["y"] + 10)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + 10, steps=5)
    page.mouse.up()
    expect(page.get_by_text(re.compile(r"^passage 0:0"))).to_be_visible()
    song = state(address, empty_song)
    assert song["passage_from_s"] == pytest.approx(song["duration_s"] * 0.25, rel=0.03)

    # sweep: play, then press in the profile and move
    _open_bench(page)
    page.get_by_role("button", name="This track").click()
    _pressed(page, "This track")
    page.get_by_role("button", name="Play").click()
    expect(page.get_by_role("button", name="Pause")).to_be_visible()
    page.get_by_role("button", name="Pull", exact=True).click()  # what is found must not draw the line away
    expect(page.get_by_role("button", name="Pull", exact=True)).to_have_attribute("aria-pressed", "false")
    page.mouse.move(*_at(page, "profile", 0.5, _y_of(300)))
    page.mouse.down()
    expect(page.get_by_text(re.compile("held back"))).to_be_visible()
    page.mouse.move(*_at(page, "profile", 0.5, _y_of(700)), steps=10)
    expect(page.locator("[data-test=readout]")).to_contain_text(re.compile(r"(69|70)\d Hz · F5"))
    page.mouse.up()
    expect(page.get_by_text("hold P to sweep")).to_be_visible()

    # cut: one key, then typed values
    page.keyboard.press("c")
    editor = page.get_by_role("group", name="Move 1")
    expect(editor).to_be_visible()
    move = state(address, empty_song)["tracks"][0]["moves"][0]
    assert abs(cents_between(700.0, move["frequency_hz"])) < 60
    assert move["gain_db"] == -6.0
    assert move["q"] == pytest.approx(octaves_to_q(0.15), rel=0.001)
    editor.get_by_label("Frequency in Hz").fill("698,5")
    editor.get_by_label("Frequency in Hz").press("Enter")
    editor.get_by_label("Gain in dB").fill("-9")
    editor.get_by_label("Gain in dB").press("Enter")
    expect(page.get_by_role("button", name=re.compile(r"Bell 699 Hz .* −9.0 dB"))).to_be_visible()

    # compare: playing goes on
    for signal, key in (("Untreated", "t"), ("Removed only", "r")):
        page.locator("body").click(position={"x": 640, "y": 60})
        page.keyboard.press(key)
        _pressed(page, signal)
    tap(page, "r")
    _pressed(page, "Treated")
    expect(page.get_by_role("button", name="Pause")).to_be_visible()
    expect(page.locator("[data-test=match]")).not_to_contain_text(" 0.0 LU")

    # undo, reload, redo
    page.keyboard.press("Control+z")
    expect(page.get_by_role("button", name=re.compile(r"Bell 699 Hz .* −6.0 dB"))).to_be_visible()
    page.reload()
    expect(page.get_by_role("button", name=re.compile(r"Bell 699 Hz .* −6.0 dB"))).to_be_visible()
    page.get_by_role("button", name="Redo").click()
    expect(page.get_by_role("button", name=re.compile(r"Bell 699 Hz .* −9.0 dB"))).to_be_visible()

    # export: what comes out is the treated file
    page.get_by_role("link", name="Handover").click()
    page.get_by_role("combobox", name="Depth").press("Enter")
    page.get_by_role("option", name="32 bit float").click()
    page.get_by_text("Low Marimba", exact=True).first.click()
    page.get_by_role("button", name="Write 1 stem").click()
    with page.expect_download() as download:
        page.get_by_role("link", name="01_Marimba.wav").click()
    stem, rate = soundfile.read(io.BytesIO(Path(download.value.path()).read_bytes()), always_2d=True)
    source, _ = soundfile.read(marimba_wav, always_2d=True)
    move = state(address, empty_song)["tracks"][0]["moves"][0]
    wanted = treat(source, [StaticMove(Shape.BELL, 698.5, q=move["q"], gain_db=-9.0)], sample_rate=rate)
    assert stem.shape == source.shape
    assert np.max(np.abs(stem - wanted)) < 1e-6
    assert np.max(np.abs(stem - source)) > 1e-3
    sheet = httpx.get(f"{address}/api/songs/{empty_song}/sheet.csv").text
    assert "Marimba,1,bell,698.5,F5 +0 ct,-9.0" in sheet


def _first_move(address: str, song_id: int) -> dict[str, Any]:
    move: dict[str, Any] = state(address, song_id)["tracks"][0]["moves"][0]
    return move


def test_a_handle_keeps_its_frequency_while_its_gain_is_dragged(page: Page, address: str, full_song: int) -> None:
    _open_bench(page)
    page.mouse.move(*_at(page, "profile", 0.5, _y_of(1_000)))
    page.keyboard.press("c")
    handle = page.get_by_role("button", name=re.compile("^Move 1: Bell"))
    expect(handle).to_be_visible()
    before = _first_move(address, full_song)
    box = handle.bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 30, y + 9, steps=6)  # to the right, and a little down
    page.mouse.up()
    expect(page.get_by_role("button", name="Undo")).to_have_attribute("title", re.compile("change bell"))
    after = _first_move(address, full_song)
    assert after["frequency_hz"] == before["frequency_hz"]
    assert after["gain_db"] > before["gain_db"] + 1
    box = handle.bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 9, y - 40, steps=6)
    page.mouse.up()
    until(lambda: _first_move(address, full_song) != after, "the second drag was not saved")
    moved = _first_move(address, full_song)
    assert moved["gain_db"] == after["gain_db"]
    assert moved["frequency_hz"] > after["frequency_hz"] * 1.2


def test_one_line_reads_the_same_frequency_in_every_panel(page: Page, full_song: int) -> None:
    _open_bench(page)
    readout = page.locator("[data-test=readout] strong")
    texts = set()
    for panel in ("map", "profile", "treatment"):
        page.mouse.move(*_at(page, panel, 0.5, _y_of(440.0)))
        texts.add(readout.inner_text())
    assert len(texts) == 1
    assert "A4" in texts.pop()


def test_zooming_keeps_the_panels_aligned(page: Page, full_song: int) -> None:
    _open_bench(page)
    page.mouse.move(*_at(page, "profile", 0.5, _y_of(440.0)))
    page.keyboard.press(">")
    page.keyboard.press(">")
    texts = set()
    for panel in ("map", "profile", "treatment"):
        page.mouse.move(*_at(page, panel, 0.5, 0.3))
        texts.add(page.locator("[data-test=readout] strong").inner_text())
    assert len(texts) == 1
    page.keyboard.press("0")
    page.mouse.move(*_at(page, "map", 0.5, _y_of(440.0)))
    expect(page.locator("[data-test=readout]")).to_contain_text("A4")


def test_sound_reaches_the_page_and_the_playhead_moves(page: Page, full_song: int) -> None:
    _open_bench(page)
    page.get_by_role("button", name="Play").click()
    position = page.locator("[data-test=position]")
    expect(position).not_to_have_text("0:00.0")
    first = position.inner_text()
    page.wait_for_function("before => document.querySelector('[data-test=position]').innerText !== before", arg=first)
    expect(page.get_by_role("img", name=re.compile(r"^Peak -\d"))).to_be_visible()
    page.get_by_role("button", name="Pause").click()
    expect(page.get_by_role("button", name="Play")).to_be_visible()


def test_a_deleted_track_comes_back_with_its_moves(page: Page, address: str, full_song: int) -> None:
    _open_bench(page, "Second Marimba")
    page.keyboard.press("l")
    page.keyboard.press("c")
    expect(page.get_by_role("group", name="Move 1")).to_be_visible()
    page.get_by_role("link", name="Tracks").click()
    page.get_by_role("button", name="Delete Second Marimba").click()
    expect(page.get_by_role("listitem", name="Second Marimba", exact=True)).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_role("listitem", name="Second Marimba", exact=True)).to_contain_text("Bench · 1")


def test_a_change_in_one_page_shows_in_the_other(page: Page, address: str, full_song: int) -> None:
    page.goto("/tracks")
    expect(page.get_by_label("Name of Marimba", exact=True)).to_be_visible()
    track = state(address, full_song)["tracks"][0]["id"]
    httpx.patch(f"{address}/api/songs/{full_song}/tracks/{track}", json={"name": "Rosewood"})
    expect(page.get_by_label("Name of Rosewood")).to_be_visible()


def test_tracks_are_renamed_reordered_and_mixed(page: Page, address: str, full_song: int) -> None:
    page.goto("/tracks")
    name = page.get_by_label("Name of Marimba", exact=True)
    name.fill("Rosewood")
    name.press("Enter")
    row = page.get_by_role("listitem", name="Rosewood")
    row.get_by_role("button", name="Mute Rosewood").click()
    row.get_by_label("Fader in dB").fill("-4.5")
    row.get_by_label("Fader in dB").press("Enter")
    row.get_by_label("Pan in %").press("ArrowDown")
    row.get_by_role("button", name="Role of Rosewood: mallets").click()
    page.get_by_role("option", name="percussion").click()
    page.get_by_role("button", name="Move Rosewood down").click()
    expect(page.get_by_role("listitem").nth(1)).to_have_attribute("aria-label", "Rosewood")
    track = state(address, full_song)["tracks"][1]
    assert (track["name"], track["mute"], track["fader_db"], track["pan"], track["role"]) == (
        "Rosewood",
        True,
        -4.5,
        -0.05,
        "percussion",
    )


def test_what_is_read_on_the_line_hides_nothing_and_can_be_switched_off(page: Page, full_song: int) -> None:
    _open_bench(page)
    page.mouse.move(*_at(page, "map", 0.5, _y_of(440.0)))
    readout = page.locator("[data-test=readout]")
    expect(readout).to_contain_text("A4")
    below, panel = readout.bounding_box(), page.locator("[data-test=map]").bounding_box()
    assert below is not None
    assert panel is not None
    assert below["y"] >= panel["y"] + panel["height"]
    page.keyboard.press("Shift+W")
    expect(readout).to_be_hidden()
    page.reload()  # it stays so
    expect(page.get_by_role("button", name="figures")).to_have_attribute("aria-pressed", "false")
