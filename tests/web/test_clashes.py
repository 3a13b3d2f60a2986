"""Clashes, carves and the floor of a song, over HTTP, against what is exported."""

from __future__ import annotations

import threading
import time
from typing import Any

import httpx
import numpy as np
import pytest
import soundfile

from mivlo.core.auditory import components, frame_length
from mivlo.core.clashes import Scene, survey
from mivlo.core.errors import MivloError
from mivlo.core.graph import Tap, TreatedSound
from mivlo.services.clashes.heard import Turns
from mivlo.services.recordings.importing import song_sources
from tests.conftest import song_state
from tests.core.test_auditory import RATE
from tests.core.test_clashes import _band, _covered_pair
from tests.web.server import go_back, last_edit, send_file, wait_for_task

Document = dict[str, Any]


@pytest.fixture(scope="module")
def begun(address: str, db_of_module: None, tmp_path_factory: pytest.TempPathFactory) -> tuple[int, int]:
    """A song and its last edit: a voice, strings over it, and a bass. Made once, since no test is about making it."""
    folder = tmp_path_factory.mktemp("slipway")
    song = httpx.post(f"{address}/api/songs", json={"name": "Slipway", "sample_rate": RATE}).json()["id"]
    voice, strings = _covered_pair()
    bass = np.pad(_band()[1][0], (0, 2 * RATE))
    for name, x in (
        ("01_Voice.wav", voice),
        ("02_Strings.wav", np.stack([strings, strings], axis=1)),
        ("03_Bass.wav", bass),
    ):
        soundfile.write(folder / name, x, RATE, subtype="FLOAT")
        send_file(address, song, folder / name, name)
    base = f"{address}/api/songs/{song}"
    ids = _ids(base)
    httpx.patch(f"{base}/tracks/{ids[0]}", json={"role": "voice", "fader_db": -2.0})
    httpx.patch(f"{base}/tracks/{ids[1]}", json={"role": "strings", "pan": 0.2, "fader_db": 1.5})
    httpx.patch(f"{base}/tracks/{ids[2]}", json={"role": "bass"})
    return song, last_edit(address, song)


@pytest.fixture
def base(address: str, begun: tuple[int, int]) -> str:
    """The address of the song, as it was begun."""
    song, edit = begun
    go_back(address, song, edit)
    return f"{address}/api/songs/{song}"


def _ids(base: str) -> list[int]:
    return [t["id"] for t in httpx.get(base).json()["tracks"]]


def _clashes(base: str, **query: float) -> Document:
    answer = httpx.get(f"{base}/clashes", params=query)
    assert answer.status_code == 200, answer.text
    return dict(answer.json())


def _worst(base: str) -> Document:
    return dict(_clashes(base)["clashes"][0])


def _carve(base: str, **more: Any) -> Document:
    c = _worst(base)
    body = {key: c[key] for key in ("covered", "by", "from_hz", "to_hz")} | more
    answer = httpx.post(f"{base}/clashes/carve", json=body)
    assert answer.status_code == 200, answer.text
    return dict(answer.json())


def _moves(base: str, track: int) -> list[Document]:
    return list(next(t for t in httpx.get(base).json()["tracks"] if t["id"] == track)["moves"])


def test_a_song_says_who_covers_whom_as_its_export_would(base: str) -> None:
    voice, strings, _ = _ids(base)
    said = _clashes(base)
    worst = said["clashes"][0]
    assert (worst["covered"], worst["by"], worst["keeps"]) == (voice, strings, voice)
    assert worst["phrase"][1] - worst["phrase"][0] == pytest.approx(6.0, abs=0.05)
    assert len(said["hz"]) == len(said["tracks"][0]["alone"])
    # the same model over what is rendered behind every fader, at the same level
    song = song_state(int(base.rsplit("/", 1)[1])).exported()
    placed = [TreatedSound(song.plan, song_sources(song), (i, Tap.PLACED), song.frames)[:] for i in (voice, strings)]
    placed = [np.broadcast_to(x, (len(x), 2)) for x in placed]
    bass = TreatedSound(song.plan, song_sources(song), (_ids(base)[2], Tap.PLACED), song.frames)[:]
    powers = [components(x, sample_rate=RATE) for x in (*placed, np.broadcast_to(bass, (len(bass), 2)))]
    level = said["level_db_spl"] - said["mix_lufs"]
    scene = Scene.of(powers, full_scale_db=level, frame_s=frame_length(RATE) / RATE)
    for track, loss in zip(said["tracks"], survey(scene).losses, strict=True):
        assert track["kept"] == pytest.approx(loss.kept_share, abs=0.01)
        assert track["loudness"] == pytest.approx(loss.loudness, rel=0.02)


