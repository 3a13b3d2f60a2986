"""Groups and the mix over HTTP: routing, pictures against what is exported, treating a group in place of its tracks."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import pytest
import soundfile

from mivlo.core.loudness import gated_loudness
from mivlo.core.spectra import log_grid, long_term_levels
from mivlo.core.units import Floats
from tests.web.server import go_back, last_edit, send_file, wait_for_task

RATE = 48_000
Document = dict[str, Any]


@pytest.fixture(scope="module")
def begun(address: str, db_of_module: None, tmp_path_factory: pytest.TempPathFactory) -> tuple[int, int]:
    """A song of three tracks, 6 s, and its last edit: noise, noise of another sort, a low tone."""
    folder = tmp_path_factory.mktemp("lock")
    song = httpx.post(f"{address}/api/songs", json={"name": "Lock", "sample_rate": RATE}).json()["id"]
    random = np.random.default_rng(3)
    t = np.arange(6 * RATE) / RATE
    reed = random.standard_normal(len(t)) * 0.05
    brass = random.standard_normal((len(t), 2)) * 0.03
    tone = 0.2 * np.sin(2 * np.pi * 110.0 * t) * (t % 1.0 < 0.5)
    for name, x in (("01_Reed.wav", reed), ("02_Brass.wav", brass), ("03_Tone.wav", tone)):
        soundfile.write(folder / name, x, RATE, subtype="FLOAT")
        send_file(address, song, folder / name, name)
    return song, last_edit(address, song)


@pytest.fixture
def base(address: str, begun: tuple[int, int]) -> str:
    """The address of the song, as it was begun."""
    song, edit = begun
    go_back(address, song, edit)
    return f"{address}/api/songs/{song}"


def _song(base: str) -> Document:
    return dict(httpx.get(base).json())


def _strip(base: str, name: str) -> Document:
    return next(s for s in _song(base)["strips"] if s["name"] == name)


def _group(base: str, name: str, *inside: str) -> int:
    ids = [_strip(base, one)["id"] for one in inside]
    answer = httpx.post(f"{base}/groups", json={"name": name, "strip_ids": ids})
    assert answer.status_code == 201, answer.text
    return int(_strip(base, name)["id"])


def _bell(base: str, name: str, hz: float, gain: float, **more: Any) -> int:
    body = {"shape": "bell", "frequency_hz": hz, "q": 3.0, "gain_db": gain, **more}
    answer = httpx.post(f"{base}/tracks/{_strip(base, name)['id']}/moves", json=body)
    assert answer.status_code == 201, answer.text
    return int(_strip(base, name)["moves"][-1]["id"])


def _export(base: str, *ids: int) -> tuple[dict[str, Floats], str]:
    """The files by name, and what was said of them."""
    address = base.split("/api/")[0]
    task = httpx.post(f"{base}/exports", json={"track_ids": ids, "depth": "32f"}).json()
    done = wait_for_task(address, task["id"])
    assert done["state"] == "done", done
    (name,) = done["result"]["files"]  # type: ignore[index]
    body = httpx.get(f"{address}/api/tasks/{task['id']}/files/{name}").content
    if not name.endswith(".zip"):
        return {name: soundfile.read(io.BytesIO(body), always_2d=True)[0]}, str(done["message"])
    with zipfile.ZipFile(io.BytesIO(body)) as archive:
        files = {n: archive.read(n) for n in archive.namelist() if n.endswith(".wav")}
    return {n: soundfile.read(io.BytesIO(b), always_2d=True)[0] for n, b in files.items()}, str(done["message"])


def _only(files: dict[str, Floats]) -> Floats:
    (one,) = files.values()
    return one


def test_a_group_is_made_around_tracks_and_taken_back_in_one_step(base: str) -> None:
    order = [s["name"] for s in _song(base)["strips"]]
    band = _group(base, "Band", "Brass", "Tone")
    song = _song(base)
    assert [t["parent_id"] for t in song["tracks"]] == [None, band, band]
    assert song["undo_label"] == "add group Band"
    httpx.post(f"{base}/undo")
    song = _song(base)
    assert [s["name"] for s in song["strips"]] == order
    assert [t["parent_id"] for t in song["tracks"]] == [None, None, None]
    httpx.post(f"{base}/redo")
    assert [t["parent_id"] for t in _song(base)["tracks"]] == [None, band, band]
    refused = httpx.post(f"{base}/groups", json={"name": "All", "strip_ids": [_strip(base, "Mix")["id"]]})
    assert (refused.status_code, "routed nowhere" in refused.json()["detail"]) == (400, True)
    assert httpx.post(f"{base}/groups", json={"name": "All", "strip_ids": [10**6]}).status_code == 404


def test_a_strip_is_put_in_front_of_another_in_one_step(base: str) -> None:
    band = _group(base, "Band", "Tone")
    tone, reed = _strip(base, "Tone")["id"], _strip(base, "Reed")["id"]
    body = {"parent_id": band, "before_id": tone}
    song = httpx.put(f"{base}/strips/{reed}/parent", json=body).json()
    assert [(t["name"], t["parent_id"]) for t in song["tracks"]] == [("Brass", None), ("Reed", band), ("Tone", band)]
    assert song["undo_label"] == "Reed into Band"
    song = httpx.put(f"{base}/strips/{tone}/parent", json={"parent_id": band, "before_id": reed}).json()
    assert [t["name"] for t in song["tracks"]] == ["Brass", "Tone", "Reed"]
    song = httpx.post(f"{base}/undo").json()
    assert [t["name"] for t in song["tracks"]] == ["Brass", "Reed", "Tone"]
    song = httpx.put(f"{base}/strips/{reed}/parent", json={"parent_id": None}).json()
    assert [(t["name"], t["parent_id"]) for t in song["tracks"]] == [("Brass", None), ("Tone", band), ("Reed", None)]
    inside = httpx.put(f"{base}/strips/{band}/parent", json={"parent_id": band})
    assert (inside.status_code, "into itself" in inside.json()["detail"]) == (400, True)


def test_profile_and_map_of_a_group_are_those_of_its_export(base: str, tmp_path: Path) -> None:
    address, song = base.split("/api/")[0], base.rsplit("/", 1)[1]
    band = _group(base, "Band", "Brass", "Tone")
    httpx.patch(f"{base}/tracks/{_strip(base, 'Brass')['id']}", json={"fader_db": -3.0, "pan": 0.4})
    _bell(base, "Tone", 110.0, -6.0)
    untreated = _only(_export(base, band)[0])
    _bell(base, "Band", 2_000.0, -9.0)
    treated = _only(_export(base, band)[0])
    query = {"from_s": 0.0, "to_s": 6.0, "bands_per_octave": 12}
    seen = httpx.get(f"{base}/tracks/{band}/profile", params=query).json()
    for name, x in (("untreated_db", untreated), ("treated_db", treated)):
        levels = long_term_levels(x, log_grid(), sample_rate=RATE, bands_per_octave=12)
        assert np.max(np.abs(np.array(seen[name]) - levels)) < 0.02
    # the exported file, brought in as a track, has the same map
    soundfile.write(tmp_path / "04_Stem.wav", treated, RATE, subtype="FLOAT")
    send_file(address, int(song), tmp_path / "04_Stem.wav", "04_Stem.wav")
    stem = _strip(base, "Stem")["id"]
    info = httpx.get(f"{base}/tracks/{band}/map").json()
    assert info == httpx.get(f"{base}/tracks/{stem}/map").json()
    for level in range(info["levels"]):
        mine, its = (
            np.frombuffer(httpx.get(f"{base}/tracks/{i}/map/{level}/0{how}").content, dtype=np.uint8).astype(int)
            for i, how in ((band, "?treated=true"), (stem, ""))
        )
        assert mine.shape == its.shape
        loud = its > 60
        assert loud.any()
        assert np.max(np.abs(mine - its)[loud]) <= 1
    # what reaches it is told under another name once it is another sound
    before = _song(base)["arrives"][str(band)]
    httpx.patch(f"{base}/tracks/{_strip(base, 'Brass')['id']}", json={"fader_db": -4.0})
    assert _song(base)["arrives"][str(band)] != before
    httpx.post(f"{base}/undo")
    assert _song(base)["arrives"][str(band)] == before
    picture = httpx.get(f"{base}/tracks/{band}/waveform", params={"points": 200}).content
    lows, highs = np.frombuffer(picture, dtype=np.int8).reshape(-1, 2).T
    assert lows.min() < 0 < highs.max()


def test_groups_are_looked_at_when_somebody_asks_and_only_then(base: str) -> None:
    address = base.split("/api/")[0]
    band = _group(base, "Band", "Brass", "Tone")
    for name in ("Brass", "Tone"):
        httpx.patch(f"{base}/tracks/{_strip(base, name)['id']}", json={"fader_db": -1.0})
    httpx.post(f"{base}/look")

    def looks() -> list[Document]:
        return [t for t in httpx.get(f"{base}/tasks").json() if (t["kind"], t["label"]) == ("analyse", "Band")]

    assert looks() == []
    assert httpx.get(f"{base}/tracks/{band}/findings").json()["fresh"] is False
    assert httpx.post(f"{base}/tracks/{band}/look").status_code == 202
    httpx.post(f"{base}/tracks/{band}/look")  # while it waits or when it is done: nothing more
    (task,) = looks()
    assert wait_for_task(address, task["id"])["state"] == "done"
    assert httpx.get(f"{base}/tracks/{band}/findings").json()["fresh"] is True
    httpx.patch(f"{base}/tracks/{_strip(base, 'Tone')['id']}", json={"fader_db": -9.0})
    httpx.post(f"{base}/look")
    assert httpx.get(f"{base}/tracks/{band}/findings").json()["fresh"] is False
    assert looks() == []


def test_a_group_is_treated_in_place_of_its_tracks_as_was_said_and_measured(base: str) -> None:
    band = _group(base, "Band", "Brass", "Tone", "Reed")
    ids = [_bell(base, "Reed", 430.0, -4.0), _bell(base, "Brass", 440.0, -8.0), _bell(base, "Tone", 3_000.0, 3.0)]
    kept = _bell(base, "Tone", 110.0, -2.0)
    body = {"direction": "to_group", "move_ids": ids}
    plan = httpx.post(f"{base}/strips/{band}/gathering", json=body).json()
    assert [(line["move"]["gain_db"], sorted(line["of"])) for line in plan["lines"]] == [
        (-6.0, sorted(ids[:2])), (3.0, [ids[2]]),
    ]  # fmt: skip
    assert plan["lines"][0]["move"]["frequency_hz"] == pytest.approx(np.sqrt(430 * 440), abs=0.01)
    assert plan["lines"][0]["says"] == "from Reed and Brass; 1 more track gets it too"
    before = _only(_export(base, band)[0])
    revision = _song(base)["revision"]
    song = httpx.post(f"{base}/strips/{band}/gather", json=body).json()
    assert song["undo_label"] == "treat Band in place of its tracks"
    after = _only(_export(base, band)[0])
    said = plan["difference"]
    assert said["lu"] == pytest.approx(
        gated_loudness(after, sample_rate=RATE) - gated_loudness(before, sample_rate=RATE), abs=0.02
    )
    grid = log_grid(3)
    change = np.subtract(
        *(long_term_levels(x, grid, sample_rate=RATE, bands_per_octave=3) for x in (after, before))
    )  # what lies 60 dB down counts for nothing; here all is noise
    assert said["most_db"] == pytest.approx(change[np.argmax(np.abs(change))], abs=0.02)
    assert [m["id"] for s in ("Reed", "Brass", "Tone") for m in _strip(base, s)["moves"]] == [kept]
    httpx.post(f"{base}/undo")
    assert _song(base)["revision"] == revision + 2
    assert [m["id"] for s in ("Reed", "Brass", "Tone") for m in _strip(base, s)["moves"]] == [*ids, kept]
    assert _strip(base, "Band")["moves"] == []
    assert np.array_equal(_only(_export(base, band)[0]), before)


def test_a_groups_moves_go_back_as_copies_and_static_ones_leave_the_sum_as_it_was(base: str) -> None:
    band = _group(base, "Band", "Brass", "Tone")
    move = _bell(base, "Band", 500.0, -6.0)
    side = _bell(base, "Band", 900.0, -3.0, channels="side")
    body = {"direction": "to_tracks", "move_ids": [move, side]}
    plan = httpx.post(f"{base}/strips/{band}/gathering", json=body).json()
    assert [line["of"] for line in plan["lines"]] == [[move], [move]]
    assert len(plan["stays"]) == 1
    assert "a mono track takes only all" in plan["stays"][0]
    # a filter of a sum is the sum of the filtered: nothing is heard of it
    assert abs(plan["difference"]["most_db"]) <= 0.01
    assert abs(plan["difference"]["lu"]) <= 0.01
    httpx.post(f"{base}/strips/{band}/gather", json=body)
    assert [m["id"] for m in _strip(base, "Band")["moves"]] == [side]
    assert [[m["frequency_hz"] for m in _strip(base, s)["moves"]] for s in ("Brass", "Tone")] == [[500.0], [500.0]]


def test_the_amounts_of_both_strips_are_heeded(base: str) -> None:
    band = _group(base, "Band", "Brass")
    move = _bell(base, "Brass", 500.0, -6.0)
    httpx.patch(f"{base}/tracks/{_strip(base, 'Brass')['id']}", json={"amounts": {"all": 0.5}})
    plan = httpx.post(f"{base}/strips/{band}/gathering", json={"direction": "to_group", "move_ids": [move]}).json()
    assert plan["lines"][0]["move"]["gain_db"] == -3.0
    assert abs(plan["difference"]["most_db"]) <= 0.01


@pytest.mark.parametrize(
    ("strip", "moves", "says"),
    [("Reed", [1], "choose a group or the mix"), ("Band", [10**6], "choose moves"), ("Empty", [1], "no track runs")],
)
def test_what_can_not_be_gathered_is_said(base: str, strip: str, moves: list[int], says: str) -> None:
    _group(base, "Band", "Brass")
    _group(base, "Empty")
    body = {"direction": "to_group", "move_ids": moves}
    for path in ("gathering", "gather"):
        answer = httpx.post(f"{base}/strips/{_strip(base, strip)['id']}/{path}", json=body)
        assert (answer.status_code, says in answer.json()["detail"]) == (400, True), answer.text


def test_stems_say_what_they_do_not_carry_and_a_group_and_the_mix_are_what_they_should_be(base: str) -> None:
    band = _group(base, "Band", "Brass", "Tone")
    brass, tone, mix = (_strip(base, name)["id"] for name in ("Brass", "Tone", "Mix"))
    httpx.patch(f"{base}/tracks/{brass}", json={"fader_db": -6.0, "pan": -0.3, "solo": True})
    httpx.patch(f"{base}/tracks/{tone}", json={"mute": True})
    httpx.patch(f"{base}/tracks/{band}", json={"fader_db": -10.0})
    _bell(base, "Band", 412.0, -6.0)
    files, said = _export(base, brass, band, mix)
    assert said == "Band has 1 move (bell 412 Hz) that the stem of Brass doesn't carry."
    stems = {name.split("_")[-1]: x for name, x in files.items()}
    # the group: its child's fader and pan, not its own fader, nobody's mute
    alone = {"fader_db": 0.0, "pan": 0.0}
    httpx.patch(f"{base}/tracks/{brass}", json={**alone, "solo": False})
    plain = _only(_export(base, band)[0])
    factor = stems["Band.wav"][RATE] / plain[RATE]
    assert np.all(factor > 0)
    assert factor[0] > factor[1]
    assert np.max(np.abs(stems["Band.wav"] - plain * factor)) < 1e-5
    # the mix: no solo, so the reed is in it
    quiet = stems["Mix.wav"] - stems["Band.wav"] * 10 ** (-10 / 20)
    stem = _only(_export(base, _strip(base, "Reed")["id"])[0])[:, 0]
    assert np.corrcoef(quiet[:, 0], stem)[0, 1] > 0.999
