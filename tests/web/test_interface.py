"""The HTTP interface against a running server and worker."""

from __future__ import annotations

import json
import statistics
import threading
import time
from pathlib import Path

import httpx
import jsonschema_rs
import numpy as np
import pytest
import soundfile

from mivlo.core.spectra import MAP_ROWS
from mivlo.core.units import Floats
from tests.patience import PATIENCE_S
from tests.web.server import send_file, wait_for_task

BELL = {"shape": "bell", "frequency_hz": 412.0, "q": 14.4, "gain_db": -6.0}


def _song(address: str, song_id: int) -> dict:  # type: ignore[type-arg]
    return httpx.get(f"{address}/api/songs/{song_id}").json()


def _add_move(address: str, song_id: int, **values: object) -> dict:  # type: ignore[type-arg]
    track = _song(address, song_id)["tracks"][0]["id"]
    answer = httpx.post(f"{address}/api/songs/{song_id}/tracks/{track}/moves", json={**BELL, **values})
    assert answer.status_code == 201, answer.text
    return answer.json()


def test_a_file_becomes_a_track_with_all_that_is_drawn(address: str, song_id: int) -> None:
    song = _song(address, song_id)
    track = song["tracks"][0]
    assert (track["name"], track["role"], track["channels"]) == ("Marimba", "mallets", 2)
    base = f"{address}/api/songs/{song_id}/tracks/{track['id']}"
    wave = np.frombuffer(httpx.get(f"{base}/waveform", params={"points": 100}).content, np.int8)
    assert wave.shape == (200,)
    assert wave.max() > 10
    info = httpx.get(f"{base}/map").json()
    tile = httpx.get(f"{base}/map/{info['levels'] - 1}/0").content
    assert len(tile) % MAP_ROWS == 0
    profile = httpx.get(f"{base}/profile").json()
    assert len(profile["grid_hz"]) == len(profile["untreated_db"]) == len(profile["treated_db"])
    # the stored levels of the whole track are those that a stretch over all of it measures
    stored = httpx.get(f"{base}/profile", params={"bands_per_octave": 24}).json()["untreated_db"]
    measured = httpx.get(f"{base}/profile", params={"bands_per_octave": 24, "from_s": 0.001, "to_s": 99}).json()
    assert np.allclose(stored, measured["untreated_db"], atol=1.0)
    assert httpx.get(f"{base}/analysis").json()["loudness_lufs"] < -5


def test_the_treated_map_and_profile_show_the_cut(address: str, song_id: int) -> None:
    _add_move(address, song_id, shape="low_cut", frequency_hz=2_000.0, q=0.70710678, gain_db=0, slope_db_per_octave=48)
    base = f"{address}/api/songs/{song_id}/tracks/{_song(address, song_id)['tracks'][0]['id']}"
    maps = [
        np.frombuffer(httpx.get(f"{base}/map/2/0", params={"treated": treated}).content, np.uint8).reshape(-1, MAP_ROWS)
        for treated in (False, True)
    ]
    assert maps[0].shape == maps[1].shape
    row = 24 * 4  # 20 Hz * 2^4 = 320 Hz: there the cut takes more than 60 dB
    assert (maps[0][:, row].astype(int) - maps[1][:, row])[maps[0][:, row] > 150].min() > 60
    found = httpx.get(f"{base}/profile", params={"from_s": 1, "to_s": 3}).json()
    at = int(np.argmin(np.abs(np.array(found["grid_hz"]) - 320.0)))
    assert found["untreated_db"][at] - found["treated_db"][at] > 40


def test_a_song_is_changed_and_undone(address: str, song_id: int) -> None:
    song = _add_move(address, song_id)
    move = song["tracks"][0]["moves"][0]
    assert move["octaves"] == pytest.approx(0.1, abs=0.001)
    changed = httpx.patch(f"{address}/api/songs/{song_id}/moves/{move['id']}", json={"gain_db": -3.5}).json()
    assert changed["tracks"][0]["moves"][0]["gain_db"] == -3.5
    assert changed["undo_label"] == "Marimba: change bell 412 Hz"
    undone = httpx.post(f"{address}/api/songs/{song_id}/undo").json()
    assert undone["tracks"][0]["moves"][0]["gain_db"] == -6.0
    redone = httpx.post(f"{address}/api/songs/{song_id}/redo").json()
    assert redone["tracks"][0]["moves"][0]["gain_db"] == -3.5
    listed = httpx.get(f"{address}/api/songs/{song_id}/history").json()
    assert [e["label"] for e in listed][:2] == ["Marimba: change bell 412 Hz", "Marimba: add bell 412 Hz"]