def test_faders_pans_and_mutes_count(base: str) -> None:
    voice, strings, _ = _ids(base)
    kept = {t["track_id"]: t["kept"] for t in _clashes(base)["tracks"]}
    httpx.patch(f"{base}/tracks/{strings}", json={"fader_db": -10.0})
    softer = {t["track_id"]: t["kept"] for t in _clashes(base)["tracks"]}
    assert softer[voice] > kept[voice] + 0.1
    httpx.patch(f"{base}/tracks/{strings}", json={"fader_db": 1.5, "mute": True})
    alone = _clashes(base)
    assert strings not in [t["track_id"] for t in alone["tracks"]]
    assert next(t["kept"] for t in alone["tracks"] if t["track_id"] == voice) > 0.95


def test_a_carve_is_measured_accepted_in_one_step_and_switched(base: str) -> None:
    voice, strings, _ = _ids(base)
    before = {t["track_id"]: t["kept"] for t in _clashes(base)["tracks"]}
    proposal = _carve(base)
    assert [m["track_id"] for m in proposal["moves"]] == [strings]
    move = proposal["moves"][0]["move"]
    assert move["links"] == ["carve"]
    assert "makes room for" in move["note"]
    assert proposal["gained"] > 0.8 * proposal["promised"] > 0.0
    assert httpx.get(base).json()["undo_label"] != "carve"  # nothing was changed yet
    body = {"label": "carve for the voice", "moves": proposal["moves"]}
    for m in body["moves"]:
        m["move"] = {k: v for k, v in m["move"].items() if k not in ("id", "octaves") and v is not None}
    accepted = httpx.post(f"{base}/clashes/accept", json=body)
    assert accepted.status_code == 201, accepted.text
    assert accepted.json()["undo_label"] == "carve for the voice"
    after = {t["track_id"]: t["kept"] for t in _clashes(base)["tracks"]}
    promised = next(k for k in proposal["kept"] if k["track_id"] == voice)
    assert before[voice] == pytest.approx(promised["before"], abs=2e-3)
    assert after[voice] == pytest.approx(promised["after"], abs=5e-3)  # the mix is a little softer now
    httpx.post(f"{base}/clashes/switch", json={"on": False})
    assert [m["enabled"] for m in _moves(base, strings)] == [False]
    off = {t["track_id"]: t["kept"] for t in _clashes(base)["tracks"]}
    assert off[voice] == pytest.approx(before[voice], abs=1e-3)
    httpx.post(f"{base}/undo")
    assert [m["enabled"] for m in _moves(base, strings)] == [True]
    httpx.post(f"{base}/undo")
    assert _moves(base, strings) == []


def test_right_of_way_can_be_swapped_and_shared(base: str) -> None:
    voice, strings, _ = _ids(base)
    assert [m["track_id"] for m in _carve(base, way="by")["moves"]] == [voice]
    shared = _carve(base, way="share", max_cut_db=6.0)
    assert sorted(m["track_id"] for m in shared["moves"]) == [voice, strings]
    for m in shared["moves"]:
        assert abs(m["move"]["range_db"] if m["move"]["mode"] == "dynamic" else m["move"]["gain_db"]) <= 3.05
    assert _carve(base, keyed=False)["moves"][0]["move"]["mode"] == "static"
    keyed = _carve(base, keyed=True)["moves"][0]["move"]
    assert (keyed["mode"], keyed["key"]["source"]) == ("dynamic", voice)


