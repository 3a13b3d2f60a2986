"""The floor of a song: low cuts that are just not heard, judged together over the passage."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from sqlalchemy.orm import Session

from mivlo.core.clashes import find_floors, low_end, same_sources
from mivlo.core.errors import MivloError
from mivlo.core.moves import Entry, Shape, StaticMove
from mivlo.core.moves.static import Slope
from mivlo.core.roles import Role
from mivlo.services.clashes.carving import accept
from mivlo.services.clashes.heard import HeardSong, comparing
from mivlo.services.making.hearing import span_of
from mivlo.services.song.state import read_song
from mivlo.store.database import session

LIVE_DOWN_THERE = (Role.BASS,)


@dataclass(frozen=True, slots=True)
class TrackFloor:
    """One track's low end; see `mivlo.core.clashes.Floor`. same_as : tracks that carry the same source."""

    track_id: int
    low_lufs: float
    share: float
    corner_in_mix_hz: float | None
    corner_alone_hz: float | None
    slope_db_per_octave: int
    lowest_note_hz: float | None
    left_alone: str | None
    same_as: list[int]


@dataclass(frozen=True, slots=True)
class SongFloor:
    """All tracks, and the sum of the lows in dB before and behind all cuts."""

    tracks: list[TrackFloor]
    before_db: float
    after_db: float


def song_floor(
    song_id: int, from_s: float | None = None, to_s: float | None = None, *, above_notes: bool = False
) -> SongFloor:
    """Over the passage, or between two times; at most a minute from the start.

    above_notes : whether corners may lie above the lowest note that a track plays.
    """
    with session() as open_session:
        song = read_song(open_session, song_id)
    with comparing:
        heard = HeardSong.of(song, *span_of(song, from_s, to_s))
        if not heard.scene.frames:
            raise MivloError("There is no sound between these times. Choose a passage within the song.")
        pairs = same_sources([low_end(heard.sound(i), sample_rate=song.sample_rate) for i in heard.tracks])
        lives = [song.track(i).role in LIVE_DOWN_THERE for i in heard.tracks]
        floors = find_floors(heard.scene, same_source=pairs, lives_there=lives, above_notes=above_notes)
    tracks = [
        TrackFloor(
            track_id=track_id,
            low_lufs=round(floor.low_lufs, 1),
            share=round(floor.share, 4),
            corner_in_mix_hz=floor.corner_in_mix_hz,
            corner_alone_hz=floor.corner_alone_hz,
            slope_db_per_octave=floor.slope_db_per_octave,
            lowest_note_hz=None if floor.lowest_note_hz is None else round(floor.lowest_note_hz, 1),
            left_alone=floor.left_alone,
            same_as=[heard.tracks[b if a == n else a] for a, b in pairs if n in (a, b)],
        )
        for n, (track_id, floor) in enumerate(zip(heard.tracks, floors.tracks, strict=True))
    ]
    return SongFloor(tracks, round(floors.before_db, 2), round(floors.after_db, 2))


def accept_floor(
    session: Session,
    song_id: int,
    cuts: Sequence[tuple[int, float, Slope]],
    page: str = "",
    *,
    linear: Collection[int] = (),
) -> None:
    """Low cuts (track, corner in Hz, slope) become moves, all in one step.

    linear : tracks that are treated in linear phase from then on, since another one carries the same source and is not
        cut: it would be turned against it.
    """
    entries = [
        (track, Entry(move=StaticMove(Shape.LOW_CUT, hz, slope_db_per_octave=slope), links=("floor",), note="floor"))
        for track, hz, slope in cuts
    ]
    accept(session, song_id, entries, "the floor: low cuts", page, linear=linear)