def test_refusals_are_problem_details(address: str, song_id: int) -> None:
    # RFC 9457: media type, and the members type, title, status, detail
    track = _song(address, song_id)["tracks"][0]["id"]
    task = httpx.get(f"{address}/api/songs/{song_id}/tasks").json()[0]["id"]
    moves = f"{address}/api/songs/{song_id}/tracks/{track}/moves"
    cases = [
        (httpx.get(f"{address}/api/songs/9999"), 404, "no song 9999"),
        (httpx.post(moves, json={**BELL, "revision": 0}), 409, "changed elsewhere"),
        (
            httpx.post(moves, json={**BELL, "frequency_hz": 3}),
            400,
            "frequency_hz is 3, but it must lie between 10 and 24000 Hz",
        ),
        (httpx.post(moves, json={**BELL, "colour": "red"}), 422, "colour: extra inputs"),
        (httpx.post(f"{address}/api/songs", json={"name": "x", "sample_rate": 5}), 400, "sample_rate is 5"),
        (httpx.get(f"{address}/api/nowhere"), 404, "nothing at this address"),
        (httpx.post(f"{address}/api/songs/{song_id}/redo"), 409, "nothing to redo"),
        (httpx.get(f"{address}/api/tasks/{task}/files/secret.txt"), 404, "no exported file"),
    ]
    for answer, status, says in cases:
        assert answer.status_code == status, answer.text
        assert answer.headers["content-type"] == "application/problem+json"
        assert says in answer.json()["detail"]
        more = {"song"} if "changed elsewhere" in says else set()  # a stale change gets the present state
        assert set(answer.json()) == {"type", "title", "status", "detail"} | more


def test_a_bad_file_fails_with_its_sentence_and_the_others_go_on(
    address: str, song_id: int, tmp_path: Path, noise: Floats
) -> None:
    (tmp_path / "a.wav").write_bytes(b"nothing musical")
    soundfile.write(tmp_path / "b.wav", np.tile(noise, (1, 2)), 48_000)
    soundfile.write(tmp_path / "c.wav", noise[:10_000], 48_000)
    tasks = [send_file(address, song_id, tmp_path / f"{name}.wav") for name in "abc"]
    assert [t["state"] for t in tasks] == ["failed", "failed", "done"]
    assert "a.wav: this is not a sound file we know" in str(tasks[0]["message"])
    assert "b.wav: it has 4 channels" in str(tasks[1]["message"])
    assert [t["name"] for t in _song(address, song_id)["tracks"]] == ["Marimba", "C"]


def test_stems_are_written_and_fetched(address: str, song_id: int) -> None:
    track = _song(address, song_id)["tracks"][0]
    body = {"track_ids": [track["id"]], "depth": "16", "container": "flac"}
    task = httpx.post(f"{address}/api/songs/{song_id}/exports", json=body).json()
    done = wait_for_task(address, task["id"])
    assert done["state"] == "done", done
    name = done["result"]["files"][0]  # type: ignore[index]
    answer = httpx.get(f"{address}/api/tasks/{task['id']}/files/{name}")
    assert answer.headers["content-type"].startswith("audio/")
    assert len(answer.content) > 10_000


def test_a_running_import_can_be_cancelled(address: str, song_id: int, tmp_path: Path) -> None:
    long = np.random.default_rng(1).standard_normal((44_100 * 90, 2)) * 0.1
    soundfile.write(tmp_path / "long.wav", long, 44_100)
    data = (tmp_path / "long.wav").read_bytes()
    task = httpx.post(f"{address}/api/songs/{song_id}/files", params={"name": "long.wav"}, content=data).json()
    while httpx.get(f"{address}/api/tasks/{task['id']}").json()["progress"] < 0.02:
        time.sleep(0.02)
    assert httpx.post(f"{address}/api/tasks/{task['id']}/cancel").status_code == 204
    ended = wait_for_task(address, task["id"])
    assert ended["state"] == "cancelled"
    assert "was cancelled" in str(ended["message"])
    assert len(_song(address, song_id)["tracks"]) == 1


def test_changes_are_told_to_every_page(address: str, song_id: int) -> None:
    told: list[tuple[str, dict[str, object]]] = []
    ready = threading.Event()

    def listen() -> None:
        kind = ""
        with httpx.stream("GET", f"{address}/api/songs/{song_id}/events", timeout=120) as stream:
            for line in stream.iter_lines():
                if line.startswith("event: "):
                    kind = line[7:]
                elif line.startswith("data: "):
                    told.append((kind, json.loads(line[6:])))
                    ready.set()
                    if kind == "song":
                        return

    listener = threading.Thread(target=listen)
    listener.start()
    assert ready.wait(10)
    song = _add_move(address, song_id)
    listener.join(10)
    assert told[0][0] == "ready"
    assert told[-1] == ("song", {"song_id": song_id, "kind": "song", "revision": song["revision"]})


