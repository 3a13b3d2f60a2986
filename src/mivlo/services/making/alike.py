"""More of the same: where a spot of one strip stands out again, there and in others."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy.orm import Session

from mivlo.core.errors import InvalidValue
from mivlo.core.making.alike import LONGEST_S, SHORTEST_S, find_alike
from mivlo.services.recordings.files import recordings
from mivlo.services.song.state import SongState, StripState, read_song


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
    """All moments of a track, or of all tracks, that are like a spot of it, in order."""
    song = read_song(session, song_id)
    here = song.track(track_id)
    if not SHORTEST_S <= spot.to_s - spot.from_s <= LONGEST_S:
        raise InvalidValue("to_s", spot.to_s, f"mark {SHORTEST_S:g} to {LONGEST_S:g} s of it")
    session.rollback()  # what follows takes a while and needs no connection
    found: list[AlikeMoment] = []
    for track in song.tracks if everywhere else (here,):
        found += _in(song, here, track, spot)
    return sorted(found, key=lambda m: (m.track_id != track_id, m.track_id, m.from_s))


def _in(song: SongState, here: StripState, track: StripState, spot: Spot) -> list[AlikeMoment]:
    rate = song.sample_rate
    sound = recordings().samples(track.recording, rate)
    other = None if track.id == here.id else recordings().samples(here.recording, rate)
    moments = find_alike(
        sound, sample_rate=rate, from_hz=spot.from_hz, to_hz=spot.to_hz, from_s=spot.from_s, to_s=spot.to_s,
        template=other,
    )  # fmt: skip
    return [AlikeMoment(track.id, m.from_s, m.to_s, m.strength) for m in moments]
