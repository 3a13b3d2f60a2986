"""Moves that listen, on the real page: a threshold by dragging, a key, more of the same, what comes behind."""

from __future__ import annotations

import re
from pathlib import Path

import httpx
import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from tests.browser.conftest import choose, settled
from tests.browser.test_access import _violations
from tests.patience import until
from tests.scenes import song_with

RATE = 48_000
BLIPS_S = (1.0, 2.5, 4.0, 6.2)


@pytest.fixture(scope="session")
def blips_wav(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Eight seconds of soft noise with a tone of 3 kHz that comes four times."""
    random = np.random.default_rng(0)
    x = random.standard_normal(8 * RATE) * 0.01
    t = np.arange(round(0.1 * RATE)) / RATE
    for at in BLIPS_S:
        x[round(at * RATE) : round(at * RATE) + len(t)] += 0.3 * np.sin(2 * np.pi * 3_000 * t) * np.hanning(len(t))
    path = tmp_path_factory.mktemp("blips") / "blips.wav"
    soundfile.write(path, x, RATE, subtype="PCM_24")
    return path


@pytest.fixture
def song(address: str, blips_wav: Path) -> int:
    return song_with(address, ("01_Blips.wav", blips_wav), ("02_Other.wav", blips_wav))


def _bench(page: Page) -> None:
    page.goto("/tracks")
    page.get_by_role("listitem", name="Blips", exact=True).get_by_role("button", name="Bench").click()
    expect(page.get_by_role("heading", name="Blips", exact=True)).to_be_visible()
    expect(page.get_by_role("button", name="Play")).to_be_enabled()


def _add(page: Page, label: str) -> None:
    choose(page, "Add a move", re.compile(f"^{label}"))


def _moves(address: str, song: int, track: int = 0) -> list[dict]:  # type: ignore[type-arg]
    return list(httpx.get(f"{address}/api/songs/{song}").json()["tracks"][track]["moves"])


def test_a_cut_listens_and_its_threshold_is_dragged_in_the_picture(page: Page, address: str, song: int) -> None:
    _bench(page)
    _add(page, "Bell")
    editor = page.get_by_role("group", name="Move 1")
    frequency = editor.get_by_label("Frequency in Hz")
    frequency.fill("3000")
    frequency.press("Enter")
    editor.get_by_role("button", name="Only when loud").click()
    line = page.get_by_role("slider", name="Threshold")
    expect(line).to_be_visible()
    expect(page.locator("[data-test=levels]")).to_contain_text("of the time")
    assert _moves(address, song)[0]["mode"] == "dynamic"
    before = float(line.get_attribute("aria-valuenow") or "nan")
    box = line.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 60, box["y"] + box["height"] / 2)
    page.mouse.down()
    page.mouse.move(box["x"] + 60, box["y"] + box["height"] / 2 - 25, steps=5)
    page.mouse.up()
    expect(line).not_to_have_attribute("aria-valuenow", str(before))
    expect(page.get_by_text(re.compile("All saved|Saved"))).to_be_visible()
    saved = _moves(address, song)[0]["threshold_db"]
    assert saved > before + 1
    line.press("ArrowDown")
    expect(line).to_have_attribute("aria-valuenow", f"{round(saved - 0.5, 1):g}")
    page.get_by_role("button", name="Set it for me").click()
    expect(line).not_to_have_attribute("aria-valuenow", f"{round(saved - 0.5, 1):g}")
    assert _violations(page) == []


def test_a_move_gives_way_to_another_track_and_still_hears_it_muted(page: Page, address: str, song: int) -> None:
    _bench(page)
    _add(page, "give way")
    choose(page, "Give way to", "Other")
    editor = page.get_by_role("group", name="Move 1")
    expect(editor.get_by_text("Key: listens to")).to_be_visible()
    (move,) = _moves(address, song)
    tracks = httpx.get(f"{address}/api/songs/{song}").json()["tracks"]
    assert move["key"]["source"] == tracks[1]["id"]
    httpx.patch(f"{address}/api/songs/{song}/tracks/{tracks[1]['id']}", json={"mute": True})
    expect(editor.get_by_text("Other is muted, but the move still hears it.")).to_be_visible()
    page.get_by_role("button", name="Play").click()
    expect(page.get_by_role("button", name="Pause")).to_be_visible()
    key = editor.get_by_role("button", name="Hear its key")
    key.click()
    expect(key).to_have_attribute("aria-pressed", "true")  # as the session says
    key.click()
    expect(key).to_have_attribute("aria-pressed", "false")


def test_more_like_a_marked_spot_becomes_a_cut_at_those_moments_only(page: Page, address: str, song: int) -> None:
    _bench(page)
    canvas = page.locator("[data-test=map]")
    box = canvas.bounding_box()
    assert box is not None
    httpx.patch(f"{address}/api/songs/{song}", json={"passage_from_s": None, "passage_to_s": None})
    # the axis: 20 Hz to 20 kHz from the bottom to the top, the song from left to right
    y = lambda hz: box["y"] + box["height"] * (1 - np.log(hz / 20) / np.log(1_000))  # noqa: E731
    x = lambda s: box["x"] + box["width"] * s / 8.0  # noqa: E731
    page.keyboard.down("Shift")
    page.mouse.move(x(BLIPS_S[1]), y(2_600))
    page.mouse.down()
    page.mouse.move(x(BLIPS_S[1] + 0.12), y(3_500), steps=6)
    page.mouse.up()
    page.keyboard.up("Shift")
    bar = page.locator("[data-test=alike]")
    expect(bar).to_contain_text(f"{len(BLIPS_S)} like it")
    bar.get_by_role("button", name=re.compile("^Leave out 4")).click()
    bar.get_by_role("button", name="Cut these 3").click()
    expect(page.get_by_text("Acts at 3 marked moments only.")).to_be_visible()
    (move,) = _moves(address, song)
    starts = [a for a, _ in move["stretches"]]
    assert np.allclose(starts, [BLIPS_S[0], BLIPS_S[1], BLIPS_S[3]], atol=0.06)


def test_what_comes_behind_is_heard_and_exported(page: Page, address: str, song: int) -> None:
    _bench(page)
    rail = page.locator("[data-test=aftercare]")
    expect(rail).to_contain_text("nothing")
    rail.locator("summary").click()
    rail.get_by_role("button", name="Add a compressor").click()
    expect(rail.locator("summary")).to_contain_text("compressor 3.0:1")
    rail.get_by_role("group", name="Clip").get_by_role("button").click()
    expect(rail.locator("summary")).to_contain_text("clip")
    care = httpx.get(f"{address}/api/songs/{song}").json()["tracks"][0]["aftercare"]
    assert -40.0 < care["compressors"][0]["threshold_db"] < -6.0  # fitted to the passage
    assert care["clip"]["hardness"] == 0.5
    output = rail.get_by_label("Output in dB")
    rail.get_by_role("button", name="Match level").click()
    expect(output).not_to_have_value("0.0")
    care = httpx.get(f"{address}/api/songs/{song}").json()["tracks"][0]["aftercare"]
    assert float(output.input_value().replace("\u2212", "-").replace("+", "")) == care["output_db"] > 0.0
    page.get_by_role("link", name="Handover").click()
    expect(page.get_by_role("combobox", name="Behind the moves")).to_be_visible()


def test_a_square_is_dragged_across_the_rail_and_back(page: Page, address: str, song: int) -> None:
    _bench(page)
    _add(page, "Bell")
    until(lambda: len(_moves(address, song)) == 1)
    square = page.get_by_role("button", name="Move 1 on")
    rail = page.locator("[data-test=aftercare]")

    def carry(beyond: int) -> None:
        """To the other side of the rail; again if something came in meanwhile and moved it from under the pointer."""
        settled(page, rail)
        box, edge = square.bounding_box(), rail.bounding_box()
        assert box
        assert edge
        page.mouse.move(box["x"] + 9, box["y"] + 9)
        page.mouse.down()
        page.mouse.move(box["x"] + 9, box["y"] + 20)
        page.mouse.move(box["x"] + 9, edge["y"] + (edge["height"] + beyond if beyond > 0 else beyond))
        page.mouse.up()
        page.wait_for_timeout(1_000)

    def is_placed(where: str, beyond: int) -> bool:
        (move,) = _moves(address, song)
        if move["place"] != where:
            carry(beyond)
        return bool(move["place"] == where)

    until(lambda: is_placed("behind", 20))
    behind = page.get_by_role("list", name="Moves behind it")
    expect(behind.get_by_role("button", name="Move 1 on")).to_be_visible()
    expect(page.get_by_text(re.compile("^(All saved|Saved)"))).to_be_visible()
    (move,) = _moves(address, song)
    assert (move["place"], move["enabled"]) == ("behind", True)  # carried, not switched
    until(lambda: is_placed("before", -20))
    expect(behind).to_have_count(0)
    expect(page.get_by_text(re.compile("^(All saved|Saved)"))).to_be_visible()
    assert _moves(address, song)[0]["place"] == "before"


def test_an_adaptive_move_is_heard_seen_and_frozen_into_moves(page: Page, address: str, song: int) -> None:
    _bench(page)
    _add(page, "[Ww]hatever stands out")
    editor = page.get_by_role("group", name="Move 1")
    takes = editor.get_by_role("button", name="Hear what is taken")
    takes.press("Enter")  # by keys: the pictures that come in meanwhile move it
    expect(page.get_by_role("button", name="Removed only")).to_have_attribute("aria-pressed", "true")
    takes.press("Enter")
    editor.get_by_role("button", name="Freeze into moves").press("Enter")
    expect(page.get_by_text(re.compile(r"\d+ moves? do(es)? \d+ % of what it took"))).to_be_visible()
    old, *made = _moves(address, song)
    assert not old["enabled"]
    assert made
    assert any(abs(np.log2(m["frequency_hz"] / 3_000.0)) < 0.1 and m["stretches"] for m in made)
    expect(page.locator(".handle")).to_have_count(1 + len(made))
    page.get_by_role("button", name="Undo").click()
    expect(page.locator(".handle")).to_have_count(1)
    assert _moves(address, song)[0]["enabled"]


def test_the_band_of_a_move_is_held_alone_and_let_go(page: Page, address: str, song: int) -> None:
    _bench(page)
    _add(page, "Bell")
    button = page.get_by_role("group", name="Move 1").get_by_role("button", name="Hear its band")
    button.click()
    expect(button).to_have_attribute("aria-pressed", "true")
    expect(page.get_by_role("button", name="Alone", exact=True)).to_have_attribute("aria-pressed", "true")
    button.click()
    expect(button).to_have_attribute("aria-pressed", "false")


def test_where_nothing_stays_a_sentence_says_so(page: Page, song: int) -> None:
    _bench(page)
    _add(page, "what stays while the others play")
    asks = page.get_by_role("group", name="Learn what stays")
    asks.get_by_label("from").fill("300")
    sent: list[str] = []
    page.on("request", lambda request: sent.append(request.post_data or "") if request.url.endswith("/learn") else None)
    asks.get_by_role("button", name="Learn").click()
    expect(page.get_by_text("Nothing narrow stays in Blips beyond what the others play")).to_be_visible()
    expect(page.locator(".handle")).to_have_count(0)
    assert ['"from_hz":300' in body for body in sent] == [True]
