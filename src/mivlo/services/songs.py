"""Use cases on songs, tracks and moves."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from mivlo.audio.decode import HIGHEST_RATE, LOWEST_RATE
from mivlo.core.errors import InvalidValue
from mivlo.core.moves import Move, Shape, StaticMove
from mivlo.services.edits import Change, added_row, change_song, lock_song
from mivlo.services.errors import NotFound
from mivlo.services.roles import Role
from mivlo.store.models import MoveRow, Song, Track

SHAPE_WORDS = {
    Shape.BELL: "bell",
    Shape.NOTCH: "notch",
    Shape.LOW_SHELF: "low shelf",
    Shape.HIGH_SHELF: "high shelf",
    Shape.LOW_CUT: "low cut",
    Shape.HIGH_CUT: "high cut",
    Shape.BAND_PASS: "band pass",
}


def list_songs(session: Session) -> list[tuple[Song, int]]:
    """All songs with the number of their tracks, oldest first."""
    count = (
        select(func.count())
        .select_from(Track)
        .where(Track.song_id == Song.id, Track.deleted.is_(False))
        .scalar_subquery()
    )
    rows = session.execute(select(Song, count).where(Song.deleted.is_(False)).order_by(Song.id))
    return [(song, int(tracks)) for song, tracks in rows]


def create_song(session: Session, name: str, sample_rate: int) -> Song:
    """A new song without tracks."""
    if not LOWEST_RATE <= sample_rate <= HIGHEST_RATE:
        raise InvalidValue("sample_rate", sample_rate, "it must lie between 8000 and 192000 Hz")
    song = Song(name=_named(name), sample_rate=sample_rate, revision=0, deleted=False)
    session.add(song)
    session.flush()
    return song


def _named(name: str) -> str:
    cleaned = " ".join(name.split())[:120]
    if not cleaned:
        raise InvalidValue("name", name, "it must not be empty")
    return cleaned


def change_song_values(session: Session, song_id: int, revision: int | None, values: dict[str, Any]) -> None:
    """Rename a song, set its passage, or whether findings are looked for within it."""
    song = lock_song(session, song_id, revision)
    label = "set the passage"
    if "look_in_passage" in values:
        label = f"look for findings in the {'passage' if values['look_in_passage'] else 'whole tracks'}"
    if "name" in values:
        values["name"] = _named(values["name"])
        label = f"rename to {values['name']}"
    start, end = values.get("passage_from_s"), values.get("passage_to_s")
    if (start is None) != (end is None):
        raise InvalidValue("passage", (start, end), "it needs a start and an end")
    if start is not None and end is not None and not 0 <= start < end:
        raise InvalidValue("passage", (start, end), "it must start before it ends")
    change_song(session, song, label, [Change("song", song_id, values)])


def delete_song(session: Session, song_id: int) -> None:
    """Hide a song; `undo` on it brings it back."""
    song = lock_song(session, song_id)
    change_song(session, song, f"delete {song.name}", [Change("song", song_id, {"deleted": True})])


def _track(session: Session, song_id: int, track_id: int) -> Track:
    track = session.get(Track, track_id)
    if track is None or track.song_id != song_id or track.deleted:
        raise NotFound("track", track_id)
    return track


def change_track(session: Session, song_id: int, track_id: int, revision: int | None, values: dict[str, Any]) -> None:
    """Rename a track, set its role, fader, pan, mute or solo."""
    song = lock_song(session, song_id, revision)
    track = _track(session, song_id, track_id)
    if "name" in values:
        values["name"] = _named(values["name"])
    if "role" in values:
        values["role"] = str(Role(values["role"]))
    words = ", ".join(key.removesuffix("_db") for key in values)
    change_song(session, song, f"{track.name}: {words}", [Change("track", track_id, values)])


def delete_track(session: Session, song_id: int, track_id: int, revision: int | None) -> None:
    """Take a track out of the song; undo brings it back with its moves."""
    song = lock_song(session, song_id, revision)
    track = _track(session, song_id, track_id)
    change_song(session, song, f"delete {track.name}", [Change("track", track_id, {"deleted": True})])


def reorder_tracks(session: Session, song_id: int, order: Sequence[int], revision: int | None) -> None:
    """Put the tracks into the order of the given ids, which must name each track once."""
    song = lock_song(session, song_id, revision)
    query = select(Track.id).where(Track.song_id == song_id, Track.deleted.is_(False))
    if sorted(order) != sorted(session.scalars(query)):
        raise InvalidValue("order", list(order), "it must name every track of the song once")
    changes = [Change("track", track_id, {"position": i}) for i, track_id in enumerate(order)]
    change_song(session, song, "reorder the tracks", changes)


def _move_values(move: Move) -> dict[str, Any]:
    return {
        "shape": str(move.shape),
        "frequency_hz": move.frequency_hz,
        "q": move.q,
        "gain_db": move.gain_db,
        "slope_db_per_octave": move.slope_db_per_octave,
        "enabled": move.enabled,
    }


def _label(verb: str, track: Track, move: Move) -> str:
    return f"{track.name}: {verb} {SHAPE_WORDS[move.shape]} {move.frequency_hz:.0f} Hz"


def add_move(session: Session, song_id: int, track_id: int, move: Move, revision: int | None) -> int:
    """Add a move behind the others; its id."""
    song = lock_song(session, song_id, revision)
    track = _track(session, song_id, track_id)
    row = _new_move(session, track, move)
    added_row(session, song, _label("add", track, move), "move", row)
    return row.id


def _new_move(session: Session, track: Track, move: Move) -> MoveRow:
    last = session.scalar(select(func.max(MoveRow.position)).where(MoveRow.track_id == track.id))
    return MoveRow(track_id=track.id, position=(last or 0) + 1, deleted=False, **_move_values(move))


def insert_move(session: Session, track: Track, move: Move) -> MoveRow:
    """A move behind the others, as a part of a larger step that the caller records."""
    row = _new_move(session, track, move)
    session.add(row)
    session.flush()
    return row


def _move_row(session: Session, song_id: int, move_id: int) -> tuple[MoveRow, Track]:
    row = session.get(MoveRow, move_id)
    if row is None or row.deleted:
        raise NotFound("move", move_id)
    return row, _track(session, song_id, row.track_id)


def as_move(row: MoveRow, **changed: Any) -> Move:
    """The row as the core's move, with some values changed and all checked."""
    values = {
        "shape": Shape(row.shape),
        "frequency_hz": row.frequency_hz,
        "q": row.q,
        "gain_db": row.gain_db,
        "slope_db_per_octave": row.slope_db_per_octave,
        "enabled": row.enabled,
    }
    return StaticMove(**{**values, **changed})


def change_move(session: Session, song_id: int, move_id: int, revision: int | None, values: dict[str, Any]) -> None:
    """Set new values of a move."""
    song = lock_song(session, song_id, revision)
    row, track = _move_row(session, song_id, move_id)
    move = as_move(row, **values)
    verb = "change"
    if set(values) == {"enabled"}:
        verb = "switch on" if move.enabled else "switch off"
    stored = _move_values(move)
    changed = {key: value for key, value in stored.items() if getattr(row, key) != value}
    if changed:
        change_song(session, song, _label(verb, track, move), [Change("move", move_id, changed)])


def delete_move(session: Session, song_id: int, move_id: int, revision: int | None) -> None:
    """Take a move away; undo brings it back."""
    song = lock_song(session, song_id, revision)
    row, track = _move_row(session, song_id, move_id)
    change_song(session, song, _label("delete", track, as_move(row)), [Change("move", move_id, {"deleted": True})])
