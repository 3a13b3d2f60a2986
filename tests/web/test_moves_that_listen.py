"""Moves that listen, over HTTP: starts, levels, more of the same, phase, amounts, aftercare, sheets."""

from __future__ import annotations

import base64
import csv
import io
from pathlib import Path
from typing import Any

import httpx
import jsonschema_rs
import numpy as np
import pytest
import soundfile
from scipy import signal

from tests.conftest import Made
from tests.scenes import song_with
from tests.web.server import send_file, wait_for_task

Song = dict[str, Any]


def _song(address: str, song_id: int) -> Song:
    return dict(httpx.get(f"{address}/api/songs/{song_id}").json())


@pytest.fixture
def two(address: str, marimba_wav: Path) -> tuple[str, list[int]]:
    """The address of a song with two tracks, and the tracks."""
    song_id = song_with(address, (marimba_wav.name, marimba_wav), ("02_Other.wav", marimba_wav))
    return f"{address}/api/songs/{song_id}", [t["id"] for t in _song(address, song_id)["tracks"]]


def test_a_ready_start_becomes_moves_whose_thresholds_fit(two: tuple[str, list[int]]) -> None:
    base, (first, second) = two
    names = [start["name"] for start in httpx.get(base.rsplit("/songs", 1)[0] + "/starts").json()]
    assert {"plosives", "sibilance", "loud_notes", "harsh", "give_way", "follow"} == set(names)
    for name in names:
        body = {"name": name, "frequency_hz": 600.0, **({"key": second} if name == "give_way" else {})}
        answer = httpx.post(f"{base}/tracks/{first}/starts", json=body)
        assert answer.status_code == 201, answer.text
    moves = answer.json()["tracks"][0]["moves"]
    assert len(moves) == 7  # sibilance is two
    loud = next(m for m in moves if m["mode"] == "dynamic" and m["frequency_hz"] == 600.0)
    levels = httpx.get(f"{base}/moves/{loud['id']}/levels").json()
    assert len(levels["times_s"]) == len(levels["level_db"]) == len(levels["gain_db"]) <= 480
    assert 0.02 < levels["acts"] < 0.3
    assert levels["most_db"] < -0.5
    assert httpx.post(f"{base}/undo").status_code == 200  # one step each
    assert httpx.post(f"{base}/tracks/{first}/starts", json={"name": "give_way"}).status_code in (400, 422)


def test_the_suggested_threshold_acts_as_long_as_it_says(two: tuple[str, list[int]]) -> None:
    base, (first, _) = two
    made = httpx.post(
        f"{base}/tracks/{first}/moves",
        json={
            "mode": "dynamic",
            "shape": "bell",
            "frequency_hz": 700.0,
            "threshold_db": 0.0,
            "range_db": -9.0,
            "q": 1.0,
        },
    )
    move = made.json()["tracks"][0]["moves"][0]
    levels = httpx.get(f"{base}/moves/{move['id']}/levels").json()
    assert levels["acts"] == 0.0
    assert levels["suggested_for"].startswith("15 %")
    httpx.patch(f"{base}/moves/{move['id']}", json={"threshold_db": levels["suggested_db"]})
    again = httpx.get(f"{base}/moves/{move['id']}/levels").json()
    assert 0.05 < again["acts"] <= 0.16  # of all the time; the share is of the sounding time
    static = {"shape": "bell", "frequency_hz": 700.0, "gain_db": -3.0}
    plain = httpx.post(f"{base}/tracks/{first}/moves", json=static).json()["tracks"][0]["moves"][1]
    refused = httpx.get(f"{base}/moves/{plain['id']}/levels")
    assert refused.status_code in (400, 422)
    assert "only a dynamic move reads a level" in refused.json()["detail"]


def _adaptive(base: str, track: int) -> int:
    body = {"mode": "adaptive", "from_hz": 200, "to_hz": 8_000, "share": 0.8}
    return int(httpx.post(f"{base}/tracks/{track}/moves", json=body).json()["tracks"][0]["moves"][-1]["id"])


