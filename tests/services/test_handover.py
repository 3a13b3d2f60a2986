"""Sheets and stems: what is handed over is what was decided, and what was heard."""

from __future__ import annotations

import csv
import io
import json
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile
from scipy import signal

from mivlo.audio.encode import Container, Depth
from mivlo.audio.originals import original_name
from mivlo.core.errors import InvalidValue, MivloError
from mivlo.core.graph import StripKind, Tap, compile, render
from mivlo.core.moves import BUTTERWORTH_Q, Channels, Entry, Shape, StaticMove, Treatment
from mivlo.core.roles import Role
from mivlo.core.units import Floats
from mivlo.live.engine import Engine
from mivlo.live.modes import Scope
from mivlo.services.handover import exporting, sheets
from mivlo.services.handover.exporting import ExportOptions
from mivlo.services.recordings import files
from mivlo.services.recordings.importing import song_sources
from mivlo.services.song import edits, moves, songs, strips
from mivlo.services.song.naming import guess_role, name_from_file
from mivlo.services.song.state import SongState, read_song
from mivlo.store.database import session
from tests.conftest import bring_in, exported, song_state
from tests.core.graph import kinds
from tests.core.graph.kinds import GiveWay
from tests.scenes import scene

MOVES = (
    StaticMove(Shape.BELL, 412.0, q=14.4, gain_db=-6.0),
    StaticMove(Shape.LOW_CUT, 80.0, slope_db_per_octave=24),
    StaticMove(Shape.HIGH_SHELF, 6_000.0, gain_db=2.5),
    StaticMove(Shape.NOTCH, 1_000.0, q=30.0),
)
TREATMENT = Treatment(entries=tuple(Entry(id=i, move=m, enabled=i < 3) for i, m in enumerate(MOVES)))


@pytest.fixture
def song(database_url: str, marimba_wav: Path, write_wav, noise: Floats) -> SongState:  # type: ignore[no-untyped-def]
    """A song with a sampled stereo track and a mono one at another rate, both treated."""

    def make() -> int:
        with session() as s:
            song_id = songs.create_song(s, "Weir & Sluice", 48_000).id
        for path in (marimba_wav, write_wav(noise[:44_100, :1], name="Shaker.wav", rate=44_100)):
            track = bring_in(song_id, path)
            with session() as s:
                for entry in TREATMENT.entries:
                    moves.add_move(s, song_id, track, entry, None)
        return song_id

    return song_state(scene("two treated", make))


def _export(song: SongState, tracks: list[int], **options) -> Path:  # type: ignore[no-untyped-def]
    chosen = ExportOptions(
        tuple(song.tracks[i].id for i in tracks),
        options.get("depth", Depth.FLOAT_32),
        options.get("container", Container.WAV),
        options.get("original_rate", False),
    )
    task = exporting.request_export(song.id, chosen)
    name = exporting.run_export(task.id)["files"][0]
    return exported(task.id, name)