def test_a_decision_on_a_clash_outlives_what_is_computed_and_overrides_the_order(base: str) -> None:
    voice, strings, bass = _ids(base)
    worst = _worst(base)
    assert worst["keeps"] == voice
    body = {key: worst[key] for key in ("covered", "by", "from_hz", "to_hz")}
    # in a range that is told a little otherwise it is the same place, and told the other way round the same two
    moved = {**body, "covered": strings, "by": voice, "from_hz": body["from_hz"] * 1.05}
    told = httpx.post(f"{base}/clashes/decide", json={**moved, "way": "covered"}).json()
    assert told["decisions"] == [{**moved, "way": "covered"}]
    assert (_worst(base)["keeps"], _worst(base)["proposed"]) == (strings, voice)
    httpx.put(f"{base}/importance", json={"track_ids": [voice, bass, strings]})
    assert _worst(base)["keeps"] == strings
    assert _clashes(base)["order"] == [voice, bass, strings]
    shared = httpx.post(f"{base}/clashes/decide", json={**body, "way": "share"}).json()
    assert [d["way"] for d in shared["decisions"]] == ["share"]  # it takes the other one's place
    assert _worst(base)["keeps"] is None
    httpx.post(f"{base}/undo")
    assert _worst(base)["keeps"] == strings
    httpx.post(f"{base}/clashes/decide", json={**body, "way": None})
    assert (_worst(base)["keeps"], _worst(base)["why"]) == (voice, "it stands higher in your order")
    for wrong in (
        {**body, "way": "both"},
        {**body, "by": body["covered"], "way": "by"},
        {**body, "by": 10**6, "way": "by"},
    ):
        answer = httpx.post(f"{base}/clashes/decide", json=wrong)
        assert answer.status_code in (400, 422), answer.text
    assert httpx.get(base).json()["decisions"] == []


def test_an_order_by_hand_settles_right_of_way_and_is_undone(base: str) -> None:
    voice, strings, bass = _ids(base)
    assert _clashes(base)["order"] == [voice, bass, strings]  # by role
    told = httpx.put(f"{base}/importance", json={"track_ids": [strings, voice, bass]}).json()
    assert [t["importance"] for t in told["tracks"]] == [1, 0, 2]
    assert (_worst(base)["keeps"], _worst(base)["why"]) == (strings, "it stands higher in your order")
    httpx.post(f"{base}/undo")
    assert _worst(base)["keeps"] == voice
    for wrong in ([voice, voice], [10**6]):
        answer = httpx.put(f"{base}/importance", json={"track_ids": wrong})
        assert (answer.status_code, "each once" in answer.json()["detail"]) == (400, True)


def test_a_passage_can_have_an_order_of_its_own(base: str) -> None:
    voice, strings, bass = _ids(base)
    httpx.put(f"{base}/importance", json={"track_ids": [voice, strings, bass]})
    stretch = {"from_s": 1.0, "to_s": 3.0}
    told = httpx.put(f"{base}/importance", json={"track_ids": [strings, bass, voice], **stretch}).json()
    assert told["orders"] == [{**stretch, "track_ids": [strings, bass, voice]}]
    assert [t["importance"] for t in told["tracks"]] == [0, 1, 2]  # that of the song stays
    whole, passage, near, far = (
        httpx.get(f"{base}/clashes", params=p).json()
        for p in ({}, stretch, {"from_s": 1.1, "to_s": 3.2}, {"from_s": 2.5, "to_s": 4.0})
    )
    orders = {"whole": [voice, strings, bass], "passage": [strings, bass, voice]}
    assert (whole["order"], whole["order_of"]) == (orders["whole"], "song")
    assert (passage["order"], passage["order_of"]) == (orders["passage"], "passage")
    assert (near["order"], near["order_of"]) == (orders["passage"], "passage")  # nearly the same passage
    assert (far["order"], far["order_of"]) == (orders["whole"], "song")
    # one for nearly the same passage takes its place, none gives it back, and both are undone
    again = httpx.put(f"{base}/importance", json={"track_ids": [bass], "from_s": 0.9, "to_s": 3.0}).json()
    assert [o["track_ids"] for o in again["orders"]] == [[bass]]
    assert httpx.put(f"{base}/importance", json={"track_ids": [], **stretch}).json()["orders"] == []
    assert httpx.post(f"{base}/undo").json()["orders"] == again["orders"]
    assert httpx.post(f"{base}/undo").json()["orders"] == told["orders"]
    for wrong in ({"from_s": 3.0, "to_s": 1.0}, {"from_s": -1.0, "to_s": 2.0}, {"from_s": 2.0, "to_s": 2.0}):
        answer = httpx.put(f"{base}/importance", json={"track_ids": [voice], **wrong})
        assert answer.status_code in (400, 422), answer.text
    httpx.delete(f"{base}/tracks/{strings}")
    assert httpx.get(base).json()["orders"] == [{**stretch, "track_ids": [bass, voice]}]


