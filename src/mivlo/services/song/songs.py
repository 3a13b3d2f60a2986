"""Use cases on songs and their outline: name, passage, order."""

from __future__ import annotations

import unicodedata
from collections.abc import Sequence
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from mivlo.audio.decode import HIGHEST_RATE, LOWEST_RATE
from mivlo.core.errors import InvalidValue
from mivlo.core.roles import Role
from mivlo.services.errors import NotFound
from mivlo.services.song.edits import change_song, lock_song
from mivlo.services.song.log import Change
from mivlo.store.models import Song, StripRow


def song_row(session: Session, song_id: int) -> Song:
    """A song that is not deleted; NotFound if there is none."""
    row = session.get(Song, song_id)
    if row is None or row.deleted:
        raise NotFound("song", song_id)
    return row


def list_songs(session: Session) -> list[tuple[Song, int]]:
    """All songs with the number of their tracks, oldest first."""
    count = (
        select(func.count())
        .select_from(StripRow)
        .where(StripRow.song_id == Song.id, StripRow.kind == "track", StripRow.deleted.is_(False))
        .scalar_subquery()
    )
    rows = session.execute(select(Song, count).where(Song.deleted.is_(False)).order_by(Song.id))
    return [(song, int(tracks)) for song, tracks in rows]


def create_song(session: Session, name: str, sample_rate: int) -> Song:
    """A new song without tracks; its mix is there from the start."""
    if not LOWEST_RATE <= sample_rate <= HIGHEST_RATE:
        raise InvalidValue("sample_rate", sample_rate, "it must lie between 8000 and 192000 Hz")
    if int(session.scalar(select(func.count()).select_from(Song)) or 0) >= MOST_SONGS:
        raise InvalidValue("songs", MOST_SONGS, "one installation has no more; back some up and delete them first")
    song = Song(name=named(name), sample_rate=sample_rate, revision=0, outline=0, deleted=False)
    session.add(song)
    session.flush()
    session.add(StripRow(song_id=song.id, kind="mix", position=0, name="Mix", role=str(Role.OTHER), deleted=False))
    session.flush()
    return song


MOST_SONGS = 10_000
_NO_SIGNS = ("Cc", "Cs")
"""Control signs and halves of signs: no database keeps them."""


def named(name: str) -> str:
    """A name as it is kept: on one line, not empty, at most 120 signs, and no sign that is none."""
    shown = "".join(" " if unicodedata.category(sign) in _NO_SIGNS else sign for sign in name)
    cleaned = " ".join(shown.split())[:120].strip()
    if not cleaned:
        raise InvalidValue("name", name, "it must not be empty")
    return cleaned


def change_song_values(
    session: Session,
    song_id: int,
    revision: int | None,
    values: dict[str, Any],
    *,
    outline: int | None = None,
    page: str = "",
) -> None:
    """Rename a song, set its passage, whether findings are looked for in it, and how loud the mix is taken to be."""
    song = lock_song(session, song_id, revision, outline=outline)
    label = "set the passage"
    if "look_in_passage" in values:
        label = f"look for findings in the {'passage' if values['look_in_passage'] else 'whole tracks'}"
    if "playback_db_spl" in values:
        label = f"mix heard at {values['playback_db_spl']:g} dB SPL"
    if "name" in values:
        values["name"] = named(values["name"])
        label = f"rename to {values['name']}"
    start, end = values.get("passage_from_s"), values.get("passage_to_s")
    if (start is None) != (end is None):
        raise InvalidValue("passage", (start, end), "it needs a start and an end")
    if start is not None and end is not None and not 0 <= start < end:
        raise InvalidValue("passage", (start, end), "it must start before it ends")
    change_song(session, song, label, [Change("song", song_id, values)], page=page, gesture=True)


def delete_song(session: Session, song_id: int, *, page: str = "") -> None:
    """Hide a song; `undo` on it brings it back."""
    song = lock_song(session, song_id)
    change_song(session, song, f"delete {song.name}", [Change("song", song_id, {"deleted": True})], page=page)


def reorder_tracks(
    session: Session,
    song_id: int,
    order: Sequence[int],
    revision: int | None,
    *,
    outline: int | None = None,
    page: str = "",
) -> None:
    """Put the tracks into the order of the given ids, which must name each track once."""
    song = lock_song(session, song_id, revision, outline=outline)
    query = select(StripRow.id).where(
        StripRow.song_id == song_id, StripRow.kind == "track", StripRow.deleted.is_(False)
    )
    if sorted(order) != sorted(session.scalars(query)):
        raise InvalidValue("order", list(order), "it must name every track of the song once")
    changes = [Change("strip", track_id, {"position": i}) for i, track_id in enumerate(order)]
    change_song(session, song, "reorder the tracks", changes, page=page)
