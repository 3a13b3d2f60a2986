"""What the page draws: waveform, time map and profile of a track, before and after treatment."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from mivlo.audio.library import PEAK_FRAMES
from mivlo.core.chain import Chain
from mivlo.core.errors import InvalidValue
from mivlo.core.moves import Move, settling_time_s
from mivlo.core.spectra import (
    MAP_TILE_COLUMNS,
    Singles,
    TimeMap,
    halve_columns,
    log_grid,
    long_term_levels,
    map_bytes,
    map_hop,
)
from mivlo.core.units import Floats
from mivlo.services.importing import library
from mivlo.services.state import SongState, TrackState

_PIECE_COLUMNS = 512


def waveform(song: SongState, track: TrackState, points: int) -> bytes:
    """Lowest and highest sample of `points` stretches of the song, as pairs of signed bytes."""
    if not 1 <= points <= 8192:
        raise InvalidValue("points", points, "it must lie between 1 and 8192")
    peaks = np.asarray(library().peaks(track.audio_sha256, song.sample_rate))
    total = song.duration_s * song.sample_rate / PEAK_FRAMES
    edges = np.linspace(0.0, total, points + 1)
    out = np.zeros((points, 2), dtype=np.int8)
    for i in range(points):
        part = peaks[int(edges[i]) : max(int(edges[i]) + 1, int(edges[i + 1]))]
        if len(part):
            out[i] = np.clip(np.rint([part[:, 0].min() * 127, part[:, 1].max() * 127]), -127, 127)
    return out.tobytes()


@dataclass(frozen=True, slots=True)
class Profile:
    """Long-term levels of a passage on the grid, in dB per 1/12 octave."""

    untreated_db: Floats
    treated_db: Floats


def _preroll(samples: Singles, moves: Sequence[Move], start: int, rate: int) -> Chain:
    """A chain that has heard what comes before `start`, as far back as it can remember."""
    chain = Chain(rate, samples.shape[1], moves)
    back = int(min(settling_time_s(moves), 4.0) * rate)
    chain.process(samples[max(0, start - back) : start])
    return chain


def profile(song: SongState, track: TrackState, from_s: float, to_s: float, bands_per_octave: float) -> Profile:
    """Untreated and treated long-term levels of a stretch (the whole track if it is empty)."""
    x = library().samples(track.audio_sha256, song.sample_rate)
    start = min(max(0, int(from_s * song.sample_rate)), max(len(x) - 1, 0))
    stop = min(len(x), int(to_s * song.sample_rate))
    if stop <= start:
        start, stop = 0, len(x)
    moves = [move.move() for move in track.moves]
    if (start, stop) == (0, len(x)) and bands_per_octave == 12:
        before = np.array(library().analysis(track.audio_sha256, song.sample_rate).levels_db)
    else:
        before = long_term_levels(
            x[start:stop], log_grid(), sample_rate=song.sample_rate, bands_per_octave=bands_per_octave
        )
    if not any(move.enabled for move in moves):
        return Profile(before, before)
    treated = _preroll(x, moves, start, song.sample_rate).process(x[start:stop])
    after = long_term_levels(treated, log_grid(), sample_rate=song.sample_rate, bands_per_octave=bands_per_octave)
    return Profile(before, after)


def map_tile(song: SongState, track: TrackState, level: int, tile: int, treated: bool) -> bytes:
    """MAP_TILE_COLUMNS columns of MAP_ROWS bytes, lowest row first; short at the end of the track."""
    known = library().analysis(track.audio_sha256, song.sample_rate)
    if not 0 <= level < known.map_levels:
        raise InvalidValue("level", level, f"this track has the levels 0 to {known.map_levels - 1}")
    first = tile * MAP_TILE_COLUMNS
    moves = tuple(move.move() for move in track.moves if move.enabled)
    if not treated or not moves:
        columns = library().map_level(track.audio_sha256, song.sample_rate, level)
        return columns[first : first + MAP_TILE_COLUMNS].tobytes()
    return _treated_tile(track.audio_sha256, song.sample_rate, level, tile, moves)


@lru_cache(maxsize=256)
def _treated_tile(digest: str, rate: int, level: int, tile: int, moves: tuple[Move, ...]) -> bytes:
    """Measured on the treated sound, not derived from the curve."""
    x = library().samples(digest, rate)
    known = library().analysis(digest, rate)
    hop, step = map_hop(rate), 2**level
    first = tile * MAP_TILE_COLUMNS * step
    count = min(MAP_TILE_COLUMNS * step, known.map_columns - first)
    if count <= 0:
        return b""
    time_map = TimeMap(rate)
    chain = _preroll(x, moves, max(0, first * hop - time_map.reach), rate)
    kept = np.zeros((0, x.shape[1]))
    kept_from = max(0, first * hop - time_map.reach)
    at, parts = kept_from, []
    while count > 0:
        here = min(count, _PIECE_COLUMNS)
        need = min(len(x), (first + here + 4) * hop + time_map.reach)
        if need > at:
            kept = np.concatenate([kept, chain.process(x[at:need])])
            at = need
        parts.append(time_map.columns(kept, first * hop - kept_from, here))
        first, count = first + here, count - here
        drop = max(0, first * hop - time_map.reach - kept_from)
        kept, kept_from = kept[drop:], kept_from + drop
    power = np.concatenate(parts)
    for _ in range(level):
        power = halve_columns(power)
    return map_bytes(power[:MAP_TILE_COLUMNS]).tobytes()


def treated_passage(song: SongState, track: TrackState, from_s: float, to_s: float) -> tuple[Floats, Floats]:
    """(untreated, treated) samples of a stretch, both (n, channels)."""
    x = library().samples(track.audio_sha256, song.sample_rate)
    start, stop = int(from_s * song.sample_rate), min(len(x), int(to_s * song.sample_rate))
    moves = [move.move() for move in track.moves]
    dry = np.asarray(x[start:stop], dtype=np.float64)
    if not len(dry):
        return dry, dry
    return dry, _preroll(x, moves, start, song.sample_rate).process(dry)