def test_how_loud_the_mix_is_taken_to_be_is_a_setting(base: str) -> None:
    usual = _clashes(base)
    assert usual["level_db_spl"] == 79.0
    httpx.patch(base, json={"playback_db_spl": 60})
    soft = _clashes(base)
    assert soft["level_db_spl"] == 60.0
    # all are softer, by the law of loudness: about half for every 10 dB (ISO 226, Stevens), less where others hide it
    for before, after in zip(usual["tracks"], soft["tracks"], strict=True):
        assert 0.1 < after["loudness"] / before["loudness"] < 0.4
        level, then = np.array(before["level_db"]), np.array(after["level_db"])
        heart = level > level.max() - 6.0  # further off it falls faster: a filter is the steeper, the softer it is
        assert then[heart] == pytest.approx(level[heart] - 19.0, abs=2.5)
    for wrong in (20, 200, "loud"):
        assert httpx.patch(base, json={"playback_db_spl": wrong}).status_code == 422


def test_what_piles_up_in_a_group_is_told_and_taken_in_one_step(base: str) -> None:
    voice, strings, bass = _ids(base)
    group = httpx.post(f"{base}/groups", json={"name": "All", "strip_ids": [voice, strings, bass]}).json()
    band = next(s["id"] for s in group["strips"] if s["name"] == "All")
    said = httpx.get(f"{base}/strips/{band}/pile").json()
    assert sum(t["share"] for t in said["tracks"]) == pytest.approx(1.0, abs=1e-3)
    on_group = said["cuts"][0]
    assert (on_group["on"], [m["track_id"] for m in on_group["moves"]]) == ("group", [band])
    move = {k: v for k, v in on_group["moves"][0]["move"].items() if k not in ("id", "octaves")}
    answer = httpx.post(f"{base}/clashes/accept", json={"label": "harsh", "moves": [{"track_id": band, "move": move}]})
    assert answer.status_code == 201, answer.text
    less = httpx.get(f"{base}/strips/{band}/pile").json()
    assert [t["share"] for t in less["tracks"]] == pytest.approx([t["share"] for t in said["tracks"]], abs=0.02)
    assert httpx.get(f"{base}/strips/{voice}/pile").status_code == 400
    assert httpx.get(f"{base}/strips/{band}/pile", params={"depth_db": 60}).status_code == 422


def test_a_cut_on_one_of_two_microphones_is_made_in_linear_phase(base: str) -> None:
    strings = _ids(base)[1]
    cut = {"track_id": strings, "frequency_hz": 40.0, "slope_db_per_octave": 24, "linear": True}
    told = httpx.post(f"{base}/floor", json={"cuts": [cut]}).json()
    assert [t["phase"] for t in told["tracks"]] == ["minimum", "linear", "minimum"]
    back = httpx.post(f"{base}/undo").json()
    assert [(t["phase"], t["moves"]) for t in back["tracks"]] == [("minimum", [])] * 3


def test_freeing_a_track_keeps_to_its_limits(base: str) -> None:
    voice, strings, bass = _ids(base)
    body = {"track_id": voice, "max_cut_db": 3.0, "most_moves": 2}
    freed = httpx.post(f"{base}/clashes/free", json=body).json()
    assert 1 <= len(freed["moves"]) <= 2
    assert {m["track_id"] for m in freed["moves"]} <= {strings, bass}
    kept = next(k for k in freed["kept"] if k["track_id"] == voice)
    assert kept["after"] > kept["before"]
    gains = [gained for gained, _ in freed["steps"]]
    assert len(gains) >= len(freed["moves"])
    assert gains == sorted(gains)
    assert gains[len(freed["moves"]) - 1] == pytest.approx(freed["promised"], abs=1e-3)
    spared = httpx.post(f"{base}/clashes/free", json={**body, "untouched": [strings, bass]})
    assert spared.status_code == 400
    assert "Nothing within the limits" in spared.json()["detail"]


def test_the_floor_is_accepted_in_one_step(base: str) -> None:
    voice, strings, bass = _ids(base)
    floor = httpx.get(f"{base}/floor").json()
    rows = {t["track_id"]: t for t in floor["tracks"]}
    assert rows[bass]["left_alone"] == "it lives in the low end"
    assert rows[voice]["corner_in_mix_hz"] > 50.0
    cuts = [
        {
            "track_id": i,
            "frequency_hz": rows[i]["corner_in_mix_hz"],
            "slope_db_per_octave": rows[i]["slope_db_per_octave"],
        }
        for i in (voice, strings)
    ]
    before = {t["track_id"]: t["in_mix"] for t in _clashes(base)["tracks"]}
    assert httpx.post(f"{base}/floor", json={"cuts": cuts}).status_code == 201
    after = {t["track_id"]: t["in_mix"] for t in _clashes(base)["tracks"]}
    for track in (voice, strings, bass):
        assert after[track] > 0.985 * before[track]
    assert [m["shape"] for i in (voice, strings) for m in _moves(base, i)] == ["low_cut", "low_cut"]
    httpx.post(f"{base}/undo")
    assert [_moves(base, i) for i in (voice, strings)] == [[], []]


