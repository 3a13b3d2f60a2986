"""Folders that a song watches: stems are taken in and replaced in place, treated ones are written whole."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import numpy as np
import pytest
import soundfile
import wavinfo
from sqlalchemy import select, text, update

from mivlo.audio.marks import Marks, add_marks
from mivlo.config import settings
from mivlo.core.errors import InvalidValue
from mivlo.core.graph import treat
from mivlo.core.moves import Channels, Entry, Shape, StaticMove
from mivlo.core.units import Floats
from mivlo.services.handover import song_watch
from mivlo.services.recordings import files, importing
from mivlo.services.song import edits, moves, songs, strips
from mivlo.services.tasks.tasks import OPEN_STATES, set_task
from mivlo.store.database import session
from mivlo.store.models import Edit, TaskRow
from tests.audio.test_marks import bext
from tests.conftest import song_state
from tests.patience import until

RATE = 48_000
BELL = StaticMove(Shape.BELL, 500.0, q=4.0, gain_db=-9.0)


@pytest.fixture
def root(db: None, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A folder that the start was given, with stems in it."""
    monkeypatch.setenv("MIVLO_WATCH_DIRS", str(tmp_path))
    settings.cache_clear()
    (tmp_path / "stems").mkdir()
    return tmp_path


@pytest.fixture
def song_id(root: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[int]:
    """A song that watches; the worker of the browser tests, which watches too, is kept from it by that one's lock."""
    with session() as s:
        made = songs.create_song(s, "Weir", RATE).id
    with session() as holding:
        holding.execute(text("SELECT pg_advisory_xact_lock(:lock)"), {"lock": song_watch._LOCK + made})
        monkeypatch.setattr(song_watch, "_LOCK", song_watch._LOCK + 10_000_000)
        with session() as s:
            song_watch.begin_watching(s, made, "stems", "treated")
        yield made


def _stem(
    root: Path, name: str, *, seed: int = 1, channels: int = 1, seconds: float = 1.0, kind: str = "PCM_24"
) -> Floats:
    """Write a stem as if it had been there for a while."""
    x = np.random.default_rng(seed).standard_normal((round(seconds * RATE), channels)) * 0.1
    soundfile.write(root / "stems" / name, x, RATE, subtype=kind)
    (root / "stems" / name).chmod(0o644)
    rested(root / "stems" / name)
    return x


def rested(path: Path) -> None:
    before = time.time() - 5.0 + np.random.default_rng().uniform(0, 1)
    os.utime(path, (before, before))


def _look(song_id: int) -> None:
    """A round of the watcher, and all that it asked for; the worker of the browser tests may do some of it."""
    song_watch.look(song_id)
    for task in _coming(song_id, "waiting"):
        if _is_ours(task):
            set_task(task, state="done", result=importing.run_import(task))
    until(lambda: not _coming(song_id, *OPEN_STATES), "nobody takes the stems in")


def _is_ours(task: int) -> bool:
    """Take a task away from that worker: what has ended it does not begin, what it has begun is its own."""
    taken = update(TaskRow).where(TaskRow.id == task, TaskRow.state == "waiting").values(state="done")
    with session() as s:
        return bool(s.execute(taken.returning(TaskRow.id)).first())


def _coming(song_id: int, *states: str) -> list[int]:
    """Stems that are being taken in."""
    query = select(TaskRow.id).where(TaskRow.song_id == song_id, TaskRow.kind == "import")
    with session() as s:
        return list(s.scalars(query.where(TaskRow.state.in_(states))))


def _settle(song_id: int) -> None:
    """Look until there is nothing left to do; the song's steps are made older, so that it rests."""
    for _ in range(2):
        _look(song_id)
    with session() as s:
        s.execute(update(Edit).where(Edit.song_id == song_id).values(created_at=Edit.created_at - timedelta(minutes=1)))
    _look(song_id)


def _says(song_id: int) -> tuple[str, ...]:
    with session() as s:
        return song_watch.watch_of(s, song_id).says


def test_stems_are_taken_in_treated_and_written_again_when_moves_change(root: Path, song_id: int) -> None:
    x = _stem(root, "Bass.wav")
    _stem(root, "Bell.flac", seed=2, channels=2)
    _settle(song_id)
    song = song_state(song_id)
    assert [(t.name, t.channels) for t in song.tracks] == [("Bass", 1), ("Bell", 2)]
    plain, rate = soundfile.read(root / "treated" / "Bass.wav", always_2d=True)
    assert rate == RATE
    assert np.max(np.abs(plain - x)) < 2.0**-22
    assert soundfile.info(root / "treated" / "Bell.flac").format == "FLAC"
    assert (root / "treated" / "Bass.wav").stat().st_mode & 0o777 == 0o644  # as the stem
    times = {p.name: p.stat().st_mtime_ns for p in (root / "treated").iterdir()}
    _settle(song_id)
    assert {p.name: p.stat().st_mtime_ns for p in (root / "treated").iterdir()} == times  # nothing is done twice
    with session() as s:
        moves.add_move(s, song_id, song.tracks[0].id, Entry(move=BELL), None)
    _settle(song_id)
    cut, _ = soundfile.read(root / "treated" / "Bass.wav", always_2d=True)
    assert np.max(np.abs(cut - treat(x, [BELL], sample_rate=RATE))) < 2.0**-22
    after = {p.name: p.stat().st_mtime_ns for p in (root / "treated").iterdir()}
    assert [name for name in times if after[name] != times[name]] == ["Bass.wav"]
    assert set(after) == {"Bass.wav", "Bell.flac"}  # nothing half-written is left
    assert _says(song_id)[-1] == "Bass.wav was written."


def test_where_nothing_has_changed_the_song_is_not_read_again(
    root: Path, song_id: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    _stem(root, "Bass.wav")
    _settle(song_id)
    rests = song_watch.look(song_id)
    assert rests is not None
    with monkeypatch.context() as patched:
        patched.setattr(song_watch, "read_song", None)
        assert song_watch.look(song_id, rests) == rests
    for change in (
        lambda: (root / "treated" / "Bass.wav").unlink(),
        lambda: _stem(root, "Bell.wav", seed=4),
        lambda: moves.add_move(s, song_id, song_state(song_id).tracks[0].id, Entry(move=BELL), None),
    ):
        with session() as s:
            change()
        assert song_watch.look(song_id, rests) != rests
        _settle(song_id)
        rests = song_watch.look(song_id)
        assert rests is not None
    assert {path.name for path in (root / "treated").iterdir()} == {"Bass.wav", "Bell.wav"}


def test_a_stem_that_changes_is_replaced_in_place_and_its_moves_stay(root: Path, song_id: int) -> None:
    _stem(root, "Bass.wav", channels=2)
    _settle(song_id)
    track = song_state(song_id).tracks[0]
    with session() as s:
        for channels in (Channels.ALL, Channels.SIDE, Channels.LEFT):
            moves.add_move(s, song_id, track.id, Entry(move=BELL, channels=channels), None)
        strips.change_strip(s, song_id, track.id, None, {"fader_db": -3.0})
    y = _stem(root, "Bass.wav", seed=9, seconds=2.0)
    _settle(song_id)
    (after,) = song_state(song_id).tracks
    assert (after.id, after.fader_db, len(after.entries), after.channels, after.frames) == (
        track.id,
        -3.0,
        3,
        1,
        2 * RATE,
    )
    assert "The new take is mono: 1 move of the sides does nothing and 1 move of left" in after.notice
    written, _ = soundfile.read(root / "treated" / "Bass.wav", always_2d=True)
    assert np.max(np.abs(written - treat(y, [BELL, BELL], sample_rate=RATE))) < 2.0**-21
    with session() as s:
        edits.undo(s, song_id)  # the take
    (back,) = song_state(song_id).tracks
    assert (back.audio_sha256, back.channels, len(back.entries)) == (track.audio_sha256, 2, 3)
    with session() as s:
        edits.redo(s, song_id)
    assert song_state(song_id).tracks[0].audio_sha256 == after.audio_sha256
    with session() as s:
        first = edits.rows(s, song_id)[0].id
        edits.go_to(s, song_id, first)  # over both takes
    assert song_state(song_id).tracks[0].audio_sha256 == track.audio_sha256


def test_what_is_still_being_written_waits_and_what_can_not_be_read_is_said_once(root: Path, song_id: int) -> None:
    _stem(root, "Bass.wav")
    os.utime(root / "stems" / "Bass.wav")  # just now
    (root / "stems" / "broken.wav").write_bytes(b"RIFF no sound")
    rested(root / "stems" / "broken.wav")
    (root / "stems" / ".hidden.wav").write_bytes(b"")
    (root / "stems" / "notes.txt").write_text("nothing")
    for _ in range(3):
        _look(song_id)
    assert song_state(song_id).tracks == ()
    assert len(_says(song_id)) == 1
    assert "broken.wav" in _says(song_id)[0]
    rested(root / "stems" / "Bass.wav")
    _look(song_id)
    assert [t.name for t in song_state(song_id).tracks] == ["Bass"]


def test_what_was_taken_out_of_the_song_does_not_come_back_by_itself(root: Path, song_id: int) -> None:
    _stem(root, "Bass.wav")
    _settle(song_id)
    with session() as s:
        strips.delete_strip(s, song_id, song_state(song_id).tracks[0].id, None)
    _settle(song_id)
    assert song_state(song_id).tracks == ()


def test_the_treated_file_lies_where_its_stem_lies(root: Path, song_id: int) -> None:
    for name, late in (("A.wav", 0), ("B.wav", 24_000)):
        _stem(root, name)
        add_marks(root / "stems" / name, Marks(bext(3_600 * RATE + late)))
        rested(root / "stems" / name)
        _look(song_id)
    assert [t.starts_at_s for t in song_state(song_id).tracks] == [0.0, 0.5]
    _settle(song_id)
    x, _ = soundfile.read(root / "stems" / "B.wav")
    y, _ = soundfile.read(root / "treated" / "B.wav")
    assert np.max(np.abs(x - y)) < 2.0**-22
    assert wavinfo.WavInfoReader(str(root / "treated" / "B.wav")).bext.time_reference == 3_600 * RATE + 24_000


@pytest.mark.parametrize(
    ("source", "out", "says"),
    [
        ("nowhere", "treated", "no such folder"), ("stems", "stems", "beside the source"),
        ("stems", "stems/treated", "beside the source"), ("stems", ".", "beside the source"),
        ("../", "treated", "must lie below"), ("/etc", "treated", "must lie below"), ("stems", "/tmp", "must lie below"),
        ("link", "treated", "must lie below"), ("stems", "x\0y", "no name of a folder"), ("stems", "file", "is a file"),
    ],
)  # fmt: skip
def test_folders_that_can_not_be_are_refused_in_a_sentence(root: Path, source: str, out: str, says: str) -> None:
    (root / "link").symlink_to("/etc")
    (root / "file").write_text("")
    with session() as s:
        song_id = songs.create_song(s, "Weir", RATE).id
    with session() as s, pytest.raises(InvalidValue, match=says):
        song_watch.begin_watching(s, song_id, source, out)
    with session() as s:
        assert song_watch.watch_of(s, song_id).source is None


def test_two_songs_do_not_write_into_one_folder(root: Path, song_id: int) -> None:
    with session() as s:
        other = songs.create_song(s, "Sluice", RATE).id
    with session() as s, pytest.raises(InvalidValue, match="another song writes there"):
        song_watch.begin_watching(s, other, "stems", "treated")


def test_a_track_whose_file_name_leads_out_of_the_folder_is_not_written(root: Path, song_id: int) -> None:
    x = np.random.default_rng(1).standard_normal((RATE, 1)) * 0.1
    soundfile.write(root / "secret.wav", x, RATE)
    rested(root / "secret.wav")
    digest = files.originals().keep_file(root / "secret.wav")
    task = importing.request_import(song_id, "../secret.wav", digest)
    importing.run_import(task.id)
    _settle(song_id)
    assert not (root / "treated").exists()


def test_links_out_of_the_folder_are_not_followed(
    root: Path, song_id: int, tmp_path_factory: pytest.TempPathFactory
) -> None:
    secret = tmp_path_factory.mktemp("elsewhere") / "secret.wav"
    soundfile.write(secret, np.ones((RATE, 1)) * 0.1, RATE)
    rested(secret)
    (root / "stems" / "secret.wav").symlink_to(secret)
    _look(song_id)
    assert song_state(song_id).tracks == ()
    # nor is a folder that has become a link since
    (root / "stems" / "secret.wav").unlink()
    (root / "stems").rmdir()
    (root / "stems").symlink_to(secret.parent)
    _look(song_id)
    assert song_state(song_id).tracks == ()
    assert "must lie below" in _says(song_id)[-1]


def test_where_no_folder_was_given_none_is_watched(root: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("MIVLO_WATCH_DIRS", "")
    settings.cache_clear()
    with session() as s:
        song_id = songs.create_song(s, "Weir", RATE).id
        with pytest.raises(InvalidValue, match="MIVLO_WATCH_DIRS"):
            song_watch.begin_watching(s, song_id, "stems", "treated")
