"""More of the same: where a spot of one strip stands out again, there and in others."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy.orm import Session

from mivlo.core.errors import InvalidValue
from mivlo.core.making.alike import LONGEST_S, SHORTEST_S, find_alike, patch_of
from mivlo.services.recordings.treated import arriving
from mivlo.services.song.state import read_song


@dataclass(frozen=True, slots=True)
class Spot:
    """A range of frequencies at a time."""

    from_hz: float
    to_hz: float
    from_s: float
    to_s: float


@dataclass(frozen=True, slots=True)
class AlikeMoment:
    """A moment of a track that is like a spot, 0 to 1."""

    track_id: int
    from_s: float
    to_s: float
    strength: float


def more_like(session: Session, song_id: int, track_id: int, spot: Spot, *, everywhere: bool) -> list[AlikeMoment]:
    """All moments of a strip, or of all tracks, that are like a spot of it, in order."""
    song = read_song(session, song_id)
    here = song.strip(track_id)
    if not SHORTEST_S <= spot.to_s - spot.from_s <= LONGEST_S:
        raise InvalidValue("to_s", spot.to_s, f"mark {SHORTEST_S:g} to {LONGEST_S:g} s of it")
    session.rollback()  # what follows takes a while and needs no connection
    where = {"from_hz": spot.from_hz, "to_hz": spot.to_hz, "from_s": spot.from_s, "to_s": spot.to_s}
    rate = song.sample_rate
    patch = patch_of(arriving(song, here)[:], sample_rate=rate, **where) if everywhere else None
    found = [
        AlikeMoment(track.id, m.from_s, m.to_s, m.strength)
        for track in (song.tracks if everywhere else (here,))
        for m in find_alike(arriving(song, track)[:], sample_rate=rate, patch=patch, **where)
    ]
    return sorted(found, key=lambda m: (m.track_id != track_id, m.track_id, m.from_s))