def _group(base: str, name: str, *inside: int) -> int:
    made = httpx.post(f"{base}/groups", json={"name": name, "strip_ids": inside}).json()
    return int(next(s["id"] for s in made["strips"] if s["name"] == name))


def test_a_folded_group_stands_for_its_tracks_with_all_that_it_does(base: str) -> None:
    voice, strings, bass = _ids(base)
    band = _group(base, "Band", strings, bass)
    httpx.patch(f"{base}/tracks/{band}", json={"fader_db": -2.0, "pan": 0.1})
    move = {
        "mode": "dynamic",
        "shape": "bell",
        "frequency_hz": 1_500.0,
        "q": 0.7,
        "threshold_db": -60.0,
        "range_db": -9.0,
        "ratio": 10.0,
    }
    assert httpx.post(f"{base}/tracks/{band}/moves", json=move).status_code == 201
    said = httpx.get(f"{base}/clashes", params={"folded": band}).json()
    assert [t["track_id"] for t in said["tracks"]] == [voice, band]
    assert {(c["covered"], c["by"]) for c in said["clashes"]} <= {(voice, band), (band, voice)}
    # as the model hears what is rendered behind the group's fader
    song = song_state(int(base.rsplit("/", 1)[1])).exported()
    placed = [TreatedSound(song.plan, song_sources(song), (i, Tap.PLACED), song.frames)[:] for i in (voice, band)]
    powers = [components(np.broadcast_to(x, (len(x), 2)), sample_rate=RATE) for x in placed]
    level = said["level_db_spl"] - said["mix_lufs"]
    scene = Scene.of(powers, full_scale_db=level, frame_s=frame_length(RATE) / RATE)
    for track, loss in zip(said["tracks"], survey(scene).losses, strict=True):
        assert track["kept"] == pytest.approx(loss.kept_share, abs=0.01)
        assert track["loudness"] == pytest.approx(loss.loudness, rel=0.02)
    # a carve on all that it holds goes 2 dB deep at most
    worst = next(c for c in said["clashes"] if c["covered"] == voice)
    body = {key: worst[key] for key in ("covered", "by", "from_hz", "to_hz")}
    made = httpx.post(f"{base}/clashes/carve", json={**body, "folded": [band], "max_cut_db": 6.0}).json()
    assert [m["track_id"] for m in made["moves"]] == [band]
    for m in made["moves"]:
        assert abs(m["move"]["range_db"] if m["move"]["mode"] == "dynamic" else m["move"]["gain_db"]) <= 2.01


def test_one_against_one_hears_nobody_else(base: str) -> None:
    voice, strings, bass = _ids(base)
    everyone = {t["track_id"]: t for t in _clashes(base)["tracks"]}
    two = httpx.get(f"{base}/clashes", params={"only": [voice, bass]}).json()
    assert [t["track_id"] for t in two["tracks"]] == [voice, bass]
    assert two["mix_lufs"] == _clashes(base)["mix_lufs"]  # as loud as in the mix
    for t in two["tracks"]:
        assert t["loudness"] == pytest.approx(everyone[t["track_id"]]["loudness"], rel=1e-3)
        assert t["kept"] >= everyone[t["track_id"]]["kept"] - 1e-3
    assert two["tracks"][0]["kept"] > everyone[voice]["kept"] + 0.05  # the strings are away
    assert strings not in {c[who] for c in two["clashes"] for who in ("covered", "by")}


def test_a_group_in_an_order_stands_for_its_tracks(base: str) -> None:
    voice, strings, bass = _ids(base)
    band = _group(base, "Band", strings, bass)
    told = httpx.put(f"{base}/importance", json={"track_ids": [band, voice]}).json()
    assert {t["id"]: t["importance"] for t in told["tracks"]} == {voice: 2, strings: 1, bass: 0}
    assert httpx.get(f"{base}/clashes", params={"folded": band}).json()["order"] == [band, voice]
    assert httpx.put(f"{base}/importance", json={"track_ids": [band, bass]}).status_code == 400


