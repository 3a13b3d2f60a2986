"""Two snapshots of a strip side by side: what each does to it over the passage, and what is kept of it in the mix."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from pydantic import BaseModel

from mivlo.core.clashes import loss_of
from mivlo.core.graph import StripKind, Tap
from mivlo.core.loudness import gated_loudness
from mivlo.core.spectra import log_grid
from mivlo.services.clashes.heard import HeardSong, comparing
from mivlo.services.making.hearing import sound_of, span_of
from mivlo.services.pictures.views import profile
from mivlo.services.song.snapshots import Snapshot, snapshot
from mivlo.services.song.state import SongState, read_song
from mivlo.store.database import session

BANDS_PER_OCTAVE = 24.0
NOW = "as it is now"


class SnapshotSide(BaseModel):
    """A strip as one snapshot has it; without a snapshot as it is now.

    untreated_db, treated_db : long-term levels over the grid, in bands of 1/24 octave. loudness_lufs : gated, behind
    everything. kept : what is left of its loudness among the others, 0 to 1; None of the mix and where it is muted.
    """

    snapshot_id: int | None
    name: str
    moves: int
    untreated_db: list[float]
    treated_db: list[float]
    loudness_lufs: float
    kept: float | None


class SnapshotsCompared(BaseModel):
    """Two sides over the same stretch of the song."""

    strip_id: int
    from_s: float
    to_s: float
    grid_hz: list[float]
    sides: list[SnapshotSide]


def compare_snapshots(song_id: int, strip_id: int, first: int, second: int | None = None) -> SnapshotsCompared:
    """A strip as two snapshots have it, or as one has it and as it is now, measured over the passage.

    What a snapshot does not hold is as it is now.

    Raises
    ------
    NotFound : there is no such strip or snapshot.
    """
    with session() as open_session:
        song = read_song(open_session, song_id)
        song.strip(strip_id)
        one = snapshot(open_session, song_id, first)
        other = None if second is None else snapshot(open_session, song_id, second)
    start, stop = span_of(song)
    with comparing:
        sides = [_side(song, kept, strip_id, start, stop) for kept in (one, other)]
    rate = song.sample_rate
    return SnapshotsCompared(
        strip_id=strip_id, from_s=start / rate, to_s=stop / rate, grid_hz=_rounded(log_grid()), sides=sides
    )


def with_snapshot(song: SongState, kept: Snapshot | None) -> SongState:
    """The song with the treatments of a snapshot; of strips that are gone since then, nothing."""
    if kept is None:
        return song
    strips = (replace(s, treatment=kept.treatments.get(s.id, s.treatment)) for s in song.strips)
    return replace(song, strips=tuple(strips))


def _side(song: SongState, kept: Snapshot | None, strip_id: int, start: int, stop: int) -> SnapshotSide:
    made = with_snapshot(song, kept)
    strip = made.strip(strip_id)
    levels = profile(made, strip, start / song.sample_rate, stop / song.sample_rate, BANDS_PER_OCTAVE)
    sound = sound_of(made, made.plan, (strip_id, Tap.BEHIND), start, stop)
    return SnapshotSide(
        snapshot_id=None if kept is None else kept.id,
        name=NOW if kept is None else kept.name,
        moves=sum(entry.enabled for entry in strip.entries),
        untreated_db=_rounded(levels.untreated_db),
        treated_db=_rounded(levels.treated_db if levels.behind_db is None else levels.behind_db),
        loudness_lufs=round(gated_loudness(sound, sample_rate=song.sample_rate), 2),
        kept=_kept(made, strip_id, start, stop),
    )


def _kept(song: SongState, strip_id: int, start: int, stop: int) -> float | None:
    if song.strip(strip_id).kind is StripKind.MIX:
        return None
    heard = HeardSong.of(song, start, stop, folded=(strip_id,))
    number = heard.number(strip_id)
    return None if number is None else round(loss_of(heard.scene, number)[0].kept_share, 4)


def _rounded(values: np.typing.ArrayLike) -> list[float]:
    return [round(float(v), 2) for v in np.asarray(values)]
