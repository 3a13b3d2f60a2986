"""Sets, twins, order, reset, snapshots, recipes and balance over HTTP."""

from __future__ import annotations

import io
import json
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import pyloudnorm
import pytest
import soundfile

from mivlo.core.graph import treat
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.units import octaves_to_q
from tests.patience import until
from tests.scenes import song_with

RATE = 48_000
BELL = {"shape": "bell", "frequency_hz": 500.0, "q": octaves_to_q(0.1), "gain_db": -8.0}
Json = dict[str, Any]


class Client:
    """Asks of one song."""

    def __init__(self, address: str, song: int) -> None:
        self.address, self.song = address, song

    def ask(self, method: str, path: str, body: Any = None, status: int = 200) -> Any:
        answer = httpx.request(method, f"{self.address}/api/songs/{self.song}{path}", json=body)
        assert answer.status_code == status, answer.text
        return answer.json() if answer.content else None

    def moves(self, number: int = 0) -> list[Json]:
        return list(self.ask("GET", "")["tracks"][number]["moves"])

    def add(self, track: int, **values: Any) -> int:
        song = self.ask("POST", f"/tracks/{track}/moves", {**BELL, **values}, 201)
        return int(next(t for t in song["tracks"] if t["id"] == track)["moves"][-1]["id"])


