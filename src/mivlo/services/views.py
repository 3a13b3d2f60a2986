"""What the page draws: waveform, time map and profile of a track, before and after treatment."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from mivlo.audio.library import ANALYSIS_BANDS, PEAK_FRAMES
from mivlo.core.chain import warm_chain
from mivlo.core.errors import InvalidValue
from mivlo.core.moves import Move
from mivlo.core.spectra import (
    MAP_TILE_COLUMNS,
    LongTermSpectrum,
    TimeMap,
    halve_columns,
    log_grid,
    map_bytes,
    map_hop,
)
from mivlo.core.units import Floats
from mivlo.services.importing import library
from mivlo.services.state import SongState, TrackState

_PIECE_COLUMNS = 512
_PIECE_FRAMES = 1 << 20


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
    """Long-term levels of a passage on the grid, in dB."""

    untreated_db: Floats
    treated_db: Floats


def profile(song: SongState, track: TrackState, from_s: float, to_s: float, bands_per_octave: float) -> Profile:
    """Untreated and treated long-term levels of a stretch (the whole track if it is empty)."""
    x = library().samples(track.audio_sha256, song.sample_rate)
    start = min(max(0, int(from_s * song.sample_rate)), max(len(x) - 1, 0))
    stop = min(len(x), int(to_s * song.sample_rate))
    if stop <= start:
        start, stop = 0, len(x)
    moves = [move.move() for move in track.moves]
    treating = any(move.enabled for move in moves)
    if (start, stop) == (0, len(x)) and bands_per_octave == ANALYSIS_BANDS and not treating:
        known = np.array(library().analysis(track.audio_sha256, song.sample_rate).levels_db)
        return Profile(known, known)
    untreated = LongTermSpectrum(song.sample_rate, track.channels)
    treated = LongTermSpectrum(song.sample_rate, track.channels)
    chain = warm_chain(x, moves, start, sample_rate=song.sample_rate) if treating else None
    for at in range(start, stop, _PIECE_FRAMES):  # a track may be hours long: never whole in memory
        piece = x[at : min(stop, at + _PIECE_FRAMES)]
        untreated.add(piece)
        if chain is not None:
            treated.add(chain.process(piece))
    before = untreated.levels(log_grid(), bands_per_octave=bands_per_octave)
    if chain is None:
        return Profile(before, before)
    return Profile(before, treated.levels(log_grid(), bands_per_octave=bands_per_octave))


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
    chain = warm_chain(x, moves, max(0, first * hop - time_map.reach), sample_rate=rate)
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
