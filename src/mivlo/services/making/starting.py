"""Ready starts: moves that listen, with thresholds that fit the passage."""

from __future__ import annotations

from sqlalchemy.orm import Session

from mivlo.core.errors import InvalidValue
from mivlo.core.graph import StripKind
from mivlo.core.making.starts import BELOW_ACTIVE_DB, STARTS, StartName, started
from mivlo.core.making.thresholds import at_share, under_active
from mivlo.core.moves import DynamicMove, Entry, Move
from mivlo.services.making.hearing import span_of, traced
from mivlo.services.song.moves import add_moves, check_entry
from mivlo.services.song.state import SongState, StripState, read_song
from mivlo.services.song.strips import locked_strip


def start(
    session: Session,
    song_id: int,
    strip_id: int,
    name: StartName,
    *,
    frequency_hz: float | None = None,
    q: float | None = None,
    key: int | None = None,
    strip_revision: int | None = None,
    page: str = "",
) -> list[int]:
    """Add the moves of a start as one step, their thresholds fitted; their ids."""
    if name is StartName.GIVE_WAY and key is None:
        raise InvalidValue("key", None, "choose the track that it shall give way to")
    song = read_song(session, song_id)
    strip = song.strip(strip_id)
    group = strip.kind is not StripKind.TRACK
    moves = [_fitted(song, strip, name, m) for m in started(name, frequency_hz=frequency_hz, q=q, key=key, group=group)]
    row, strip_row = locked_strip(session, song_id, strip_id, None, strip_revision)
    title = STARTS[name].title
    entries = [Entry(move=move, links=(title,) if len(moves) > 1 else ()) for move in moves]
    for entry in entries:
        check_entry(song, strip, entry)
    return add_moves(session, row, [(strip_row, entry) for entry in entries], f"{strip.name}: {title}", page=page)


def _fitted(song: SongState, strip: StripState, name: StartName, move: Move) -> Move:
    """The move with a threshold that suits the passage."""
    if not isinstance(move, DynamicMove):
        return move
    seen = traced(song, strip, Entry(id=0, move=move), *span_of(song))
    if name is StartName.GIVE_WAY:
        return under_active(move, seen, BELOW_ACTIVE_DB)
    return at_share(move, seen, STARTS[name].share, of_sounding=True)