def test_sheets_come_in_three_forms_with_a_schema(address: str, song_id: int) -> None:
    _add_move(address, song_id)
    base = f"{address}/api/songs/{song_id}"
    song = httpx.get(f"{base}/sheet.json").json()
    sheet = next(strip["sheet"] for strip in song["strips"] if strip["name"] == "Marimba")
    assert sheet["moves"][0]["frequency_hz"] == 412.0
    assert (
        httpx.get(f"{base}/sheet.csv").text.splitlines()[1].startswith("Marimba,1,bell,412.0,G♯4 -14 ct,-6.0,14.4,0.1")
    )
    assert "<td>412.0</td>" in httpx.get(f"{base}/sheet.html").text
    schema = httpx.get(f"{address}/api/sheet-schema.json").json()
    jsonschema_rs.validate(schema, sheet)
    jsonschema_rs.validate(schema, {"format": "mivlo-sheet", "version": 1, "moves": []})
    with pytest.raises(jsonschema_rs.ValidationError):
        jsonschema_rs.validate(schema, {**sheet, "phase": "none"})


def test_the_page_is_served_with_a_policy_that_lets_nothing_in_from_outside(address: str) -> None:
    for path in ("/", "/bench/3", "/../../etc/passwd"):
        answer = httpx.get(address + path)
        assert answer.status_code == 200
        assert "<title>Mivlo</title>" in answer.text
        assert "default-src 'self'" in answer.headers["content-security-policy"]
    assert httpx.get(f"{address}/player.js").headers["content-type"].startswith("text/javascript")


def test_the_server_answers_while_it_computes(address: str, song_id: int) -> None:
    # many uncached treated maps in threads; a small question must still be answered between them
    base = f"{address}/api/songs/{song_id}/tracks/{_song(address, song_id)['tracks'][0]['id']}"
    _add_move(address, song_id, frequency_hz=333.0)
    stop = threading.Event()
    works: list[float] = []

    def load() -> None:
        k = 0
        while not stop.is_set():
            start = time.monotonic()
            httpx.get(f"{base}/profile", params={"from_s": 0.1 + k * 0.001, "to_s": 8.0})
            works.append(time.monotonic() - start)
            k += 1

    threads = [threading.Thread(target=load) for _ in range(3)]
    for thread in threads:
        thread.start()
    try:
        waits = []
        while len(works) < 12:  # as long as there is much to do
            start = time.monotonic()
            assert httpx.get(f"{address}/api/sheet-schema.json").status_code == 200
            waits.append(time.monotonic() - start)
    finally:
        stop.set()
        for thread in threads:
            thread.join()
    # if the loop computed, each question would wait until whole analyses are done; a busy machine is slow with both
    assert statistics.median(waits) < 0.8 * statistics.median(works)


def _findings(address: str, song_id: int, *, treated: bool) -> dict:  # type: ignore[type-arg]
    """What stands out in the first track, once it was looked at with or without moves."""
    track = _song(address, song_id)["tracks"][0]["id"]
    deadline = time.monotonic() + PATIENCE_S
    while True:
        found = httpx.get(f"{address}/api/songs/{song_id}/tracks/{track}/findings").json()
        if found["fresh"] and found["treated"] is treated and found["looking"] is None:
            return dict(found)
        assert time.monotonic() < deadline, {k: v for k, v in found.items() if k not in ("findings", "along")}
        time.sleep(0.1)


def test_a_track_is_looked_at_after_import_and_again_after_a_change(address: str, song_id: int) -> None:
    before = _findings(address, song_id, treated=False)
    along = before["along"]
    assert len(along["hz"]) == len(along["excess_db"]) == len(along["ring_ms"]) > 90
    assert before["to_s"] == pytest.approx(_song(address, song_id)["duration_s"], abs=0.01)
    _add_move(address, song_id, gain_db=-3.0)
    assert _findings(address, song_id, treated=True)["fresh"]
    # a look that has ended well is not among the tasks that a user sees
    assert [t["kind"] for t in httpx.get(f"{address}/api/songs/{song_id}/tasks").json()] == ["import"]


def test_decisions_on_findings_that_are_not_there_are_refused_with_a_sentence(address: str, song_id: int) -> None:
    for act in ("accept", "reject", "reopen"):
        answer = httpx.post(f"{address}/api/songs/{song_id}/findings/999999/{act}", json={})
        assert answer.status_code == 404
        assert "There is no finding" in answer.json()["detail"]
    assert httpx.get(f"{address}/api/songs/{song_id}/tracks/999999/findings").status_code == 404
    assert httpx.get(f"{address}/api/songs/{song_id}/repeats").json() == []
    assert httpx.post(f"{address}/api/songs/{song_id}/look").status_code == 202