def test_an_adaptive_move_is_frozen_as_one_step(two: tuple[str, list[int]]) -> None:
    base, (first, _) = two
    move = _adaptive(base, first)
    begun = httpx.post(f"{base}/moves/{move}/freeze")
    assert begun.status_code == 202
    done = wait_for_task(base.rsplit("/api", 1)[0], begun.json()["id"])
    assert done["state"] == "done", done
    assert 0.05 < done["result"]["share"] <= 1.0
    assert f"{100 * done['result']['share']:.0f} % of what it took" in done["message"]
    old, *made = httpx.get(base).json()["tracks"][0]["moves"]
    assert (old["id"], old["enabled"]) == (move, False)
    assert [m["id"] for m in made] == done["result"]["move_ids"]
    assert 1 <= len(made) <= 6
    assert all(m["enabled"] and "frozen" in m["links"] and "of what was taken" in m["note"] for m in made)
    again = httpx.post(f"{base}/moves/{move}/freeze")
    assert again.status_code in (400, 422)
    assert "switched off" in again.json()["detail"]
    undone = httpx.post(f"{base}/undo").json()["tracks"][0]["moves"]
    assert [(m["id"], m["enabled"]) for m in undone] == [(move, True)]


def test_only_an_adaptive_move_can_be_frozen_or_drawn(two: tuple[str, list[int]]) -> None:
    base, (first, _) = two
    static = {"shape": "bell", "frequency_hz": 700.0, "gain_db": -3.0}
    move = httpx.post(f"{base}/tracks/{first}/moves", json=static).json()["tracks"][0]["moves"][0]["id"]
    for answer in (httpx.post(f"{base}/moves/{move}/freeze"), httpx.get(f"{base}/moves/{move}/cuts")):
        assert answer.status_code in (400, 422)
        assert "adaptive" in answer.json()["detail"]
    assert httpx.post(f"{base}/moves/99999/freeze").status_code == 404


def test_what_an_adaptive_move_takes_is_told_by_time_and_frequency(two: tuple[str, list[int]]) -> None:
    base, (first, _) = two
    move = _adaptive(base, first)
    told = httpx.get(f"{base}/moves/{move}/cuts", params={"from_s": 0.5, "to_s": 1.5}).json()
    cuts = np.frombuffer(base64.b64decode(told["cuts"]), np.uint8).reshape(len(told["times_s"]), len(told["hz"]))
    assert told["times_s"][0] == pytest.approx(0.5, abs=0.05)
    assert told["times_s"][-1] == pytest.approx(1.5, abs=0.1)
    assert 200.0 <= told["hz"][0] < told["hz"][-1] <= 8_000.0
    deepest = cuts.max(axis=0) * told["step_db"]
    assert np.allclose(deepest, -np.array(told["deepest_db"]), atol=told["step_db"])
    assert 0.0 < deepest.max() <= 6.01
    assert np.all(np.array(told["mean_db"]) <= 0.0)


def test_more_like_a_spot_is_found_here_and_elsewhere(two: tuple[str, list[int]]) -> None:
    base, (first, second) = two
    spot = {"from_hz": 400.0, "to_hz": 900.0, "from_s": 0.5, "to_s": 0.7}
    here = httpx.post(f"{base}/tracks/{first}/alike", json=spot).json()
    assert any(abs(m["from_s"] - 0.5) < 0.02 and m["strength"] > 0.99 for m in here)
    both = httpx.post(f"{base}/tracks/{first}/alike", json={**spot, "everywhere": True}).json()
    assert {m["track_id"] for m in both} == {first, second}  # the same recording twice
    for wrong in ({"to_s": 0.501}, {"to_s": 9.0}, {"from_hz": 12_000.0, "to_hz": 11.0}):
        assert httpx.post(f"{base}/tracks/{first}/alike", json={**spot, **wrong}).status_code in (400, 422)


def test_what_can_not_be_listened_to_is_refused(two: tuple[str, list[int]]) -> None:
    base, (first, _) = two
    move = {"mode": "dynamic", "shape": "bell", "frequency_hz": 700.0, "threshold_db": -30.0, "range_db": -9.0}
    for source, says in ((first, "listens to its own strip"), (99_999, "no such strip"), ("Kick", "key")):
        answer = httpx.post(f"{base}/tracks/{first}/moves", json={**move, "key": {"source": source}})
        assert answer.status_code in (400, 422)
        assert says in answer.json()["detail"]
    missing = httpx.post(f"{base}/tracks/{first}/moves", json={k: v for k, v in move.items() if k != "range_db"})
    assert missing.status_code in (400, 422)
    assert "range_db" in missing.json()["detail"]
    assert httpx.post(f"{base}/tracks/{first}/moves", json={**move, "mode": "magic"}).status_code in (400, 422)