def test_the_exported_file_is_what_the_live_engine_played(song: SongState) -> None:
    track = song.tracks[0]
    exported, rate = soundfile.read(_export(song, [0]), always_2d=True)
    engine = Engine(song.plan, song_sources(song))
    engine.set_focus(track.id)
    engine.set_scope(Scope.ALONE)
    engine.set_loop(False)
    engine.play()
    engine.render()  # fades in
    start = engine.position
    heard = np.concatenate([engine.render().samples for _ in range(len(exported) // 512 - 2)])
    assert rate == 48_000
    assert np.max(np.abs(exported)) > 0.05
    difference = np.max(np.abs(heard - exported[start : start + len(heard)]))
    assert difference < 1e-6  # -120 dBFS


def test_after_a_seek_the_live_engine_plays_the_same_too(song: SongState) -> None:
    exported, _ = soundfile.read(_export(song, [0]), always_2d=True)
    engine = Engine(song.plan, song_sources(song))
    engine.set_focus(song.tracks[0].id)
    engine.set_scope(Scope.ALONE)
    engine.seek(123_457)
    engine.play()
    engine.render()
    start = engine.position
    heard = np.concatenate([engine.render().samples for _ in range(40)])
    assert start == 123_457 + 512
    assert np.max(np.abs(heard - exported[start : start + len(heard)])) < 1e-6


@pytest.mark.parametrize(
    ("depth", "subtype"), [(Depth.BITS_16, "PCM_16"), (Depth.BITS_24, "PCM_24"), (Depth.FLOAT_32, "FLOAT")]
)
def test_stems_have_the_length_and_channels_of_their_source(song: SongState, depth: Depth, subtype: str) -> None:
    info = soundfile.info(_export(song, [0], depth=depth))
    track = song.tracks[0]
    assert (info.subtype, info.frames, info.channels) == (subtype, track.source_frames, track.channels)


def test_the_original_rate_is_treated_at_that_rate(song: SongState) -> None:
    info = soundfile.info(_export(song, [1], original_rate=True, container=Container.FLAC))
    assert (info.samplerate, info.frames, info.channels, info.format) == (44_100, 44_100, 1, "FLAC")


def test_what_can_be_heard_can_be_exported_when_the_store_has_lost_the_recording(song: SongState) -> None:
    before, _ = soundfile.read(_export(song, [0]))
    track = song.tracks[0]
    files.store().remove(original_name(track.audio_sha256, track.file_name))
    for container in Container:
        task = exporting.request_export(song.id, ExportOptions((track.id,), Depth.BITS_24, container, False))
        result = exporting.run_export(task.id)
        again, _ = soundfile.read(exported(task.id, result["files"][0]))
        assert np.max(np.abs(again - before)) < 2.0**-22
        said = [notice for notice in result["notices"] if "missing in the store" in notice]
        assert len(said) == (container is Container.WAV)  # nothing else carries marks


@pytest.mark.parametrize("original_rate", [False, True])
@pytest.mark.parametrize("treated", [False, True])
def test_a_turned_track_is_exported_turned_and_cancels_itself(
    song: SongState, original_rate: bool, treated: bool
) -> None:
    track = song.tracks[1]
    if treated:
        with session() as s:
            moves.add_move(s, song.id, track.id, Entry(move=StaticMove(Shape.BELL, 400.0, gain_db=-6.0)), None)
    before, _ = soundfile.read(_export(song, [1], original_rate=original_rate))
    with session() as s:
        strips.change_strip(s, song.id, track.id, None, {"turned": True})
    after, _ = soundfile.read(_export(song, [1], original_rate=original_rate))
    assert np.max(np.abs(before)) > 0.01
    assert np.max(np.abs(before + after)) < 2.0**-22
    said = sheets.sheet_document(sheets.song_sheet(song_state(song.id)))["strips"]
    assert [s.get("turned") for s in said if s["kind"] == "track"] == [None, True]
    assert "its polarity is turned" in sheets.sheet_csv(song_state(song.id))
    with session() as s:
        mix = next(i for i in read_song(s, song.id).strips if i.kind is StripKind.MIX)
        with pytest.raises(InvalidValue, match="only a track's polarity"):
            strips.change_strip(s, song.id, mix.id, None, {"turned": True})
        edits.undo(s, song.id)
        assert not read_song(s, song.id).strip(track.id).turned


def test_several_stems_come_in_one_archive_with_the_sheet(song: SongState) -> None:
    with zipfile.ZipFile(_export(song, [0, 1])) as archive:
        assert sorted(archive.namelist()) == ["01_Marimba.wav", "02_Shaker.wav", "sheet.json"]
        assert json.loads(archive.read("sheet.json"))["song"] == "Weir & Sluice"
        frames = soundfile.info(io.BytesIO(archive.read("02_Shaker.wav"))).frames
    assert frames == 48_000


def test_an_export_of_nothing_is_refused(song: SongState) -> None:
    with pytest.raises(InvalidValue, match="choose at least one track"):
        exporting.request_export(song.id, ExportOptions((), Depth.BITS_24, Container.WAV, False))


def test_a_sheet_can_be_read_back() -> None:
    text = json.dumps(sheets.sheet_document(sheets.make_sheet(TREATMENT, "Cajón")))
    assert sheets.parse_sheet(text).treatment == TREATMENT
    assert json.loads(text)["version"] == 1
    assert json.loads(text)["moves"][1] == {
        "shape": "low_cut", "frequency_hz": 80.0, "slope_db_per_octave": 24, "mode": "static", "enabled": True,
    }  # fmt: skip


def test_what_version_1_does_not_know_makes_a_sheet_of_version_2() -> None:
    entry = Entry(move=MOVES[0], channels=Channels.SIDE, stretches=((1.0, 2.5),), note="only the second verse")
    treatment = Treatment(entries=(entry,), amounts={"all": 0.5})
    text = json.dumps(sheets.sheet_document(sheets.make_sheet(treatment)))
    assert json.loads(text)["version"] == 2
    assert sheets.parse_sheet(text).treatment == treatment
    old = text.replace('"version": 2', '"version": 1').replace(', "amounts": {"all": 0.5}', "")
    with pytest.raises(MivloError, match=r"moves\.0\.channels is not a known key"):
        sheets.parse_sheet(old.replace('"id": "0", ', ""))


def test_the_sheet_of_the_documentation_is_understood() -> None:
    text = """{"format": "mivlo-sheet", "version": 1, "moves": [{"shape": "bell", "frequency_hz": 412.0,
    "q": 14.4, "gain_db": -6.0, "mode": "static", "enabled": true}]}"""
    assert sheets.parse_sheet(text).treatment == Treatment(entries=(Entry(move=MOVES[0]),))


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"colour": "red"}, r"moves\.0\.colour is not a known key"),
        ({"frequency_hz": 5.0}, r"moves\.0\.frequency_hz is 5\.0, but it must lie between 10 and 24000 Hz"),
        ({"frequency_hz": "high"}, r"moves\.0\.frequency_hz is 'high'"),
        ({"shape": "peak"}, r"moves\.0\.shape is 'peak'"),
        ({"q": -1}, r"moves\.0\.q is -1, but it must lie between 0\.1 and 100"),
        ({"mode": "dynamic"}, r"moves\.0\.mode is 'dynamic'"),
        ({"slope_db_per_octave": 12}, r"slope_db_per_octave is 12, but a bell has none"),
        ({"gain_db": None}, r"gain_db is None, but a bell needs it"),
        ({"shape": "low_cut", "gain_db": None, "q": None, "slope_db_per_octave": 15}, r"slope_db_per_octave is 15"),
        ({"shape": "notch"}, r"gain_db is -6\.0, but a notch has none"),
    ],
)
def test_unknown_keys_and_impossible_values_are_refused_by_name(change: dict[str, object], says: str) -> None:
    move = {"shape": "bell", "frequency_hz": 412.0, "q": 14.4, "gain_db": -6.0, **change}
    text = json.dumps({"format": "mivlo-sheet", "version": 1, "moves": [move]})
    with pytest.raises(MivloError, match=says):
        sheets.parse_sheet(text, "cuts.json")


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("{", "cuts.json: it is not JSON"),
        ('{"format": "other", "version": 1, "moves": []}', "format is 'other'"),
        ('{"format": "mivlo-sheet", "version": 3, "moves": []}', "version is 3"),
        ('{"format": "mivlo-sheet", "version": 1}', "moves is missing"),
    ],
)
def test_what_is_no_sheet_is_refused(text: str, says: str) -> None:
    with pytest.raises(MivloError, match=says):
        sheets.parse_sheet(text, "cuts.json")