def test_groups_and_their_static_moves_count(base: str) -> None:
    voice, strings, _ = _ids(base)
    before = {t["track_id"]: t for t in _clashes(base)["tracks"]}
    group = httpx.post(f"{base}/groups", json={"name": "Band"}).json()
    band = next(s["id"] for s in group["strips"] if s["name"] == "Band")
    assert httpx.put(f"{base}/strips/{strings}/parent", json={"parent_id": band}).status_code == 200
    httpx.post(
        f"{base}/tracks/{band}/moves", json={"shape": "bell", "frequency_hz": 1_500.0, "q": 0.5, "gain_db": -12.0}
    )
    after = {t["track_id"]: t for t in _clashes(base)["tracks"]}
    assert after[voice]["kept"] > before[voice]["kept"] + 0.03


def test_the_whole_song_is_looked_at_as_long_work(base: str) -> None:
    assert httpx.get(f"{base}/clashes/song").json() == {"fresh": False, "clashes": None}
    address = base.split("/api/")[0]
    task, again = (httpx.post(f"{base}/clashes/song").json() for _ in (1, 2))
    for asked in (task, again):  # while it is under way there is one; a quick worker may have ended it
        assert wait_for_task(address, asked["id"])["state"] == "done"
    known = httpx.get(f"{base}/clashes/song").json()
    assert known["fresh"] is True
    assert known["clashes"] == _clashes(base)  # no passage is marked: the same stretch
    httpx.patch(f"{base}/tracks/{_ids(base)[1]}", json={"fader_db": -6.0})
    old = httpx.get(f"{base}/clashes/song").json()
    assert (old["fresh"], old["clashes"]) == (False, known["clashes"])
    httpx.post(f"{base}/undo")
    assert httpx.get(f"{base}/clashes/song").json()["fresh"] is True


@pytest.mark.parametrize("span", [(0.0, 0.0), (1.0, 1.001), (900.0, 901.0), (2.0, 1.0)])
def test_where_nothing_lies_nothing_is_found_and_nothing_breaks(base: str, span: tuple[float, float]) -> None:
    query = dict(zip(("from_s", "to_s"), span, strict=True))
    mix = next(s["id"] for s in httpx.get(base).json()["strips"] if s["kind"] == "mix")
    for path in ("clashes", "floor", f"strips/{mix}/pile"):
        answer = httpx.get(f"{base}/{path}", params=query)
        assert answer.status_code < 500, answer.text


def test_what_a_client_asks_wrongly_is_said_and_costs_nothing(base: str) -> None:
    voice, strings, bass = _ids(base)
    good = {"covered": voice, "by": strings, "from_hz": 500.0, "to_hz": 2_000.0}
    for bad, status in (
        ({"covered": 999_999}, 400), ({"by": None}, 422), ({"from_hz": 0}, 400), ({"way": "both"}, 422),
        ({"max_cut_db": 60}, 422), ({"covered": voice, "by": voice}, 400), ({"from_hz": 2_000.0, "to_hz": 500.0}, 400),
    ):  # fmt: skip
        answer = httpx.post(f"{base}/clashes/carve", json={**good, **bad})
        assert answer.status_code == status, (bad, answer.text)
    assert httpx.post(f"{base}/clashes/accept", json={"moves": []}).status_code == 422
    stranger = {"track_id": bass, "move": {"shape": "bell", "frequency_hz": 100.0, "gain_db": -1.0, "id": 3}}
    assert httpx.post(f"{base}/clashes/accept", json={"moves": [stranger]}).status_code == 422
    gone = {"track_id": 999_999, "move": {"shape": "bell", "frequency_hz": 100.0, "gain_db": -1.0}}
    assert httpx.post(f"{base}/clashes/accept", json={"moves": [gone]}).status_code == 404
    assert _clashes(base, from_s=5.0, to_s=5.0)["clashes"] == []
    assert _clashes(base, from_s=900.0, to_s=901.0)["tracks"] != []


def test_only_so_many_may_wait_to_compare() -> None:
    """Who asks without end is refused with a sentence, and holds none of the threads that serve the others."""
    turns = Turns(2)
    with turns:
        waiting = [threading.Thread(target=_take, args=(turns,)) for _ in range(1)]
        for thread in waiting:
            thread.start()
        time.sleep(0.1)
        with pytest.raises(MivloError, match="busy"), turns:
            pass
    for thread in waiting:
        thread.join(5)
        assert not thread.is_alive()
    with turns:
        pass


def _take(turns: Turns) -> None:
    with turns:
        pass