def test_phase_amounts_and_aftercare_are_kept_undone_and_written(
    address: str, two: tuple[str, list[int]], tmp_path: Path
) -> None:
    base, (first, second) = two
    low_cut = {"shape": "low_cut", "frequency_hz": 500.0, "slope_db_per_octave": 24}
    httpx.post(f"{base}/tracks/{first}/moves", json=low_cut)
    care = {"compressors": [{"threshold_db": -40.0}], "clip": {"drive_db": 6.0}, "reverb": {}, "output_db": -1.0}
    values = {"phase": "linear", "amounts": {"all": 0.5}, "aftercare": care}
    track = httpx.patch(f"{base}/tracks/{first}", json=values).json()["tracks"][0]
    assert (track["phase"], track["amounts"]) == ("linear", {"all": 0.5})
    assert track["aftercare"]["compressors"][0]["ratio"] == 3.0
    assert track["aftercare"]["warmth"] is None
    for wrong in (
        {"phase": "none"},
        {"amounts": {"all": 2.0}},
        {"aftercare": {"fuzz": {}}},
        {"aftercare": {"clip": {"drive_db": 99}}},
    ):
        assert httpx.patch(f"{base}/tracks/{first}", json=wrong).status_code in (400, 422)
    # the sheet says all of it, by the published schema, and names strips
    give = {"mode": "dynamic", "shape": "bell", "frequency_hz": 700.0, "threshold_db": -30.0, "range_db": -2.0}
    httpx.post(f"{base}/tracks/{first}/moves", json={**give, "key": {"source": second}})
    sheet = httpx.get(f"{base}/tracks/{first}/sheet.json").json()
    jsonschema_rs.validate(httpx.get(f"{address}/api/sheet-schema.json").json(), sheet)
    assert sheet["moves"][1]["key"] == {"source": "Other"}
    assert sheet["aftercare"]["output_db"] == -1.0
    assert "deleted" not in httpx.get(f"{base}/sheet.csv").text
    assert "this band of Other is over -30 dBFS" in httpx.get(f"{base}/sheet.html").text
    # a file has the rest, but no reverb unless asked; alone it has the moves
    heard = {}
    for name, how in (("usual", {}), ("wet", {"reverb": True}), ("bare", {"aftercare": False})):
        task = httpx.post(f"{base}/exports", json={"track_ids": [first], "depth": "32f", **how}).json()
        done = wait_for_task(address, task["id"])
        file = tmp_path / f"{name}.wav"
        file.write_bytes(httpx.get(f"{address}/api/tasks/{task['id']}/files/{done['result']['files'][0]}").content)
        heard[name] = soundfile.read(file)[0]
    assert np.max(np.abs(heard["wet"] - heard["usual"])) > 1e-3
    assert np.max(np.abs(heard["bare"] - heard["usual"])) > 1e-2
    assert httpx.post(f"{base}/undo").json()["tracks"][0]["moves"][-1]["mode"] == "static"
    assert httpx.post(f"{base}/undo").json()["tracks"][0]["phase"] == "minimum"


def test_what_comes_back_behind_a_compressor_is_said(two: tuple[str, list[int]]) -> None:
    base, (first, _) = two
    profile = f"{base}/tracks/{first}/profile"
    untreated = httpx.get(profile).json()
    assert untreated["behind_db"] is None
    loudest = untreated["grid_hz"][int(np.argmax(untreated["untreated_db"]))]
    cut = {"shape": "bell", "frequency_hz": loudest, "q": 4.0, "gain_db": -12.0}
    httpx.post(f"{base}/tracks/{first}/moves", json=cut)
    # a hard clip fills the hole that the cut made with what it makes of the rest
    care = {"clip": {"drive_db": 30.0, "hardness": 1.0}}
    httpx.patch(f"{base}/tracks/{first}", json={"aftercare": care})
    told = httpx.get(profile).json()
    assert len(told["behind_db"]) == len(told["treated_db"])
    assert np.max(np.abs(np.array(told["behind_db"]) - told["treated_db"])) > 3.0
    assert [back["frequency_hz"] for back in told["comes_back"]] == [pytest.approx(loudest, abs=0.1)]
    for hz, db in ((back["frequency_hz"], back["db"]) for back in told["comes_back"]):
        at = int(np.argmin(np.abs(np.log(np.array(told["grid_hz"]) / hz))))
        lift = np.array(told["behind_db"]) - told["treated_db"]
        heard = np.array(told["treated_db"]) > max(told["treated_db"]) - 50
        assert db == pytest.approx(lift[at] - np.median(lift[heard]), abs=0.2)