def test_the_csv_holds_every_move_with_note_and_octaves(song: SongState) -> None:
    rows = list(csv.DictReader(io.StringIO(sheets.sheet_csv(song))))
    assert len(rows) == 8
    assert rows[0]["note"] == "G♯4 -14 ct"  # 412 Hz: G#4 is 415.30 Hz (ISO 16), 1200 log2(412/415.30) = -13.8
    assert (rows[0]["octaves"], rows[0]["gain_db"], rows[0]["q"]) == ("0.1", "-6.0", "14.4")
    assert (rows[1]["slope_db_per_octave"], rows[1]["gain_db"]) == ("24", "")
    assert rows[3]["enabled"] == "no"


def test_the_printed_page_escapes_and_lists_all(song: SongState) -> None:
    page = sheets.sheet_page(song)
    assert "Weir &amp; Sluice" in page
    assert page.count("<tr") == 2 + 8
    assert 'class="off"' in page


def test_the_schema_names_all_shapes() -> None:
    schema = json.dumps(sheets.sheet_schema())
    assert all(f'"{shape}"' in schema for shape in Shape)
    assert '"additionalProperties": false' in schema


def test_a_cut_without_q_is_butterworth() -> None:
    text = '{"format":"mivlo-sheet","version":1,"moves":[{"shape":"high_cut","frequency_hz":9000,"slope_db_per_octave":48}]}'
    assert sheets.parse_sheet(text).treatment.entries[0].move.q == BUTTERWORTH_Q


