"""Going through what stands out, by keyboard: look, hear each way, accept, reject, undo, next."""

from __future__ import annotations

import json
import re
from pathlib import Path

import httpx
import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from mivlo.core.graph import treat
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.units import octaves_to_q
from tests.browser.conftest import state, tap
from tests.browser.test_access import _violations
from tests.core.findings.sounds import RATE, melody
from tests.scenes import song_with
from tests.web.server import send_file

RINGS_HZ = (847.0, 2_130.0)


@pytest.fixture(scope="session")
def ringing_wav(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Twelve seconds of a melody with two rings."""
    moves = [StaticMove(Shape.BELL, hz, q=octaves_to_q(0.1), gain_db=15.0) for hz in RINGS_HZ]
    path = tmp_path_factory.mktemp("ringing") / "vibes.wav"
    soundfile.write(path, treat(melody(length_s=12.0)[:, None], moves, sample_rate=RATE), RATE, subtype="PCM_24")
    return path


@pytest.fixture
def ringing_song(address: str, ringing_wav: Path) -> int:
    return song_with(address, ("01_Vibes.wav", ringing_wav), ("02_More-Vibes.wav", ringing_wav))


def _bench(page: Page) -> None:
    page.goto("/tracks")
    page.get_by_role("listitem", name="Vibes", exact=True).get_by_role("button", name="Bench").click()
    expect(page.get_by_role("heading", name="Vibes", exact=True)).to_be_visible()
    expect(page.get_by_role("button", name="Play")).to_be_enabled()
    expect(_finding(page, RINGS_HZ[0])).to_be_visible()
    expect(_finding(page, RINGS_HZ[1])).to_be_visible()


def _finding(page: Page, hz: float):  # type: ignore[no-untyped-def]
    """Its button in the list, within 2.5 % (43 cents) of the frequency: between partials no more can be seen."""
    near = range(int(hz * 0.975), int(hz * 1.025) + 1)
    digits = "|".join(rf"{f // 1000}\s{f % 1000:03d}" if f > 999 else str(f) for f in near)
    return page.get_by_label("Findings").get_by_role("button", name=re.compile(rf"^ring ({digits}) Hz"))


def _open_ones(page: Page) -> int:
    text = page.get_by_label("Findings").get_by_role("status").inner_text()
    return int(re.match(r"(\d+) open", text)[1]) if re.match(r"\d+ open", text) else -1  # type: ignore[index]


def test_a_tracks_findings_are_decided_by_keyboard_alone(page: Page, address: str, ringing_song: int) -> None:
    _bench(page)
    before = _open_ones(page)
    assert before >= 2
    page.keyboard.press("f")
    card = page.locator("[data-test=finding]")
    expect(card).to_contain_text("over its surroundings")
    expect(card).to_contain_text("stays while the notes change")
    expect(page.locator("[data-test=readout]")).to_contain_text("dB over its surroundings")
    assert _violations(page) == []

    # four ways to hear it, one key each; playing begins by itself
    for key, name in (("6", "Boosted"), ("7", "Band"), ("8", "Without"), ("9", "Removed")):
        page.keyboard.press(key)
        expect(card.get_by_role("button", name=re.compile(f"^{name}"))).to_have_attribute("aria-pressed", "true")
        expect(page.get_by_role("button", name="Pause")).to_be_visible()
    expect(page.get_by_role("button", name="Removed only", exact=True)).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("9")
    expect(page.get_by_role("button", name="Treated", exact=True)).to_have_attribute("aria-pressed", "true")
    assert state(address, ringing_song)["tracks"][0]["moves"] == []  # hearing saves nothing

    # accept: the move appears, the next one is chosen
    page.keyboard.press("y")
    expect(page.get_by_label("Moves").get_by_role("button", name=re.compile("^Bell"))).to_have_count(1)
    made = state(address, ringing_song)["tracks"][0]["moves"][0]
    assert min(abs(1200 * np.log2(made["frequency_hz"] / hz)) for hz in RINGS_HZ) < 50
    assert made["gain_db"] < -3

    # not a problem: it stays away over a reload
    expect(card).to_be_visible()
    page.keyboard.press("x")
    expect(page.get_by_label("Findings").get_by_text("no problem")).to_be_visible()
    page.reload()
    expect(page.get_by_label("Findings").get_by_text("no problem")).to_be_visible()
    expect(page.get_by_label("Findings").get_by_role("status")).to_contain_text("2 decided")

    # undo takes the decision back, then the move with its finding
    page.keyboard.press("Control+z")
    expect(page.get_by_label("Findings").get_by_text("no problem")).to_have_count(0)
    page.keyboard.press("Control+z")
    expect(page.get_by_label("Moves").get_by_text("No moves yet")).to_be_visible()
    expect(page.get_by_label("Findings").get_by_role("status")).to_contain_text("0 decided")


def test_a_proposal_is_adjusted_before_it_is_accepted_and_can_be_taken_back(
    page: Page, address: str, ringing_song: int
) -> None:
    _bench(page)
    _finding(page, RINGS_HZ[0]).click()
    page.keyboard.press("j")
    card = page.locator("[data-test=finding]")
    gain = card.get_by_label("Gain in dB")
    expect(gain).to_be_focused()
    expect(card.get_by_role("button", name=re.compile("^Without"))).to_have_attribute("aria-pressed", "true")
    gain.fill("-3")
    gain.press("Tab")
    width = card.get_by_label("Width in oct")
    expect(width).to_be_focused()
    width.press("ArrowUp")
    expect(card.get_by_role("button", name=re.compile("^Accept −3.0 dB"))).to_be_visible()
    assert _violations(page) == []
    assert state(address, ringing_song)["tracks"][0]["moves"] == []  # nothing is made while it is adjusted
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name=re.compile(r"^Bell .* −3.0 dB"))).to_be_visible()
    expect(page.get_by_label("Findings").get_by_role("status")).to_contain_text("1 decided")
    page.get_by_role("button", name=re.compile("^Take back: ring")).click()
    expect(page.get_by_label("Moves").get_by_text("No moves yet")).to_be_visible()
    assert state(address, ringing_song)["tracks"][0]["moves"] == []


def test_adjusting_is_given_up_with_escape(page: Page, address: str, ringing_song: int) -> None:
    _bench(page)
    _finding(page, RINGS_HZ[0]).click()
    page.keyboard.press("j")
    card = page.locator("[data-test=finding]")
    card.get_by_label("Gain in dB").fill("-1")
    page.keyboard.press("Tab")
    page.keyboard.press("Escape")
    expect(card.get_by_label("Gain in dB")).to_have_count(0)
    page.keyboard.press("y")  # the values that were proposed
    expect(page.get_by_label("Moves").get_by_role("button", name=re.compile("^Bell"))).to_have_count(1)
    assert state(address, ringing_song)["tracks"][0]["moves"][0]["gain_db"] < -3


def test_the_passage_jumps_to_the_worst_place_for_this_listener_only(
    page: Page, address: str, ringing_song: int
) -> None:
    _bench(page)
    found = httpx.get(
        f"{address}/api/songs/{ringing_song}/tracks/{state(address, ringing_song)['tracks'][0]['id']}/findings"
    ).json()["findings"]
    worst = next(f for f in found if f["state"] == "open")["document"]["worst_s"]
    page.keyboard.press("f")
    page.keyboard.press("Space")
    page.wait_for_timeout(400)
    clock = page.locator("[data-test=position]").inner_text()
    minutes, rest = clock.split(":")
    assert abs(int(minutes) * 60 + float(rest) - worst) < 2.1
    assert state(address, ringing_song)["passage_from_s"] is None


def test_the_probe_is_pulled_to_what_stands_out_and_can_be_let_go(page: Page, ringing_song: int) -> None:
    _bench(page)
    box = page.locator("[data-test=profile]").bounding_box()
    assert box is not None
    near = RINGS_HZ[0] * 2 ** (1 / 60)  # 20 cents beside it

    def swept() -> float:
        y = box["y"] + box["height"] * (1 - np.log2(near / 20) / 10)
        page.mouse.move(box["x"] + 60, y - 40)
        page.mouse.down()
        page.mouse.move(box["x"] + 60, y, steps=4)
        text = page.locator("[data-test=readout]").inner_text()
        page.mouse.up()
        return float(re.match(r"([\d\u202f]+) Hz", text)[1].replace("\u202f", ""))  # type: ignore[index]

    pulled = swept()
    page.get_by_role("button", name="Pull", exact=True).click()
    free = swept()
    assert abs(np.log2(pulled / RINGS_HZ[0])) < abs(np.log2(free / RINGS_HZ[0]))


def test_tracks_say_what_is_open_and_what_repeats(page: Page, ringing_song: int) -> None:
    page.goto("/tracks")
    row = page.get_by_role("listitem", name="Vibes", exact=True)
    expect(row.locator("[data-test=found]")).to_contain_text(re.compile(r"\d+ open"))
    expect(page.locator("[data-test=repeats]")).to_contain_text(re.compile(r"ring 8\d\d Hz in 2 tracks"))


def test_a_proposal_that_is_heard_stays_with_its_track_and_ends_with_it(
    page: Page, address: str, ringing_song: int
) -> None:
    said: list[dict[str, object]] = []
    page.on("websocket", lambda socket: socket.on("framesent", lambda frame: said.append(json.loads(frame))))
    _bench(page)
    first, second = (t["id"] for t in state(address, ringing_song)["tracks"])
    page.keyboard.press("f")
    page.keyboard.press("8")
    expect(page.get_by_role("button", name="Pause")).to_be_visible()
    page.keyboard.press("Control+ArrowDown")
    expect(page.get_by_role("heading", name="More Vibes")).to_be_visible()
    previews = [(m["track_id"], m["moves"]) for m in said if m["type"] == "moves"]
    assert len(previews[0][1]) == 1  # type: ignore[arg-type]
    assert [track for track, _ in previews] == [first] * len(previews)
    assert previews[-1] == (first, None)
    assert second not in [track for track, _ in previews]


def test_by_night_everything_is_drawn_anew(page: Page, address: str, ringing_song: int) -> None:
    _bench(page)
    brightness = """() => [...document.querySelectorAll('canvas')].map((c) => {
        const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data;
        const filled = [];
        for (let i = 0; i < d.length; i += 4) if (d[i + 3] > 200) filled.push(d[i] + d[i + 1] + d[i + 2]);
        filled.sort((a, b) => a - b);
        return filled.length ? filled[filled.length >> 1] : null;
    })"""
    page.wait_for_timeout(500)
    day = page.evaluate(brightness)
    page.get_by_role("button", name="Night").click()
    page.wait_for_timeout(1_000)
    night = page.evaluate(brightness)
    changed = [(a, b) for a, b in zip(day, night, strict=True) if a is not None]
    assert len(changed) >= 3
    assert all(a != b for a, b in changed)


def test_the_ways_to_hear_a_finding_say_whether_it_is_in_the_mix(page: Page, ringing_song: int) -> None:
    _bench(page)
    page.keyboard.press("f")
    card = page.locator("[data-test=finding]")
    where = card.get_by_role("group", name="Hear the finding")
    expect(where.get_by_role("button", name="in the mix")).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("8")
    expect(card.get_by_role("button", name=re.compile("^Without"))).to_have_attribute("title", re.compile("in the mix"))
    tap(page, "a")  # one key goes alone, and what is heard of the finding goes on
    expect(where.get_by_role("button", name="in this track")).to_have_attribute("aria-pressed", "true")
    expect(card.get_by_role("button", name=re.compile("^Without"))).to_have_attribute("aria-pressed", "true")
    expect(card.get_by_role("button", name=re.compile("^Without"))).to_have_attribute(
        "title", re.compile("track alone")
    )
    page.keyboard.press("f")  # and the next one is heard so too
    expect(where.get_by_role("button", name="in this track")).to_have_attribute("aria-pressed", "true")


def test_three_findings_and_eight_moves_do_not_scroll(page: Page, address: str, ringing_song: int) -> None:
    track = httpx.get(f"{address}/api/songs/{ringing_song}").json()["tracks"][0]["id"]
    places = (200.0, 320.0, 500.0, 900.0, 1_500.0, 2_600.0, 5_200.0)
    moves: list[dict[str, object]] = [{"shape": "bell", "frequency_hz": hz, "gain_db": -3.0} for hz in places]
    moves.append(
        {"mode": "dynamic", "shape": "bell", "frequency_hz": 847.0, "q": 4.0, "threshold_db": -40.0, "range_db": -6.0}
    )
    for move in moves:
        made = httpx.post(f"{address}/api/songs/{ringing_song}/tracks/{track}/moves", json=move)
        assert made.status_code == 201, made.text
    _bench(page)
    page.get_by_role("button", name="Move 8: Bell").first.click()
    editor = page.get_by_role("group", name="Move 8")
    expect(editor.get_by_label("Threshold in dB")).to_be_visible()
    rows = page.get_by_label("Findings").get_by_role("listitem")
    row = rows.first.bounding_box()
    assert row is not None
    spare = page.evaluate(
        """() => { const all = [...document.querySelectorAll('.moves, .findings ul, main')];
           const last = document.querySelector('.moves').lastElementChild.getBoundingClientRect();
           const room = document.querySelector('.moves').getBoundingClientRect();
           return [all.some((e) => e.scrollHeight > e.clientHeight + 1), room.bottom - last.bottom]; }"""
    )
    assert spare[0] is False
    missing = max(0, 3 - rows.count())
    assert spare[1] >= missing * row["height"], (spare, rows.count())
    # what is seldom needed opens below, where the column may scroll
    editor.get_by_role("button", name="more").click()
    expect(editor.get_by_label("Look-ahead in ms")).to_be_visible()


@pytest.fixture(scope="session")
def drum_wav(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A drum whose fundamental of 160 Hz is short and whose mode at 367 Hz rings for 1.3 s."""
    t = np.arange(RATE) / RATE
    stroke = 0.3 * np.random.default_rng(4).normal(size=RATE) * np.exp(-t / 0.01)
    stroke += 0.3 * np.exp(-6.91 * t / 0.3) * np.sin(2 * np.pi * 160 * t)
    stroke += 0.2 * np.exp(-6.91 * t / 1.3) * np.sin(2 * np.pi * 367 * t)
    path = tmp_path_factory.mktemp("drum") / "tom.wav"
    soundfile.write(path, 0.5 * np.tile(stroke, 10), RATE, subtype="PCM_24")
    return path


def test_a_drums_own_ring_stands_apart_is_no_fault_and_can_be_cut(
    page: Page, address: str, empty_song: int, drum_wav: Path
) -> None:
    send_file(address, empty_song, drum_wav, "01_Floor-Tom.wav")
    page.goto("/tracks")
    page.get_by_role("listitem", name="Floor Tom", exact=True).get_by_role("button", name="Bench").click()
    tone = page.get_by_label("Findings").get_by_role("button", name=re.compile(r"^own tone 36[67].*no fault"))
    expect(tone).to_be_visible()
    faults = _open_ones(page)
    assert faults >= 0
    assert state(address, empty_song)["tracks"][0]["open_findings"] == faults
    tone.click()
    card = page.locator("[data-test=finding]")
    expect(card).to_contain_text("no fault of the recording")
    expect(card).to_contain_text("× the fundamental, 160 Hz")
    assert _violations(page) == []
    tail = card.get_by_role("button", name="Only its tail")
    tail.click()
    expect(tail).to_have_attribute("aria-pressed", "true")
    card.get_by_role("button", name=re.compile("^Accept")).click()
    decided = page.get_by_label("Findings").get_by_role("status")
    expect(decided).to_contain_text("1 decided")
    (move,) = state(address, empty_song)["tracks"][0]["moves"]
    assert move["mode"] == "dynamic"
    assert -8 <= move["range_db"] <= -4
    page.keyboard.press("ControlOrMeta+z")
    expect(decided).not_to_contain_text("1 decided")
    tone.click()
    card.get_by_role("button", name=re.compile("^Accept")).click()
    expect(decided).to_contain_text("1 decided")
    (move,) = state(address, empty_song)["tracks"][0]["moves"]
    assert move["mode"] == "static"
    assert move["frequency_hz"] == pytest.approx(367, abs=1)
    assert -8 <= move["gain_db"] <= -4
    assert move["q"] >= 10
