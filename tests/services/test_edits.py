"""Songs, tracks and moves: each change one step that can be undone, also tomorrow."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from mivlo.core.errors import InvalidValue
from mivlo.core.moves import Entry, Shape, StaticMove
from mivlo.core.units import Floats
from mivlo.services.errors import NotFound, NothingToUndo, StaleRevision
from mivlo.services.song import edits, log, moves, songs, strips
from mivlo.services.song.state import SongState
from mivlo.store.database import session
from tests.conftest import as_made, bring_in, song_state

BELL = StaticMove(Shape.BELL, 412.0, q=14.4, gain_db=-6.0)


@pytest.fixture
def song(db: None, write_wav, noise: Floats) -> SongState:  # type: ignore[no-untyped-def]
    """A song with two tracks."""
    with session() as s:
        song_id = songs.create_song(s, "Weir", 48_000).id
    for name in ("01_Kick.wav", "02_Lead-Vocal.wav"):
        bring_in(song_id, write_wav(noise[: 30_000 + len(name)], name=name))
    return song_state(song_id)


def _add(song: SongState, move: StaticMove = BELL, track: int = 0) -> int:
    with session() as s:
        return moves.add_move(s, song.id, song.tracks[track].id, Entry(move=move), None)


def _undo(song: SongState) -> str:
    with session() as s:
        return edits.undo(s, song.id)


def _redo(song: SongState) -> str:
    with session() as s:
        return edits.redo(s, song.id)


def _content(song: SongState) -> tuple[object, ...]:
    # revisions only grow
    return song.name, song.passage_from_s, tuple(replace(t, revision=0) for t in as_made(song).strips)


def test_names_and_roles_are_guessed_from_the_files(song: SongState) -> None:
    assert [(t.name, t.role) for t in song.tracks] == [("Kick", "drums"), ("Lead Vocal", "voice")]


def test_every_kind_of_change_can_be_undone_and_redone(song: SongState) -> None:
    first, second = (t.id for t in song.tracks)
    move = _add(song)
    changes = [
        lambda s: songs.change_song_values(s, song.id, None, {"name": "Weir at night"}),
        lambda s: songs.change_song_values(s, song.id, None, {"passage_from_s": 0.1, "passage_to_s": 0.5}),
        lambda s: strips.change_strip(s, song.id, first, None, {"fader_db": -3.5, "pan": 0.25, "mute": True}),
        lambda s: strips.change_strip(s, song.id, second, None, {"name": "Voice", "role": "voice", "solo": True}),
        lambda s: songs.reorder_tracks(s, song.id, [second, first], None),
        lambda s: moves.change_move(s, song.id, move, None, {"gain_db": -3.0, "frequency_hz": 420.0}),
        lambda s: moves.change_move(s, song.id, move, None, {"enabled": False}),
        lambda s: moves.add_move(s, song.id, second, Entry(move=BELL), None),
        lambda s: moves.delete_move(s, song.id, move, None),
        lambda s: strips.delete_strip(s, song.id, first, None),
    ]
    states = [_content(song_state(song.id))]
    for change in changes:
        with session() as s:
            change(s)
        states.append(_content(song_state(song.id)))
        assert states[-1] != states[-2]
    for before in states[-2::-1]:
        _undo(song)
        assert _content(song_state(song.id)) == before
    for after in states[1:]:
        _redo(song)
        assert _content(song_state(song.id)) == after


def test_a_new_change_ends_what_could_be_redone(song: SongState) -> None:
    _add(song)
    _undo(song)
    assert song_state(song.id).redo_label == "Kick: add bell 412 Hz"
    _add(song, StaticMove(Shape.NOTCH, 50.0, q=30.0))
    assert song_state(song.id).redo_label is None
    with pytest.raises(NothingToUndo, match="nothing to redo"):
        _redo(song)


def test_undo_ends_where_the_song_began(song: SongState) -> None:
    for _ in range(2):  # the two imports
        _undo(song)
    assert song_state(song.id).tracks == ()
    with pytest.raises(NothingToUndo, match="nothing to undo"):
        _undo(song)


def test_the_list_of_edits_only_grows(song: SongState) -> None:
    _add(song)
    _undo(song)
    _add(song)
    with session() as s:
        listed = log.history(s, song.id)
    assert [(e.kind, e.state) for e in listed] == [
        ("change", "done"), ("undo", "done"), ("change", "abandoned"), ("change", "done"), ("change", "done"),
    ]  # fmt: skip
    assert len({e.revision for e in listed}) == 5


def test_a_change_against_an_old_state_is_refused_and_changes_nothing(song: SongState) -> None:
    _add(song)
    before = song_state(song.id)
    with pytest.raises(StaleRevision, match="changed elsewhere"), session() as s:
        moves.add_move(s, song.id, song.tracks[0].id, Entry(move=BELL), song.revision)
    assert as_made(song_state(song.id)) == as_made(before)


def test_impossible_values_are_refused_and_change_nothing(song: SongState) -> None:
    move = _add(song)
    before = song_state(song.id)
    with pytest.raises(InvalidValue, match="frequency_hz is 3"), session() as s:
        moves.change_move(s, song.id, move, None, {"frequency_hz": 3.0})
    with pytest.raises(InvalidValue, match="must name every track"), session() as s:
        songs.reorder_tracks(s, song.id, [song.tracks[0].id], None)
    with pytest.raises(InvalidValue, match="must start before it ends"), session() as s:
        songs.change_song_values(s, song.id, None, {"passage_from_s": 3.0, "passage_to_s": 1.0})
    with pytest.raises(InvalidValue, match="name is '  '"), session() as s:
        songs.change_song_values(s, song.id, None, {"name": "  "})
    assert as_made(song_state(song.id)) == as_made(before)


def test_what_is_gone_is_not_found(song: SongState) -> None:
    move = _add(song)
    with session() as s:
        strips.delete_strip(s, song.id, song.tracks[0].id, None)
    for call in (
        lambda s: moves.change_move(s, song.id, move, None, {"gain_db": -1.0}),
        lambda s: strips.delete_strip(s, song.id, song.tracks[0].id, None),
        lambda s: moves.delete_move(s, song.id, 9_999, None),
    ):
        with pytest.raises(NotFound, match=r"no (move|track)"), session() as s:
            call(s)


def test_a_track_of_another_song_is_not_found(song: SongState) -> None:
    with session() as s:
        other = songs.create_song(s, "Other", 44_100).id
    with pytest.raises(NotFound, match="no track"), session() as s:
        strips.change_strip(s, other, song.tracks[0].id, None, {"mute": True})


def test_a_deleted_song_comes_back_with_undo(song: SongState) -> None:
    with session() as s:
        songs.delete_song(s, song.id)
        assert songs.list_songs(s) == []
    _undo(song)
    assert _content(song_state(song.id)) == _content(song)


def test_a_repeated_import_is_another_track_of_the_same_content(song: SongState, tmp_path: Path) -> None:
    bring_in(song.id, tmp_path / "01_Kick.wav")
    shas = [t.audio_sha256 for t in song_state(song.id).tracks]
    assert shas[0] == shas[2] != shas[1]
