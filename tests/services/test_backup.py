"""Backups: what comes back is what was there, to the bit; what is damaged or made up changes nothing."""

from __future__ import annotations

import hashlib
import io
import json
import threading
import zipfile
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import jsonschema_rs
import pytest
import soundfile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import func, select

from mivlo.audio.encode import Container, Depth
from mivlo.config import settings as ours
from mivlo.core.errors import MivloError
from mivlo.core.moves import DynamicMove, Entry, Key, Shape, StaticMove
from mivlo.core.units import Floats
from mivlo.services.backup import restoring, saving
from mivlo.services.backup.restoring import BadBackup
from mivlo.services.errors import NotFound, NothingToUndo
from mivlo.services.handover import exporting
from mivlo.services.handover.exporting import ExportOptions
from mivlo.services.song import edits, log, moves, rights, snapshots, songs, strips
from mivlo.services.song.state import SongState, read_song
from mivlo.store.database import session
from mivlo.store.models import RecordingRow, Song, TaskRow
from tests.conftest import bring_in, exported, song_state

BELL = StaticMove(Shape.BELL, 412.0, q=14.4, gain_db=-6.0)
PAGE = "mine"


@pytest.fixture
def song(db: None, write_wav, noise: Floats) -> SongState:  # type: ignore[no-untyped-def]
    """A song with two tracks in a group, moves, and a history with things undone and deleted."""
    with session() as s:
        song_id = songs.create_song(s, "Weir & Sluice", 48_000).id
    kick, vocal, gone = (
        bring_in(song_id, write_wav(noise[: 30_000 + 100 * i, : 1 + i % 2], name=name))
        for i, name in enumerate(("01_Kick.wav", "02_Lead-Vocal.wav", "Gone.wav"))
    )
    with session() as s:
        group = strips.add_group(s, song_id, "Band", page=PAGE)
        strips.route(s, song_id, kick, group, page=PAGE)
        first = moves.add_move(s, song_id, vocal, Entry(move=BELL, note="=ring"), None, page=PAGE)
        moves.add_move(s, song_id, kick, Entry(move=BELL, stretches=((0.1, 0.3),)), None, page=PAGE)
        moves.change_move(s, song_id, first, None, {"gain_db": -3.0}, page=PAGE)
        edits.undo(s, song_id, PAGE)
        strips.delete_strip(s, song_id, gone, None, page=PAGE)
        songs.change_song_values(s, song_id, None, {"passage_from_s": 0.1, "passage_to_s": 0.5}, page=PAGE)
    return song_state(song_id)


def _content(song: SongState) -> Any:
    """All that is heard and shown of a song, without its numbers."""
    names = {strip.id: strip.name for strip in song.strips}
    return (
        song.sample_rate, song.passage_from_s, song.passage_to_s, song.revision, song.outline, song.undo_label, song.redo_label,
        [
            (s.kind, s.name, s.role, names.get(s.parent_id or 0), s.fader_db, s.pan, s.mute, s.solo, s.revision, s.recording,
             [(e.move, e.enabled, e.stretches, e.note) for e in s.entries])
            for s in song.strips
        ],
    )  # fmt: skip


def _history(song: SongState) -> list[Any]:
    with session() as s:
        return [(e.label, e.kind, e.page, e.state, e.revision, e.created_at) for e in log.history(s, song.id, 500)]


def _export(song: SongState) -> dict[str, str]:
    """The samples of each track's export, by its name, as a digest; headers hold the time of writing."""
    found = {}
    for strip in song.tracks:
        options = ExportOptions((strip.id,), Depth.FLOAT_32, Container.WAV, False)
        task = exporting.request_export(song.id, options)
        with session() as s:
            s.get_one(TaskRow, task.id).cancel = False
        (name,) = exporting.run_export(task.id)["files"]
        x, _ = soundfile.read(exported(task.id, name), dtype="float32")
        found[name] = hashlib.sha256(x.tobytes()).hexdigest()
    return found


