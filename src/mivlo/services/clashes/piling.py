"""What the tracks of a group add up to in the harsh range, and two ways to take some of it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from mivlo.core.clashes import GROUP_GIVES_DB
from mivlo.core.clashes.piling import HARSH_HZ, Remedy, pile_up
from mivlo.core.errors import InvalidValue
from mivlo.core.graph import StripKind
from mivlo.core.moves import Entry
from mivlo.services.clashes.heard import HeardSong, comparing
from mivlo.services.making.hearing import span_of
from mivlo.services.song.state import read_song
from mivlo.store.database import session

LINK = "harsh"


@dataclass(frozen=True, slots=True)
class PiledTrack:
    """share : of the sum's energy in the range. piled : whether it is one of those that make up most of it."""

    track_id: int
    share: float
    piled: bool


@dataclass(frozen=True, slots=True)
class PileCuts:
    """Cuts on the group or on the tracks that pile up; both take drop_db from the sum in the range.

    taken_sones : what the cut tracks lose in the mix. gained_sones : what the others regain.
    """

    on: Literal["group", "tracks"]
    entries: list[tuple[int, Entry]]
    drop_db: float
    taken_sones: float
    gained_sones: float


@dataclass(frozen=True, slots=True)
class SongPile:
    """cuts : on the group, then on the tracks where those would not be too deep."""

    strip_id: int
    from_hz: float
    to_hz: float
    tracks: list[PiledTrack]
    cuts: list[PileCuts]


def song_pile(
    song_id: int,
    strip_id: int,
    *,
    depth_db: float = GROUP_GIVES_DB,
    from_s: float | None = None,
    to_s: float | None = None,
) -> SongPile:
    """Of a group or the mix, over the passage or between two times; at most a minute from the start.

    Raises
    ------
    InvalidValue : it is a track, or none of its tracks sounds in the range.
    """
    with session() as open_session:
        song = read_song(open_session, song_id)
    strip = song.strip(strip_id)
    if strip.kind is StripKind.TRACK:
        raise InvalidValue("strip_id", strip.name, "it is a track; choose a group or the mix")
    with comparing:
        heard = HeardSong.of(song, *span_of(song, from_s, to_s))
        below = song.plan.below(strip_id)
        members = [n for n, i in enumerate(heard.tracks) if i in below]
        if not members:
            raise InvalidValue("strip_id", strip.name, "no track of it sounds here")
        pile = pile_up(heard.scene, members, depth_db=depth_db)
    tracks = [
        PiledTrack(heard.tracks[n], round(share, 4), n in pile.piled)
        for n, share in sorted(pile.share.items(), key=lambda x: -x[1])
    ]
    cuts = [_cuts("group", [strip_id], pile.on_group)]
    if pile.on_tracks is not None:
        cuts.append(_cuts("tracks", [heard.tracks[n] for n in pile.piled], pile.on_tracks))
    return SongPile(strip_id, *HARSH_HZ, tracks, cuts)


def _cuts(on: Literal["group", "tracks"], strips: list[int], remedy: Remedy) -> PileCuts:
    entry = Entry(move=remedy.cut, links=(LINK,), note="harsh range: what piles up")
    taken = round(sum(remedy.taken.values()), 4)
    return PileCuts(on, [(i, entry) for i in strips], remedy.drop_db, taken, round(remedy.gained, 4))