@pytest.mark.parametrize(
    ("name", "role"),
    [
        ("Upright bass", Role.BASS), ("Cajón", Role.PERCUSSION), ("Narrator", Role.VOICE), ("Room pair", Role.ROOM),
        ("Trumpet", Role.BRASS), ("Harmonium", Role.KEYS), ("E-Gtr 2", Role.GUITAR), ("Kick in", Role.DRUMS),
        ("Bassoon", Role.WINDS), ("Cello", Role.STRINGS), ("Audio 17", Role.OTHER), ("VOX_main", Role.VOICE),
    ],
)  # fmt: skip
def test_roles_are_guessed_from_names(name: str, role: Role) -> None:
    assert guess_role(name) is role


def test_names_come_from_files() -> None:
    assert name_from_file("stems/03_Upright-Bass.wav") == "Upright Bass"
    assert name_from_file("12 lead vox.take2.flac") == "Lead vox.take2"
    assert name_from_file("___.wav") == "Track"


def test_at_a_recordings_own_rate_what_it_listens_to_is_heard_at_that_rate(db: None, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    with session() as s:
        song_id = songs.create_song(s, "Weir", 48_000).id
    own = noise[:44_100]
    bring_in(song_id, write_wav(own, name="own.wav", rate=44_100, subtype="FLOAT"))
    bring_in(song_id, write_wav(noise[::-1] * 3, name="other.wav", subtype="FLOAT"))
    with kinds.known():
        read = song_state(song_id)
        first, second = read.tracks
        listening = replace(first, treatment=Treatment(entries=(Entry(id=1, move=GiveWay(second.id, 41)),)))
        song = replace(read, strips=tuple(listening if t.id == first.id else t for t in read.strips))
        options = ExportOptions((first.id,), Depth.FLOAT_32, Container.WAV, True)
        of_song = exporting._Sounds(song.plan, song_sources(song), {}, song.frames)
        sounds = exporting._sounds_for(listening, of_song, song, options)
        assert (sounds.plan.sample_rate, sounds.frames) == (44_100, len(own))
        made = np.concatenate(list(render(sounds.plan, sounds.sources, (first.id, Tap.BEHIND), 0, sounds.frames)))
        # the key as another library resamples it
        key = signal.resample_poly(noise[::-1] * 3, 147, 160, axis=0)
        plan = compile([t.strip() for t in (listening, second)], sample_rate=44_100)
        wanted = np.concatenate(
            list(render(plan, {first.id: own, second.id: key}, (first.id, Tap.BEHIND), 0, len(own)))
        )
        alone = np.concatenate(list(render(plan, {first.id: own}, (first.id, Tap.BEHIND), 0, len(own))))
    assert np.sqrt(np.mean((made - wanted) ** 2)) < 0.03 * np.sqrt(np.mean((made - alone) ** 2))