def _count() -> int:
    with session() as s:
        return int(s.scalar(select(func.count()).select_from(Song)) or 0)


@pytest.fixture
def saved(song: SongState, tmp_path: Path) -> Path:
    path = tmp_path / "song.zip"
    assert saving.save([song.id], path).originals == 3  # the deleted track's, too: it can be undone
    return path


def test_a_restored_song_is_the_same_to_the_bit_and_can_be_undone(song: SongState, saved: Path) -> None:
    (song_id,) = restoring.restore(saved)
    again = song_state(song_id)
    assert again.id != song.id
    assert again.name == "Weir & Sluice (restored)"
    assert _content(again) == _content(song)
    assert _history(again) == _history(song)
    assert _export(again) == _export(song)
    for _ in range(20):  # back to the beginning, both alike, and neither touches the other
        ended = 0
        for state in (song, again):
            try:
                with session() as s:
                    edits.undo(s, state.id, PAGE)
            except NothingToUndo:
                ended += 1
        assert ended in (0, 2)
        assert _content(song_state(song.id)) == _content(song_state(again.id))
        if ended:
            break
    assert ended == 2


def test_a_move_listens_to_the_strip_that_was_restored_with_it(song: SongState, tmp_path: Path) -> None:
    first, second = song.tracks[:2]
    move = DynamicMove(Shape.BELL, 500.0, -40.0, -6.0, key=Key(source=second.id))
    with session() as s:
        made = moves.add_move(s, song.id, first.id, Entry(move=move), None, page=PAGE)
        moves.change_move(s, song.id, made, None, {"key": {"source": "self"}}, page=PAGE)
    path = tmp_path / "listening.zip"
    saving.save([song.id], path)
    (song_id,) = restoring.restore(path)
    again = song_state(song_id)
    assert again.tracks[0].entries[-1].move.listens_to == ()
    with session() as s:
        edits.undo(s, song_id, page=PAGE)
    assert song_state(song_id).tracks[0].entries[-1].move.listens_to == (again.tracks[1].id,)


def test_snapshots_hold_the_moves_that_were_restored_with_them(song: SongState, tmp_path: Path) -> None:
    strip = song.tracks[0]
    with session() as s:
        move = moves.add_move(s, song.id, strip.id, Entry(move=StaticMove(Shape.BELL, 400.0, gain_db=-6.0)), None)
        snapshots.keep(s, song.id, "deep", strip.id)
        moves.change_move(s, song.id, move, None, {"gain_db": -1.0})
    path = tmp_path / "kept.zip"
    saving.save([song.id], path)
    (song_id,) = restoring.restore(path)
    with session() as s:
        (kept,) = snapshots.snapshots(s, song_id)
        snapshots.go_back(s, song_id, kept.id)
        again, before = read_song(s, song_id), read_song(s, song.id)
    assert again.tracks[0].entries[-1].move.gain_db == -6.0  # type: ignore[union-attr]
    assert before.tracks[0].entries[-1].move.gain_db == -1.0  # type: ignore[union-attr]


def test_decisions_on_clashes_speak_of_the_tracks_that_were_restored_with_them(song: SongState, tmp_path: Path) -> None:
    first, second = song.tracks[:2]
    of = first.id, second.id, (200.0, 400.0)
    with session() as s:
        rights.set_importance(s, song.id, [second.id, first.id], page=PAGE)
        rights.set_importance(s, song.id, [first.id, second.id], (0.1, 0.6), page=PAGE)
        rights.decide(s, song.id, *of, rights.Way.BY, page=PAGE)
        rights.decide(s, song.id, *of, None, page=PAGE)
    path = tmp_path / "decided.zip"
    saving.save([song.id], path)
    (song_id,) = restoring.restore(path)
    again = song_state(song_id)
    assert [t.importance for t in again.tracks[:2]] == [1, 0]
    assert again.decisions == ()
    assert [(o.from_s, o.track_ids) for o in again.orders] == [(0.1, tuple(t.id for t in again.tracks[:2]))]
    with session() as s:
        edits.undo(s, song_id, page=PAGE)
    (decision,) = song_state(song_id).decisions
    assert (decision.covered, decision.by, decision.way) == (again.tracks[0].id, again.tracks[1].id, "by")


