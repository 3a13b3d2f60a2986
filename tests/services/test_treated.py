"""Treated sounds that are kept: made in the background, used by listening and export, and bit for bit the same."""

from __future__ import annotations

import threading
import time
from pathlib import Path

import pytest
import soundfile

from mivlo.audio.encode import Container, Depth
from mivlo.config import settings
from mivlo.core.moves import Entry, Shape, StaticMove
from mivlo.services.handover import exporting
from mivlo.services.handover.exporting import ExportOptions
from mivlo.services.recordings import treated
from mivlo.services.song import moves, songs
from mivlo.services.song.state import SongState
from mivlo.store.database import session
from tests.conftest import bring_in, exported, song_state
from tests.patience import PATIENCE_S, until


@pytest.fixture
def song(db: None, marimba_wav: Path, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> SongState:
    """A song with a treated track and one without moves; a cache of its own."""
    cache = treated.TreatedCache(tmp_path / "treated", 10**9)
    monkeypatch.setattr(treated, "treated_cache", lambda: cache)
    with session() as s:
        song_id = songs.create_song(s, "Weir", 48_000).id
    for name in ("first", "second"):
        bring_in(song_id, marimba_wav)
        del name
    with session() as s:
        bell = Entry(move=StaticMove(Shape.BELL, 523.25, q=8.0, gain_db=-9.0))
        moves.add_move(s, song_id, song_state(song_id).tracks[0].id, bell, None)
    return song_state(song_id)


def _export(song: SongState, depth: Depth) -> bytes:
    options = ExportOptions((song.tracks[0].id,), depth, Container.WAV, False)
    task = exporting.request_export(song.id, options)
    (name,) = exporting.run_export(task.id)["files"]
    return _samples(exported(task.id, name))


def _samples(path: Path) -> bytes:
    """The bits of the samples; the header of a float file tells the time at which it was written."""
    x, _ = soundfile.read(path, dtype="float32" if soundfile.info(path).subtype == "FLOAT" else "int32")
    return bytes(x.tobytes())


def test_an_export_from_the_cache_has_the_same_bits(song: SongState) -> None:
    first = {depth: _export(song, depth) for depth in Depth}
    assert [t.id for t in treated.missing(song)] == [song.tracks[0].id]
    assert treated.make_treated(song, song.tracks[0], threading.Event())
    assert treated.missing(song) == []
    assert {depth: _export(song, depth) for depth in Depth} == first


def test_what_changes_nothing_is_its_recording_and_what_is_changed_is_another_sound(song: SongState) -> None:
    treated.make_treated(song, song.tracks[0], threading.Event())
    assert set(treated.known_treated(song)) == {t.id for t in song.tracks}
    with session() as s:
        moves.change_move(s, song.id, song.tracks[0].entries[0].id, None, {"gain_db": -3.0})
    assert set(treated.known_treated(song_state(song.id))) == {song.tracks[1].id}


def test_one_that_is_stopped_half_way_is_not_kept(song: SongState) -> None:
    stop = threading.Event()
    stop.set()
    assert not treated.make_treated(song, song.tracks[0], stop)
    assert treated.missing(song) != []


def test_the_maker_makes_what_is_missing_once_the_song_rests(song: SongState, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(treated, "SETTLED_S", 0.05)
    maker = treated.TreatedMaker()
    maker.want(song)
    until(lambda: bool(maker.made), "nothing was made")
    maker.stop()
    assert treated.missing(song) == []


def test_an_export_holds_the_state_of_its_request(song: SongState) -> None:
    before = _export(song, Depth.FLOAT_32)
    options = ExportOptions((song.tracks[0].id,), Depth.FLOAT_32, Container.WAV, False)
    task = exporting.request_export(song.id, options)
    with session() as s:
        moves.delete_move(s, song.id, song.tracks[0].entries[0].id, None)
    (name,) = exporting.run_export(task.id)["files"]
    assert _samples(exported(task.id, name)) == before


def test_two_runs_of_one_export_do_each_other_no_harm(song: SongState) -> None:
    options = ExportOptions(tuple(t.id for t in song.tracks), Depth.FLOAT_32, Container.WAV, False)
    task = exporting.request_export(song.id, options)
    results: list[dict[str, object]] = []
    runs = [threading.Thread(target=lambda: results.append(exporting.run_export(task.id))) for _ in range(2)]
    for run in runs:
        run.start()
    for run in runs:
        run.join()
    assert results[0] == results[1]
    folder = settings().data_dir / "exports" / str(task.id)
    assert sorted(path.name for path in folder.iterdir()) == results[0]["files"]
    until = time.monotonic() + PATIENCE_S  # a worker may be at it as well, and ends a little later
    while (left := list(folder.parent.glob(f"{task.id}.*.part"))) and time.monotonic() < until:
        time.sleep(0.1)
    assert not left
