"""The log of a song as properties: any steps of two pages, undone, redone and walked in any order."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import text

from mivlo.core.graph import CircularRouting
from mivlo.core.moves import Entry, Shape, StaticMove
from mivlo.core.units import Floats
from mivlo.services.errors import ChangedSince, NotFound, NothingToUndo, StaleRevision
from mivlo.services.recordings import files, importing
from mivlo.services.song import edits, log, moves, songs, strips
from mivlo.services.song.state import SongState
from mivlo.store.database import session
from mivlo.store.models import Edit
from tests.conftest import as_made, bring_in, song_state

BELL = StaticMove(Shape.BELL, 412.0, q=14.4, gain_db=-6.0)


@pytest.fixture
def song(db: None, write_wav, noise: Floats) -> SongState:  # type: ignore[no-untyped-def]
    """A song with two tracks and a group."""
    with session() as s:
        song_id = songs.create_song(s, "Weir", 48_000).id
    for name in ("01_Kick.wav", "02_Lead-Vocal.wav"):
        bring_in(song_id, write_wav(noise[:3_000], name=name))
    with session() as s:
        strips.add_group(s, song_id, "Band")
    return song_state(song_id)


def _content(song: SongState) -> tuple[Any, ...]:
    strips = [
        (s.id, s.name, s.fader_db, s.mute, s.parent_id, [(e.id, e.move, e.enabled) for e in s.entries])
        for s in song.strips
    ]
    return song.name, song.passage_from_s, strips


_steps = st.lists(
    st.tuples(
        st.sampled_from(
            ["fader", "mute", "add", "change", "switch", "delete", "rename", "route", "undo", "redo", "go"]
        ),
        st.sampled_from(["left", "right"]),
        st.integers(0, 5),
    ),
    min_size=2,
    max_size=12,
)


@given(_steps)
@settings(max_examples=10, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_any_steps_of_two_pages_leave_a_log_that_says_all(song: SongState, story: list[tuple[str, str, int]]) -> None:
    with session() as s:
        begins = s.scalar(text("SELECT max(id) FROM edits WHERE song_id = :id"), {"id": song.id})
    base = _content(song_state(song.id))
    for what, page, n in story:
        before = _content(song_state(song.id))
        rows = _log(song.id)
        try:
            with session() as s:
                _do(s, song, what, page, n)
        except (ChangedSince, NothingToUndo, NotFound):
            # what is refused changes nothing, and the log does not grow
            assert _content(song_state(song.id)) == before
            assert _log(song.id) == rows
            continue
        after = _log(song.id)
        assert after[: len(rows)] == rows  # nothing in it is rewritten
    # what the log says, done backwards, leads to where it began
    with session() as s:
        edits.go_to(s, song.id, begins, "left")
    assert _content(song_state(song.id)) == base


def _log(song_id: int) -> list[tuple[Any, ...]]:
    with session() as s:
        rows = s.query(Edit).where(Edit.song_id == song_id).order_by(Edit.id)
        return [(e.id, e.kind, e.of_id, e.begins_id, e.label, e.forward, e.backward) for e in rows]


def _do(s: Any, song: SongState, what: str, page: str, n: int) -> None:
    state = song_state(song.id)
    if what not in ("undo", "redo", "go", "rename") and not state.tracks:
        raise NotFound("track", 0)  # somebody took its import back
    track = state.tracks[n % len(state.tracks)] if state.tracks else None
    group = next((x.id for x in state.strips if x.kind == "group"), None)
    match what:
        case "fader":
            strips.change_strip(s, song.id, track.id, None, {"fader_db": -float(n)}, page=page)
        case "mute":
            strips.change_strip(s, song.id, track.id, None, {"mute": not track.mute}, page=page)
        case "add":
            moves.add_move(s, song.id, track.id, Entry(move=BELL), None, page=page)
        case "rename":
            songs.change_song_values(s, song.id, None, {"name": f"Weir {n}"}, page=page)
        case "route":
            strips.route(s, song.id, track.id, group if n % 3 else None, page=page)
        case "undo":
            edits.undo(s, song.id, page if n % 3 else None)
        case "redo":
            edits.redo(s, song.id, page if n % 3 else None)
        case "go":
            listed = log.history(s, song.id, 100)
            edits.go_to(s, song.id, listed[n % len(listed)].id, page)
        case _:
            if not track.entries:
                raise NotFound("move", 0)
            move = track.entries[n % len(track.entries)]
            if what == "delete":
                moves.delete_move(s, song.id, move.id, None, page=page)
            else:
                values = {"gain_db": -float(n)} if what == "change" else {"enabled": not move.enabled}
                moves.change_move(s, song.id, move.id, None, values, page=page)


def _fader(song: SongState, track: int, db: float, page: str = "", **more: Any) -> None:
    with session() as s:
        strips.change_strip(s, song.id, song.tracks[track].id, None, {"fader_db": db}, page=page, **more)


def test_undo_takes_back_the_last_step_of_the_same_page(song: SongState) -> None:
    _fader(song, 0, -1.0, "left")
    _fader(song, 1, -2.0, "right")
    with session() as s:
        assert edits.undo(s, song.id, "left") == "Kick: fader"
    assert [t.fader_db for t in song_state(song.id).tracks] == [0.0, -2.0]
    with session() as s:  # a caller without an id takes back the song's last step
        assert edits.undo(s, song.id) == "Lead Vocal: fader"
    with session() as s, pytest.raises(NothingToUndo):
        edits.undo(s, song.id, "left")


def test_an_undo_over_somebodys_later_work_is_refused_by_name_and_changes_nothing(song: SongState) -> None:
    _fader(song, 0, -1.0, "left")
    _fader(song, 0, -7.0, "right")
    before = song_state(song.id)
    with session() as s, pytest.raises(ChangedSince, match="“Kick: fader” has changed the same since"):
        edits.undo(s, song.id, "left")
    assert as_made(song_state(song.id)) == as_made(before)


def test_redo_survives_until_something_new_is_done_by_the_same_page(song: SongState) -> None:
    _fader(song, 0, -1.0, "left")
    with session() as s:
        edits.undo(s, song.id, "left")
    _fader(song, 1, -2.0, "right")
    with session() as s:
        edits.redo(s, song.id, "left")
    assert [t.fader_db for t in song_state(song.id).tracks] == [-1.0, -2.0]


def test_a_series_of_nudges_is_one_step_and_a_later_one_another(song: SongState) -> None:
    for db in (-0.5, -1.0, -1.5):
        _fader(song, 0, db, "left")
    with session() as s:
        s.execute(text("UPDATE edits SET created_at = created_at - interval '2 seconds'"))
    _fader(song, 0, -9.0, "left")
    with session() as s:
        edits.undo(s, song.id, "left")
    assert song_state(song.id).tracks[0].fader_db == -1.5
    with session() as s:
        edits.undo(s, song.id, "left")
    assert song_state(song.id).tracks[0].fader_db == 0.0
    with session() as s:
        edits.redo(s, song.id, "left")
    assert song_state(song.id).tracks[0].fader_db == -1.5


def test_different_strips_never_conflict_and_the_same_one_does(song: SongState) -> None:
    first, second = song_state(song.id).tracks
    _fader(song, 0, -1.0, strip_revision=first.revision)
    _fader(song, 1, -1.0, strip_revision=second.revision)
    with pytest.raises(StaleRevision):
        _fader(song, 0, -2.0, strip_revision=first.revision)
    # the outline is apart from the strips
    with session() as s:
        songs.change_song_values(s, song.id, None, {"name": "Sluice"}, outline=song.outline)
    with session() as s, pytest.raises(StaleRevision):
        songs.reorder_tracks(s, song.id, [second.id, first.id], None, outline=song.outline)


def test_a_group_inside_itself_is_refused_by_name_and_changes_nothing(song: SongState) -> None:
    with session() as s:
        inner = strips.add_group(s, song.id, "Horns")
    band = next(x.id for x in song.strips if x.name == "Band")
    with session() as s:
        strips.route(s, song.id, inner, band)
    before = song_state(song.id)
    with (
        pytest.raises(CircularRouting, match="Band into Horns into Band: a group can't end up inside itself"),
        session() as s,
    ):
        strips.route(s, song.id, band, inner)
    assert as_made(song_state(song.id)) == as_made(before)


def test_what_a_deleted_group_held_runs_into_the_mix_until_it_is_back(song: SongState) -> None:
    band = next(x.id for x in song.strips if x.name == "Band")
    with session() as s:
        strips.route(s, song.id, song.tracks[0].id, band)
    with session() as s:
        strips.delete_strip(s, song.id, band, None)
    assert song_state(song.id).strip(song.tracks[0].id).parent_id is None
    with session() as s:
        edits.undo(s, song.id)
    assert song_state(song.id).strip(song.tracks[0].id).parent_id == band


def test_a_strip_takes_so_many_moves_and_no_more(song: SongState) -> None:
    from mivlo.core.errors import InvalidValue

    with session() as s:
        row, strip = strips.locked_strip(s, song.id, song.tracks[0].id, None, None)
        moves.add_moves(s, row, [(strip, Entry(move=BELL))] * 199, "many")
    with session() as s:
        moves.add_move(s, song.id, song.tracks[0].id, Entry(move=BELL), None)
    with session() as s, pytest.raises(InvalidValue, match="at most 200 moves"):
        moves.add_move(s, song.id, song.tracks[0].id, Entry(move=BELL), None)


@pytest.mark.parametrize("page", ["", "mine"])
def test_a_song_deleted_while_a_file_comes_in_is_brought_back_with_it(
    song: SongState,
    page: str,
    write_wav,
    noise: Floats,  # type: ignore[no-untyped-def]
) -> None:
    file = write_wav(noise[:3_000, :1], name="Late.wav")
    task = importing.request_import(song.id, file.name, files.originals().keep_file(file), page=page)
    with session() as s:
        songs.delete_song(s, song.id, page=page)
    track = importing.run_import(task.id)["track_id"]
    with session() as s:
        edits.undo(s, song.id, page)
    assert [t.id for t in song_state(song.id).tracks] == [*(t.id for t in song.tracks), track]
    with session() as s:
        edits.undo(s, song.id, page)  # then the import, as it was done last
    assert [t.id for t in song_state(song.id).tracks] == [t.id for t in song.tracks]