def test_what_is_in_it_is_open(song: SongState, saved: Path) -> None:
    """Read with nothing of ours: zip, WAV as it came, JSON by the schema beside it (JSON Schema 2020-12)."""
    with zipfile.ZipFile(saved) as archive:
        assert archive.testzip() is None
        schema = json.loads(archive.read("schema.json"))
        manifest = json.loads(archive.read("mivlo-backup.json"))
        for name, document in (("manifest", manifest), ("song", json.loads(archive.read("songs/1.json")))):
            validator = jsonschema_rs.validator_for({**schema["$defs"][name], "$schema": schema["$schema"]})
            validator.validate(document)
            assert not validator.is_valid({**document, "more": 1})
        for original in manifest["originals"]:
            data = archive.read(f"originals/{original['sha256']}.wav")
            assert hashlib.sha256(data).hexdigest() == original["sha256"]
            assert data[:4] == b"RIFF"
        assert b"mivlo restore" in archive.read("README.txt")


def test_where_the_store_is_empty_the_sound_comes_from_the_backup(
    song: SongState, saved: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    wanted = _export(song)
    monkeypatch.setenv("MIVLO_DATA_DIR", str(tmp_path / "another"))
    ours.cache_clear()
    try:
        (song_id,) = restoring.restore(saved)
        again = song_state(song_id)
        assert [sorted(_export(again).values())] == [sorted(wanted.values())]
        assert len(list((tmp_path / "another" / "originals").rglob("*.wav"))) == 3
        assert not list((tmp_path / "another").rglob("*.part"))
    finally:
        monkeypatch.undo()
        ours.cache_clear()


def test_several_songs_and_names(song: SongState, tmp_path: Path) -> None:
    with session() as s:
        other = songs.create_song(s, "Other", 44_100).id
        hidden = songs.create_song(s, "Hidden", 44_100).id
        songs.delete_song(s, hidden)
    assert saving.find_songs(None) == [song.id, other]
    assert saving.find_songs("Other") == saving.find_songs(str(other)) == [other]
    with pytest.raises(NotFound):
        saving.find_songs("Hidden")
    path = tmp_path / "all.zip"
    saving.save(saving.find_songs(None), path)
    with pytest.raises(MivloError, match="nothing is overwritten"):
        saving.save([other], path)
    before = path.read_bytes()
    names = [song_state(i).name for _ in range(2) for i in restoring.restore(path)]
    assert names == [
        "Weir & Sluice (restored)",
        "Other (restored)",
        "Weir & Sluice (restored 2)",
        "Other (restored 2)",
    ]
    assert path.read_bytes() == before
    assert [p.name for p in tmp_path.iterdir() if p.suffix != ".wav"] == ["all.zip"]


def test_a_backup_is_of_one_moment_while_others_edit(song: SongState, tmp_path: Path) -> None:
    stop = threading.Event()

    def edit() -> None:
        number = 0
        while not stop.is_set():
            number += 1
            with session() as s:
                songs.change_song_values(s, song.id, None, {"name": f"Take {number}"}, page=str(number))

    working = threading.Thread(target=edit)
    working.start()
    try:
        for number in range(8):
            path = tmp_path / f"{number}.zip"
            saving.save([song.id], path)
            with zipfile.ZipFile(path) as archive:
                document = json.loads(archive.read("songs/1.json"))
            last = max(document["edits"], key=lambda e: e["id"])
            assert last["revision"] == document["songs"][0]["revision"]
            if last["label"].startswith("rename to"):
                assert last["label"] == f"rename to {document['songs'][0]['name']}"
    finally:
        stop.set()
        working.join()


@given(st.data())
@settings(max_examples=60, suppress_health_check=list(HealthCheck))
def test_a_damaged_backup_changes_nothing(song: SongState, saved: Path, data: st.DataObject) -> None:
    content = bytearray(saved.read_bytes())
    kind = data.draw(st.sampled_from(["flip", "cut", "insert"]))
    at = data.draw(st.integers(0, len(content) - 1) | st.integers(max(0, len(content) - 3_000), len(content) - 1))
    if kind == "flip":
        content[at] ^= data.draw(st.integers(1, 255))
    elif kind == "cut":
        del content[at:]
    else:
        content[at:at] = data.draw(st.binary(min_size=1, max_size=40))
    path = saved.with_name("damaged.zip")
    path.write_bytes(content)
    before = _count()
    try:
        (song_id,) = restoring.restore(path)
    except BadBackup:
        assert _count() == before
    else:  # it hit what carries nothing, a date for example
        assert _content(song_state(song_id)) == _content(song)


def _rewritten(saved: Path, change: Any) -> Path:
    """The same archive with its song's document changed, and all digests made right again."""
    path = saved.with_name("changed.zip")
    with zipfile.ZipFile(saved) as old, zipfile.ZipFile(path, "w") as new:
        document, manifest = json.loads(old.read("songs/1.json")), json.loads(old.read("mivlo-backup.json"))
        change(document, manifest)
        text = json.dumps(document)
        manifest["songs"][0]["sha256"] = hashlib.sha256(text.encode()).hexdigest()
        for name in old.namelist():
            if name not in ("songs/1.json", "mivlo-backup.json"):
                new.writestr(name, old.read(name))
        new.writestr("songs/1.json", text)
        new.writestr("mivlo-backup.json", json.dumps(manifest))
    return path


def _set(*path: Any, to: Any) -> Any:
    def change(document: Any, manifest: Any) -> None:
        place = {"document": document, "manifest": manifest}
        for key in path[:-1]:
            place = place[key]
        place[path[-1]] = to

    return change


MADE_UP = [
        _set("document", "strips", 0, "song_id", to=999), _set("document", "strips", 1, "parent_id", to=12_345_678),
        _set("document", "strips", to=[]), _set("document", "songs", to=[]), _set("document", "version", to=2),
        _set("document", "moves", 0, "parameters", to={"mode": "static"}), _set("document", "moves", 0, "parameters", to=[]),
        _set("document", "moves", 0, "parameters", "frequency_hz", to=1e300), _set("document", "songs", 0, "sample_rate", to="fast"),
        _set("document", "edits", 0, "forward", to=[{"table": "users", "id": 1, "values": {}}]),
        _set("document", "edits", 0, "forward", to=7), _set("document", "edits", 0, "of_id", to=4),
        _set("document", "edits", 0, "more", to=4), _set("document", "recordings", 0, "audio_sha256", to="0" * 64),
        _set("document", "recordings", 0, "frames", to=2**70), _set("document", "strips", 1, "name", to="a\u0000b"),
        _set("document", "songs", 0, "name", to=""), _set("document", "strips", 1, "role", to="drum"),
        _set("manifest", "version", to=2), _set("manifest", "songs", 0, "document", to="../../etc/passwd"),
        _set("manifest", "originals", 0, "sha256", to="../" * 20), _set("manifest", "originals", to=[]),
        _set("manifest", "originals", 0, "bytes", to=-1), _set("manifest", "format", to="other"),
]  # fmt: skip


def test_a_made_up_backup_changes_nothing(saved: Path) -> None:
    before = _count()
    for number, change in enumerate(MADE_UP):
        try:
            restoring.restore(_rewritten(saved, change))
        except BadBackup as refused:
            said = str(refused)
        else:
            said = "it was taken"
        assert said.startswith("Could not use changed.zip"), number
        assert _count() == before


def test_bombs_end_in_a_sentence(song: SongState, tmp_path: Path) -> None:
    """A few kB that would unpack to gigabytes, in the place of a document and of a recording."""
    zeros = io.BytesIO()
    with (
        zipfile.ZipFile(zeros, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as archive,
        archive.open("mivlo-backup.json", "w") as out,
    ):
        for _ in range(80):
            out.write(b" " * (1 << 20))
    (tmp_path / "b.zip").write_bytes(zeros.getvalue())
    with pytest.raises(BadBackup, match="too large"):
        restoring.restore(tmp_path / "b.zip")
    digest = hashlib.sha256(b"").hexdigest()
    manifest = {
        "made_at": "2026-01-01T00:00:00Z", "made_by": "me", "songs": [],
        "originals": [{"sha256": digest, "file_name": "a.wav", "bytes": 10}],
    }  # fmt: skip
    with zipfile.ZipFile(tmp_path / "c.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("mivlo-backup.json", json.dumps(manifest))
        archive.writestr(f"originals/{digest}.wav", b"\0" * (64 << 20))
    with pytest.raises(BadBackup, match="too large"):
        restoring.restore(tmp_path / "c.zip")
    manifest["originals"] = [{"sha256": digest, "file_name": "a.wav", "bytes": 2**62}]
    with zipfile.ZipFile(tmp_path / "d.zip", "w") as archive:
        archive.writestr("mivlo-backup.json", json.dumps(manifest))
    with pytest.raises(MivloError, match=r"The disk is full: restoring d\.zip needs"):
        restoring.restore(tmp_path / "d.zip")
    deep = b"[" * 100_000
    with zipfile.ZipFile(tmp_path / "e.zip", "w") as archive:
        archive.writestr("mivlo-backup.json", deep)
    with pytest.raises(BadBackup, match=r"mivlo-backup\.json"):
        restoring.restore(tmp_path / "e.zip")
    assert not list((ours().data_dir / "incoming").glob("*.part"))


def test_a_recording_that_the_store_has_lost_is_said_and_the_rest_is_saved(song: SongState, tmp_path: Path) -> None:
    with session() as s:
        digest = s.scalars(select(RecordingRow.audio_sha256).order_by(RecordingRow.id)).first()
    assert digest is not None
    lost = ours().data_dir / "originals" / digest[:2] / f"{digest}.wav"
    kept = lost.read_bytes()
    lost.unlink()
    try:
        told = saving.save([song.id], tmp_path / "part.zip")
        assert told.originals == 2
        assert "01_Kick.wav" in told.notices[0]
        (song_id,) = restoring.restore(tmp_path / "part.zip")
        assert [t.name for t in song_state(song_id).tracks] == [t.name for t in song.tracks]
        lost.write_bytes(kept[:-1] + b"x")
        with pytest.raises(MivloError, match="is damaged: it is not what was brought in"):
            saving.save([song.id], tmp_path / "damaged.zip")
        assert not (tmp_path / "damaged.zip").exists()
    finally:
        lost.write_bytes(kept)


@given(st.lists(st.integers(1, 40), min_size=1, max_size=12), st.integers(0, 23), st.integers(1, 4))
@settings(max_examples=8, suppress_health_check=list(HealthCheck))
def test_each_night_one_backup_and_the_last_ones_stay(
    song: SongState, tmp_path_factory: pytest.TempPathFactory, hours: list[int], hour: int, kept: int
) -> None:
    folder = tmp_path_factory.mktemp("nightly")
    (folder / "mine.zip").write_text("not ours")
    now, made = datetime(2026, 2, 27, 12, 30), []
    for passed in hours:
        before = now
        now += timedelta(hours=passed)
        out = saving.nightly(now, folder, hour, kept)
        nights = {
            (before + timedelta(hours=h)).date()
            for h in range(1, passed + 1)
            if (before + timedelta(hours=h)).hour == hour
        }
        if made:
            assert (out is not None) == bool(nights)
        else:
            assert out is not None  # none was ever made
        made += [out] if out else []
    assert sorted(p for p in folder.iterdir() if p.name != "mine.zip") == made[-kept:]
    assert (folder / "mine.zip").read_text() == "not ours"
