"""A song that was made with the tables of version 0.2.1 is carried over: its state, its sound and its history."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest
from alembic.autogenerate import compare_metadata
from alembic.runtime.migration import MigrationContext
from sqlalchemy import text

from mivlo.config import settings
from mivlo.services.errors import NothingToUndo
from mivlo.services.song import edits, log
from mivlo.services.song.state import SongState, read_song
from mivlo.store import database
from mivlo.store.models import Base

REFERENCES = Path(__file__).parents[1] / "references"
DUMP = REFERENCES / "song_0_2_1.sql"
"""The demo song with moves of all shapes, edits, undone edits and decisions, as pg_dump wrote it from version 0.2.1."""
ANSWER = json.loads((REFERENCES / "song_0_2_1.json").read_text())
"""What version 0.2.1 answered when it was asked for that song."""


def _forget() -> None:
    settings.cache_clear()
    database.engine.cache_clear()
    database._maker.cache_clear()


@pytest.fixture(scope="module")
def old(database_url: str) -> Iterator[None]:
    """A database of its own with the dump in it, migrated."""
    with pytest.MonkeyPatch.context() as patch:
        plain = settings().libpq_url
        with psycopg.connect(plain, autocommit=True) as connection:
            connection.execute("CREATE DATABASE carried_over")
        url = database_url.rsplit("/", 1)[0] + "/carried_over"
        statements = "\n".join(line for line in DUMP.read_text().splitlines() if not line.startswith("\\"))
        with psycopg.connect(url.replace("+psycopg", ""), autocommit=True) as connection:
            connection.execute(statements.encode())
        patch.setenv("MIVLO_DATABASE_URL", url)
        database.engine().dispose()
        _forget()
        database.migrate()
        yield
        database.engine().dispose()
    _forget()


def _song() -> SongState:
    with database.session() as session:
        return read_song(session, ANSWER["id"])


def test_the_tables_are_those_of_the_models(old: None) -> None:
    with database.engine().connect() as connection:
        context = MigrationContext.configure(connection, opts={"compare_type": True})
        theirs = [d for d in compare_metadata(context, Base.metadata) if "procrastinate" not in repr(d)]
    assert theirs == []


def test_everything_that_was_answered_is_answered_still(old: None) -> None:
    song = _song()
    for key, value in ANSWER.items():
        if key != "tracks":
            assert getattr(song, key) == value, key
    assert [t.name for t in song.tracks] == [t["name"] for t in ANSWER["tracks"]]
    for track, known in zip(song.tracks, ANSWER["tracks"], strict=True):
        for key, value in known.items():
            if key != "moves":
                assert getattr(track, key) == value, (track.name, key)
        for move, before in zip(track.moves, known["moves"], strict=True):
            assert {key: move[key] for key in before} == pytest.approx(before)


def test_every_song_has_a_mix_and_every_track_a_recording(old: None) -> None:
    with database.session() as session:
        songs = session.scalar(text("SELECT count(*) FROM songs"))
        mixes = session.scalar(text("SELECT count(DISTINCT song_id) FROM strips WHERE kind = 'mix'"))
        lost = session.scalar(
            text("SELECT count(*) FROM strips WHERE kind = 'track' AND id NOT IN (SELECT strip_id FROM recordings)")
        )
    assert (songs, mixes, lost) == (2, 2, 0)


def test_the_whole_history_can_be_undone_and_redone(old: None) -> None:
    with database.session() as session:
        # what was undone last in version 0.2.1, when pages had no names: any page may
        edits.redo(session, ANSWER["id"], "a page")
    assert _song().name == "Tide Clock, a second look"
    with database.session() as session:
        edits.undo(session, ANSWER["id"], "a page")
    states = [_sounding(_song())]
    while True:
        try:
            with database.session() as session:
                edits.undo(session, ANSWER["id"])
        except NothingToUndo:
            break
        states.append(_sounding(_song()))
    assert len(states) > 30
    assert _song().tracks == ()
    for state in states[-2::-1]:
        with database.session() as session:
            edits.redo(session, ANSWER["id"])
        assert _sounding(_song()) == state


def test_any_point_of_the_old_history_can_be_gone_to_and_back(old: None) -> None:
    now = _sounding(_song())
    with database.session() as session:
        listed = log.history(session, ANSWER["id"], 1_000)
    imports = next(row for row in listed if row.label == "import Shakers")
    with database.session() as session:
        edits.go_to(session, ANSWER["id"], imports.id)
    assert [len(t.moves) for t in _song().tracks] == [0] * 9
    with database.session() as session:
        edits.undo(session, ANSWER["id"])
    assert _sounding(_song()) == now


def _sounding(song: SongState) -> tuple[object, ...]:
    return (song.name, song.passage_from_s, song.plan.place(song.plan.mix), [t.name for t in song.tracks])