def test_static_moves_can_be_taken_along_as_filters(two: tuple[str, list[int]]) -> None:
    base, (first, _) = two
    for move in (
        {"frequency_hz": 412.0, "q": 6.0, "gain_db": -6.0},
        {"frequency_hz": 3_000.0, "q": 2.0, "gain_db": 4.0},
    ):
        httpx.post(f"{base}/tracks/{first}/moves", json={"shape": "bell", **move})
    rows = list(csv.DictReader(io.StringIO(httpx.get(f"{base}/tracks/{first}/sections.csv").text)))
    sections = np.array([[float(row[name]) for name in ("b0", "b1", "b2", "a0", "a1", "a2")] for row in rows])
    hz = np.geomspace(30, 20_000, 60)
    wanted = np.abs(signal.sosfreqz(sections, hz, fs=48_000)[1])
    for phase in ("minimum", "linear"):
        answer = httpx.get(f"{base}/tracks/{first}/impulse.wav", params={"phase": phase})
        impulse, rate = soundfile.read(io.BytesIO(answer.content))
        assert rate == 48_000
        error = 20 * np.log10(np.abs(signal.freqz(impulse, worN=hz, fs=rate)[1]) / wanted)
        assert np.max(np.abs(error)) < 0.1
        assert (np.argmax(np.abs(impulse)) == len(impulse) // 2) == (phase == "linear")
    assert httpx.get(f"{base}/tracks/{first}/impulse.wav", params={"phase": "analogue"}).status_code in (400, 422)


def test_a_new_compressor_takes_three_db_and_the_output_brings_them_back(two: tuple[str, list[int]]) -> None:
    base, (first, _) = two
    for _ in range(2):
        answer = httpx.post(f"{base}/tracks/{first}/compressors")
        assert answer.status_code == 201, answer.text
    one, other = answer.json()["tracks"][0]["aftercare"]["compressors"]
    assert (one["ratio"], one["knee_db"], one["attack_ms"], one["release_ms"]) == (3.0, 6.0, 20.0, 120.0)
    assert other["threshold_db"] < one["threshold_db"]  # it hears what the first one left

    def loudness() -> tuple[float, float]:
        profile = httpx.get(f"{base}/tracks/{first}/profile", params={"bands_per_octave": 3}).json()
        sums = [10 * np.log10(np.sum(10 ** (np.array(profile[k]) / 10))) for k in ("untreated_db", "behind_db")]
        return float(sums[0]), float(sums[1])

    before, after = loudness()
    assert after < before - 3.0
    matched = httpx.post(f"{base}/tracks/{first}/output").json()["tracks"][0]["aftercare"]
    # gated loudness is matched, these are plain sums
    assert matched["output_db"] == pytest.approx(before - after, abs=2.0)
    again = httpx.post(f"{base}/tracks/{first}/output").json()["tracks"][0]["aftercare"]
    assert again["output_db"] == matched["output_db"]  # measured without what was written before
    stale = httpx.post(f"{base}/tracks/{first}/compressors", params={"strip_revision": 0})
    assert stale.status_code == 409
    for _ in range(3):
        last = httpx.post(f"{base}/tracks/{first}/compressors")
    assert last.status_code in (400, 422)
    assert "at most 4" in last.json()["detail"]


def test_what_a_move_listens_to_has_columns_of_its_own(two: tuple[str, list[int]]) -> None:
    base, (first, second) = two
    dynamic = {"mode": "dynamic", "shape": "bell", "frequency_hz": 700.0, "q": 2.0, "threshold_db": -30, "range_db": -6}
    shelf = dynamic | {"shape": "low_shelf", "frequency_hz": 120.0, "key": {"source": second}}
    narrow = dynamic | {"key": {"source": "self", "frequency_hz": 3_000.0, "q": 4.0, "shape": "band"}}
    adaptive = {"mode": "adaptive", "from_hz": 200, "to_hz": 8_000}
    for body in (dynamic, shelf, narrow, adaptive, {"shape": "bell", "frequency_hz": 500.0}):
        assert httpx.post(f"{base}/tracks/{first}/moves", json=body).status_code == 201
    rows = list(csv.DictReader(io.StringIO(httpx.get(f"{base}/sheet.csv").text)))
    told = [tuple(row[name] for name in ("key", "key_shape", "key_hz", "key_q")) for row in rows]
    assert told == [
        ("itself", "band", "700.0", "2.0"),
        ("Other", "low", "120.0", ""),
        ("itself", "band", "3000.0", "4.0"),
        ("itself", "", "", ""),
        ("", "", "", ""),
    ]


def test_what_stays_is_learned_as_one_step_or_refused_in_a_sentence(
    address: str, song_id: int, made: Made, tmp_path: Path
) -> None:
    base = f"{address}/api/songs/{song_id}"
    for number, name in enumerate(("Room pair", "Marimba", "Cello", "Cajón", "Harmonium", "Upright bass", "Narrator")):
        path = tmp_path / f"{number:02d}_{name}.wav"
        soundfile.write(path, made[0][name][28 * 48_000 : 42 * 48_000], 48_000, subtype="PCM_24")
        send_file(address, song_id, path)
    ids = {t["name"]: t["id"] for t in _song(address, song_id)["tracks"]}
    httpx.patch(base, json={"passage_from_s": 2.0, "passage_to_s": 14.0})
    learned = httpx.post(f"{base}/tracks/{ids['Room pair']}/learn", json={})
    assert learned.status_code == 201, learned.text
    told = learned.json()
    moves = next(t for t in told["song"]["tracks"] if t["id"] == ids["Room pair"])["moves"]
    places = [m["frequency_hz"] for m in moves]
    assert any(abs(1_200 * np.log2(hz / 521.0)) <= 25.0 for hz in places)
    assert all(m["links"] == ["learned"] and m["gain_db"] < 0.0 for m in moves)
    assert all(f"{hz:.0f} Hz" in told["says"] for hz in places)
    amounts = httpx.patch(f"{base}/tracks/{ids['Room pair']}", json={"amounts": {"learned": 1.5}})
    assert amounts.status_code == 200
    httpx.post(f"{base}/undo")
    assert httpx.post(f"{base}/undo").json()["tracks"][0]["moves"] == []
    refused = httpx.post(f"{base}/tracks/{ids['Cajón']}/learn", json={})
    assert refused.status_code in (400, 422)
    assert "plays something of its own" in refused.json()["detail"]
    for body in ({"from_hz": 500, "to_hz": 400}, {"from_hz": 0}, {"to_hz": None}, {"more": 1}):
        assert httpx.post(f"{base}/tracks/{ids['Cajón']}/learn", json=body).status_code in (400, 422)
    assert httpx.post(f"{base}/tracks/99999/learn", json={}).status_code == 404
    mix = next(strip["id"] for strip in _song(address, song_id)["strips"] if strip["kind"] == "mix")
    covered = httpx.post(f"{base}/tracks/{mix}/learn", json={})
    assert covered.status_code in (400, 422)
    assert "does not stand out of" in covered.json()["detail"]
    httpx.patch(f"{base}/tracks/{ids['Room pair']}", json={"fader_db": 12.0})
    of_mix = httpx.post(f"{base}/tracks/{mix}/learn", json={})
    assert of_mix.status_code == 201, of_mix.text
    assert "heard in Room pair" in of_mix.json()["says"]
    moves = next(t for t in of_mix.json()["song"]["strips"] if t["id"] == mix)["moves"]
    assert moves
    assert all(move["links"] == ["learned"] for move in moves)
    for move in moves:  # nothing but what rings in the room
        assert min(abs(1_200 * np.log2(move["frequency_hz"] / hz)) for hz in places) <= 50.0