@pytest.fixture(scope="module")
def takes(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    """Noise that rings at 500 Hz, and at 550 in another take; the other one is bright."""
    folder = tmp_path_factory.mktemp("takes")
    made = []
    for seed, (name, hz) in enumerate((("One", 500.0), ("Two", 550.0))):
        x = np.random.default_rng(seed).standard_normal((4 * RATE, 1)) * 0.02
        ring = StaticMove(Shape.BELL, hz, q=octaves_to_q(0.1), gain_db=14.0)
        bright = StaticMove(Shape.HIGH_SHELF, 3_000.0, gain_db=6.0 * seed)
        soundfile.write(folder / f"{name}.wav", treat(x, [ring, bright], sample_rate=RATE), RATE, subtype="FLOAT")
        made.append(folder / f"{name}.wav")
    return made[0], made[1]


@pytest.fixture
def two(address: str, takes: tuple[Path, Path]) -> Client:
    return Client(address, song_with(address, *((take.name, take) for take in takes), name="Weir"))


def _ids(client: Client) -> list[int]:
    return [t["id"] for t in client.ask("GET", "")["tracks"]]


def test_a_set_is_named_by_its_note_and_moves_together(two: Client) -> None:
    track = _ids(two)[0]
    body = {"from_hz": 185.0, "count": 5, "gain_db": -9.0, "taper_db": 1.5}
    two.ask("POST", f"/tracks/{track}/sets", body, 201)
    moves = two.moves()
    assert [m["frequency_hz"] for m in moves] == [185.0, 370.0, 740.0, 1_480.0, 2_960.0]
    assert [m["gain_db"] for m in moves] == [-9.0, -7.5, -6.0, -4.5, -3.0]
    assert {tuple(m["links"]) for m in moves} == {("set: F♯3, five octaves",)}
    # one is changed: by the same ratio, by the same difference; one taken out for itself
    two.ask("PATCH", f"/moves/{moves[1]['id']}", {"frequency_hz": 407.0, "gain_db": -8.5})
    assert [m["frequency_hz"] for m in two.moves()] == pytest.approx([203.5, 407.0, 814.0, 1_628.0, 3_256.0])
    assert [m["gain_db"] for m in two.moves()] == [-10.0, -8.5, -7.0, -5.5, -4.0]
    two.ask("PATCH", f"/moves/{moves[2]['id']}", {"gain_db": -1.0, "alone": True})
    assert [m["gain_db"] for m in two.moves()] == [-10.0, -8.5, -1.0, -5.5, -4.0]
    two.ask("DELETE", f"/moves/{moves[4]['id']}")
    two.ask("PATCH", f"/moves/{moves[0]['id']}", {"enabled": False})
    assert [m["enabled"] for m in two.moves()] == [False] * 4
    two.ask("POST", "/undo")
    assert [m["enabled"] for m in two.moves()] == [True] * 4
    # multiples, as far as the song goes
    two.ask("POST", f"/tracks/{_ids(two)[1]}/sets", {"from_hz": 9_000.0, "count": 4, "spacing": "multiples"}, 201)
    assert [m["frequency_hz"] for m in two.moves(1)] == [9_000.0, 18_000.0]
    assert two.moves(1)[0]["links"] == ["set: C♯9, two harmonics"]


def test_a_set_that_would_leave_what_can_be_is_refused_as_a_whole(two: Client) -> None:
    track = _ids(two)[0]
    two.ask("POST", f"/tracks/{track}/sets", {"from_hz": 6_000.0, "count": 2}, 201)
    first = two.moves()[0]["id"]
    two.ask("PATCH", f"/moves/{first}", {"frequency_hz": 20_000.0})
    assert [m["frequency_hz"] for m in two.moves()] == [20_000.0, 24_000.0]  # no further than a move can be


def test_twins_go_to_their_own_rings_and_move_together(two: Client) -> None:
    one, other = _ids(two)
    move = two.add(one)
    lost = two.add(one, frequency_hz=4_000.0)
    body = {"move_ids": [move, lost], "to": [other], "retune": True, "linked": True}
    made = two.ask("POST", f"/tracks/{one}/twins", body, 201)
    (twin,) = two.moves(1)
    assert abs(1200 * np.log2(twin["frequency_hz"] / 550.0)) < 25
    assert [(x["of"], x["strip_id"]) for x in made["left_out"]] == [(lost, other)]
    assert "within a third octave" in made["left_out"][0]["says"]
    two.ask("PATCH", f"/moves/{move}", {"gain_db": -5.0})
    assert two.moves(1)[0]["gain_db"] == pytest.approx(twin["gain_db"] + 3.0)
    two.ask("POST", "/undo")
    assert two.moves(1)[0]["gain_db"] == twin["gain_db"]
    two.ask("POST", "/undo")  # the change is a gesture of its own: now the twins
    assert two.moves(1) == []
    # as they are
    two.ask("POST", f"/tracks/{one}/twins", {"move_ids": [move], "to": [other]}, 201)
    assert [m["frequency_hz"] for m in two.moves(1)] == [500.0]
    two.ask("POST", f"/tracks/{one}/twins", {"move_ids": [move], "to": [one]}, 400)
    two.ask("POST", f"/tracks/{one}/twins", {"move_ids": [999_999], "to": [other]}, 400)
    two.ask("POST", f"/tracks/{one}/twins", {"move_ids": [move], "to": []}, 400)


def test_moves_are_put_into_another_order_and_brought_back(two: Client) -> None:
    track = _ids(two)[0]
    ids = [two.add(track, frequency_hz=hz) for hz in (100.0, 200.0, 300.0)]
    two.ask("PUT", f"/tracks/{track}/moves/order", {"move_ids": [ids[2], ids[0], ids[1]]})
    assert [m["frequency_hz"] for m in two.moves()] == [300.0, 100.0, 200.0]
    two.ask("POST", "/undo")
    assert [m["frequency_hz"] for m in two.moves()] == [100.0, 200.0, 300.0]
    for bad in ([ids[0]], [*ids, ids[0]], [1, 2, 3]):
        two.ask("PUT", f"/tracks/{track}/moves/order", {"move_ids": bad}, 400)


def test_a_value_a_move_and_a_strip_are_reset_in_one_step(two: Client) -> None:
    track = _ids(two)[0]
    move = two.add(track)
    for values in ({"gain_db": -3.0}, {"frequency_hz": 700.0}, {"gain_db": -1.0, "q": 2.0}):
        two.ask("PATCH", f"/moves/{move}", values)
    two.ask("POST", f"/moves/{move}/reset", {"fields": ["gain_db"]})
    (now,) = two.moves()
    assert (now["gain_db"], now["frequency_hz"], now["q"]) == (-8.0, 700.0, 2.0)
    two.ask("POST", f"/moves/{move}/reset", {})
    assert {k: two.moves()[0][k] for k in BELL} == BELL
    two.ask("POST", "/undo")
    assert two.moves()[0]["frequency_hz"] == 700.0
    two.ask("POST", f"/moves/{move}/reset", {"fields": ["colour"]}, 400)
    # the strip, and all of it back
    two.ask("PATCH", f"/tracks/{track}", {"phase": "linear", "amounts": {"all": 0.5}, "aftercare": {"output_db": -2.0}})
    before = two.ask("GET", "")["tracks"][0]
    two.ask("POST", f"/tracks/{track}/reset")
    after = two.ask("GET", "")["tracks"][0]
    assert (after["moves"], after["phase"], after["amounts"], after["aftercare"]["output_db"]) == (
        [],
        "minimum",
        {},
        0.0,
    )
    two.ask("POST", "/undo")
    back = two.ask("GET", "")["tracks"][0]
    assert all(back[key] == before[key] for key in ("moves", "phase", "amounts", "aftercare"))


def test_snapshots_bring_back_moves_amounts_phase_and_aftercare(two: Client) -> None:
    one, other = _ids(two)
    move = two.add(one)
    dynamic = {"mode": "dynamic", "shape": "bell", "frequency_hz": 900.0, "threshold_db": -30.0, "range_db": -6.0}
    two.ask("POST", f"/tracks/{one}/moves", dynamic, 201)
    kept = [two.ask("GET", "")["tracks"][0]]
    strip = two.ask("POST", "/snapshots", {"name": "shallow", "strip_id": one}, 201)
    whole = two.ask("POST", "/snapshots", {"name": "all of it"}, 201)
    two.ask("PATCH", f"/moves/{move}", {"gain_db": -14.0, "mode": "dynamic", "threshold_db": -20.0, "range_db": -3.0})
    two.ask("DELETE", f"/moves/{two.moves()[1]['id']}")
    two.ask("PATCH", f"/tracks/{one}", {"phase": "linear"})
    added = two.add(other)
    kept.append(two.ask("GET", "")["tracks"][0])
    two.ask("POST", f"/snapshots/{strip['id']}/go")
    now = two.ask("GET", "")["tracks"]
    assert all(now[0][key] == kept[0][key] for key in ("moves", "phase", "amounts", "aftercare"))
    assert [m["id"] for m in now[1]["moves"]] == [added]  # that of a strip leaves the others alone
    two.ask("POST", "/undo")
    now = two.ask("GET", "")["tracks"]
    assert all(now[0][key] == kept[1][key] for key in ("moves", "phase", "amounts", "aftercare"))
    two.ask("POST", f"/snapshots/{whole['id']}/go")
    assert (two.moves(0), two.moves(1)) == (kept[0]["moves"], [])
    assert [(s["name"], s["strip_id"]) for s in two.ask("GET", "/snapshots")] == [("shallow", one), ("all of it", None)]
    two.ask("DELETE", f"/snapshots/{strip['id']}", status=204)
    two.ask("POST", f"/snapshots/{strip['id']}/go", status=404)
    two.ask("POST", "/snapshots", {"name": " "}, 400)


def test_snapshots_are_compared_side_by_side(two: Client, takes: tuple[Path, Path]) -> None:
    one, _ = _ids(two)
    two.add(one, frequency_hz=500.0, gain_db=-14.0)
    deep = two.ask("POST", "/snapshots", {"name": "deep", "strip_id": one}, 201)["id"]
    two.ask("POST", f"/tracks/{one}/reset")
    none = two.ask("POST", "/snapshots", {"name": "none"}, 201)["id"]
    two.add(one, shape="high_shelf", frequency_hz=2_000.0, q=0.7, gain_db=-6.0)
    made = two.ask("GET", f"/snapshots/compared?track_id={one}&first={deep}&second={none}")
    left, right = made["sides"]
    assert [(s["name"], s["moves"]) for s in made["sides"]] == [("deep", 1), ("none", 0)]
    hz = np.array(made["grid_hz"])
    at = int(np.argmin(np.abs(hz - 500.0)))
    changes = [np.array(s["treated_db"]) - np.array(s["untreated_db"]) for s in (left, right)]
    assert changes[0][at] < -10.0
    assert np.max(np.abs(changes[1])) < 0.01
    # what an independent rendering says of its loudness
    x, _ = soundfile.read(takes[0], always_2d=True)
    cut = treat(x, [StaticMove(Shape.BELL, 500.0, q=BELL["q"], gain_db=-14.0)], sample_rate=RATE)  # type: ignore[arg-type]
    meter = pyloudnorm.Meter(RATE)
    for side, sound in ((left, cut), (right, x)):
        assert side["loudness_lufs"] == pytest.approx(meter.integrated_loudness(sound), abs=0.1)
    assert 0.0 < left["kept"] < 1.0
    # beside the state of now
    _, now = two.ask("GET", f"/snapshots/compared?track_id={one}&first={deep}")["sides"]
    assert (now["snapshot_id"], now["moves"]) == (None, 1)
    assert now["treated_db"][-20] == pytest.approx(now["untreated_db"][-20] - 6.0, abs=0.5)
    mix = next(s["id"] for s in two.ask("GET", "")["strips"] if s["kind"] == "mix")
    sides = two.ask("GET", f"/snapshots/compared?track_id={mix}&first={none}")["sides"]
    assert [s["kept"] for s in sides] == [None, None]
    assert sides[0]["loudness_lufs"] > sides[1]["loudness_lufs"] + 0.1
    two.ask("GET", f"/snapshots/compared?track_id={one}&first=999999", status=404)
    two.ask("GET", f"/snapshots/compared?track_id=999999&first={deep}", status=404)
    two.ask("GET", f"/snapshots/compared?track_id={one}&first=-1", status=422)


def test_recipes_are_kept_found_by_role_and_used(two: Client) -> None:
    one, other = _ids(two)
    shipped = [r for r in httpx.get(f"{two.address}/api/recipes").json() if not r["own"]]
    assert len(shipped) >= 12
    assert all(r["says"] for r in shipped)
    two.add(one)
    two.add(one, shape="low_cut", frequency_hz=60.0, q=0.7071067811865476, gain_db=0.0)
    two.ask("PATCH", f"/tracks/{one}", {"phase": "linear", "role": "drums"})
    kept = two.ask("POST", f"/tracks/{one}/recipes", {"name": "My ring", "says": "For the ring."}, 201)
    assert (kept["id"], kept["role"], kept["moves"]) == ("own/drums/My ring", "drums", 2)
    assert kept in httpx.get(f"{two.address}/api/recipes").json()
    used = two.ask("POST", f"/tracks/{other}/recipe", {"recipe": kept["id"]}, 201)
    moves = two.moves(1)
    assert used["left_out"] == []
    assert abs(1200 * np.log2(moves[0]["frequency_hz"] / 550.0)) < 25
    assert (moves[0]["note"], moves[1]["frequency_hz"]) == ("For the ring.", 60.0)
    assert two.ask("GET", "")["tracks"][1]["phase"] == "linear"
    two.ask("POST", "/undo")
    assert (two.moves(1), two.ask("GET", "")["tracks"][1]["phase"]) == ([], "minimum")
    for name in ("", "../out", "a/b", ".hidden", "My ring", "x" * 81):
        two.ask("POST", f"/tracks/{one}/recipes", {"name": name}, 400)
    two.ask("POST", f"/tracks/{other}/recipe", {"recipe": "own/drums/../../x"}, 404)
    for r in shipped:
        two.ask("POST", f"/tracks/{other}/recipe", {"recipe": r["id"]}, 201)
    url = f"{two.address}/api/recipes"
    assert httpx.delete(url, params={"recipe": kept["id"]}).status_code == 204
    assert httpx.delete(url, params={"recipe": shipped[0]["id"]}).status_code == 400


def test_a_sheet_is_put_on_a_strip(two: Client) -> None:
    one, other = _ids(two)
    name = two.ask("GET", "")["tracks"][1]["name"]
    keyed = {"mode": "dynamic", "shape": "bell", "frequency_hz": 200.0, "threshold_db": -40.0, "range_db": -6.0}
    sheet = {"format": "mivlo-sheet", "version": 2, "moves": [{**keyed, "key": {"source": name}}, BELL]}
    two.ask("POST", f"/tracks/{one}/sheet", {"text": json.dumps(sheet), "name": "drop.json"}, 201)
    assert [m["frequency_hz"] for m in two.moves()] == [200.0, 500.0]
    assert two.moves()[0]["key"]["source"] == other
    sheet["moves"][0]["key"] = {"source": "Nobody"}  # type: ignore[index]
    for text in (json.dumps(sheet), "{}", "[", "null"):
        two.ask("POST", f"/tracks/{one}/sheet", {"text": text}, 400)
    assert len(two.moves()) == 2


def test_ranges_that_must_stay_are_spared_by_findings(two: Client) -> None:
    track = _ids(two)[0]
    until(lambda: bool(two.ask("GET", f"/tracks/{track}/findings")["findings"]))
    found = two.ask("GET", f"/tracks/{track}/findings")["findings"]
    assert any(abs(f["document"]["frequency_hz"] - 500.0) < 10 for f in found)
    before = two.ask("GET", "")["tracks"][0]["open_findings"]
    kept = two.ask("PATCH", f"/tracks/{track}", {"kept": [[450.0, 520.0], [510.0, 560.0]]})["tracks"][0]
    assert kept["kept"] == [[450.0, 560.0]]
    found = two.ask("GET", f"/tracks/{track}/findings")["findings"]
    assert not any(450.0 < f["document"]["frequency_hz"] < 560.0 for f in found)
    assert kept["open_findings"] < before
    two.ask("POST", "/undo")
    assert two.ask("GET", "")["tracks"][0]["open_findings"] == before
    two.ask("PATCH", f"/tracks/{track}", {"kept": [[500.0, 400.0]]}, 400)
    two.ask("PATCH", f"/tracks/{track}", {"kept": [[5.0, 400.0]]}, 422)


def test_a_balance_is_proposed_and_measured(two: Client) -> None:
    one, other = _ids(two)
    both = two.ask("POST", f"/tracks/{other}/balance", {"towards": one, "strength": 1.0, "only_cuts": False})
    assert both["after_db"] < 0.5 * both["before_db"]
    assert len(both["own_db"]) == len(both["other_db"]) == len(both["rung_hz"]) == 33
    usual = two.ask("POST", f"/tracks/{other}/balance", {"towards": one})
    assert all(m["gain_db"] < 0.0 for m in usual["moves"])
    assert min(usual["wanted_db"]) >= -6.0
    assert usual["after_db"] < usual["before_db"]
    two.ask("POST", f"/tracks/{one}/balance", {"towards": one}, 400)
    own = two.ask("POST", f"/tracks/{one}/balance", {"towards": one, "from_s": 0.0, "to_s": 2.0})
    assert own["before_db"] < 1.5


def test_a_balance_towards_a_file_is_that_towards_the_same_sound_as_a_track(
    two: Client, takes: tuple[Path, Path]
) -> None:
    one, other = _ids(two)
    url = f"{two.address}/api/references"
    brought = httpx.post(url, params={"name": "One.wav"}, content=takes[0].read_bytes())
    assert brought.status_code == 201, brought.text
    reference = brought.json()
    assert (reference["name"], reference["seconds"]) == ("One.wav", 4.0)
    of_file = two.ask("POST", f"/tracks/{other}/balance", {"reference": reference["id"]})
    of_track = two.ask("POST", f"/tracks/{other}/balance", {"towards": one})
    assert of_file["other_db"] == pytest.approx(of_track["other_db"], abs=0.05)
    assert of_file["after_db"] == pytest.approx(of_track["after_db"], abs=0.1)
    assert len(two.ask("GET", "")["tracks"]) == 2
    for body in ({}, {"towards": one, "reference": reference["id"]}):
        two.ask("POST", f"/tracks/{other}/balance", body, 400)
    two.ask("POST", f"/tracks/{other}/balance", {"reference": "0" * 64}, 404)
    two.ask("POST", f"/tracks/{other}/balance", {"reference": "../../secret"}, 422)
    for content in (b"", b"RIFF\0\0\0\0WAVE", b"no sound at all"):
        assert httpx.post(url, params={"name": "x.wav"}, content=content).status_code == 400
    silent = io.BytesIO()
    soundfile.write(silent, np.zeros((RATE, 1)), RATE, format="WAV")
    refused = httpx.post(url, params={"name": "x.wav"}, content=silent.getvalue())
    assert (refused.status_code, "nothing to be heard" in refused.text) == (400, True)


def test_rungs_become_ordinary_moves(two: Client) -> None:
    track = _ids(two)[0]
    gains = [-4.0 if 8 <= i < 14 else 0.0 for i in range(30)]
    two.ask("POST", f"/tracks/{track}/moves", {"mode": "rungs", "count": 30, "gains_db": gains}, 201)
    (rungs,) = two.moves()
    made = two.ask("POST", f"/tracks/{track}/fitted", {"move_id": rungs["id"]}, 201)
    assert "follow" in made["says"]
    assert {m["mode"] for m in two.moves()} == {"static"}
    two.ask("POST", "/undo")
    assert two.moves() == [rungs]
    two.ask("POST", f"/tracks/{track}/fitted", {"move_id": 999_999}, 400)
    # what can't be is said, and changes nothing
    for bad, status in (
        ({"gains_db": gains[:-1]}, 400),
        ({"count": 31}, 400),
        ({"gains_db": [*gains[:-1], 99.0]}, 422),
        ({"gains_db": None}, 422),
    ):
        two.ask("PATCH", f"/moves/{rungs['id']}", bad, status)
    two.ask("PATCH", f"/moves/{rungs['id']}", {"count": 26, "gains_db": [0.0] * 26})
    assert two.moves()[0]["count"] == 26
