"""What the page draws: waveform, time map and profile of a strip, before and after treatment."""

from __future__ import annotations

import contextlib
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from mivlo.audio.working import ANALYSIS_BANDS, PEAK_FRAMES
from mivlo.core.errors import InvalidValue
from mivlo.core.graph import StripKind, Tap, TreatedSound
from mivlo.core.graph.streams import Samples
from mivlo.core.moves import NO_AFTERCARE, AdaptiveMove, RungsMove
from mivlo.core.spectra import (
    MAP_TILE_COLUMNS,
    LongTermSpectrum,
    TimeMap,
    halve_columns,
    log_grid,
    map_bytes,
    map_extent,
    map_hop,
)
from mivlo.core.units import Floats, db_to_gain
from mivlo.services.recordings.files import recordings
from mivlo.services.recordings.treated import arriving, tapped
from mivlo.services.song.state import SongState, StripState

_PIECE_COLUMNS = 512
_PIECE_FRAMES = 1 << 20


def waveform(song: SongState, strip: StripState, points: int) -> bytes:
    """Lowest and highest sample of `points` stretches of the song, as pairs of signed bytes.

    Of a group or the mix the outermost of its untreated tracks by their faders: a picture of when what plays, at once.
    """
    if not 1 <= points <= 8192:
        raise InvalidValue("points", points, "it must lie between 1 and 8192")
    if strip.kind is StripKind.TRACK:
        found = _peaks(song, strip, points)
    else:
        found = np.zeros((points, 2))
        for track in song.tracks:
            gain = _gain_into(song, track.id, strip.id)
            if gain and track.audio_sha256:
                peaks = gain * _peaks(song, track, points)
                found[:, 0] = np.minimum(found[:, 0], peaks[:, 0])
                found[:, 1] = np.maximum(found[:, 1], peaks[:, 1])
    return np.clip(np.rint(found * 127), -127, 127).astype(np.int8).tobytes()


def _peaks(song: SongState, track: StripState, points: int) -> Floats:
    """(points, 2): lowest and highest sample of each stretch of a recording."""
    peaks = np.asarray(recordings().peaks(track.recording, song.sample_rate))
    total = song.duration_s * song.sample_rate / PEAK_FRAMES
    edges = np.linspace(0.0, total, points + 1)
    out = np.zeros((points, 2))
    for i in range(points):
        part = peaks[int(edges[i]) : max(int(edges[i]) + 1, int(edges[i + 1]))]
        if len(part):
            out[i] = part[:, 0].min(), part[:, 1].max()
    return out


def _gain_into(song: SongState, track_id: int, strip_id: int) -> float:
    """The gain of the faders between a track and a strip that it runs into; 0 where it does not reach it."""
    path = (track_id, *song.plan.above(track_id))
    if strip_id not in path:
        return 0.0
    on_the_way = [song.plan.strips[i] for i in path[: path.index(strip_id)]]
    if any(strip.mute for strip in on_the_way):
        return 0.0
    return db_to_gain(sum(strip.fader_db for strip in on_the_way))


@dataclass(frozen=True, slots=True)
class Profile:
    """Long-term levels of a passage on the grid, in dB.

    behind_db : behind the aftercare, None where there is none. comes_back : places of cuts, in Hz, and by how many dB
    the aftercare lifts them against the rest.
    """

    untreated_db: Floats
    treated_db: Floats
    behind_db: Floats | None = None
    comes_back: tuple[tuple[float, float], ...] = ()


def profile(song: SongState, track: StripState, from_s: float, to_s: float, bands_per_octave: float) -> Profile:
    """Untreated and treated long-term levels of a stretch (the whole strip if it is empty), and those behind it all."""
    x = arriving(song, track)
    start = min(max(0, int(from_s * song.sample_rate)), max(len(x) - 1, 0))
    stop = min(len(x), int(to_s * song.sample_rate))
    if stop <= start:
        start, stop = 0, len(x)
    sounds: list[Samples | None] = [x, _treated(song, track), _behind(song, track)]
    known_whole = track.kind is StripKind.TRACK and bands_per_octave == ANALYSIS_BANDS
    if known_whole and (start, stop) == (0, len(x)) and sounds[1:] == [None, None]:
        known = np.array(recordings().analysis(track.recording, song.sample_rate).levels_db)
        return Profile(known, known)
    found = [LongTermSpectrum(song.sample_rate, track.channels) for _ in sounds]
    for at in range(start, stop, _PIECE_FRAMES):  # a track may be hours long: never whole in memory
        end = min(stop, at + _PIECE_FRAMES)
        for sound, spectrum in zip(sounds, found, strict=True):
            if sound is not None:
                spectrum.add(sound[at:end])
    before, treated, behind = (
        None if sound is None else spectrum.levels(log_grid(), bands_per_octave=bands_per_octave)
        for sound, spectrum in zip(sounds, found, strict=True)
    )
    assert before is not None
    after = before if treated is None else treated
    back = () if behind is None else _comes_back(track, before, after, behind)
    return Profile(before, after, behind, back)


_QUIET_DB, _LEAST_BACK_DB = 50.0, 1.0


def _comes_back(track: StripState, before: Floats, after: Floats, behind: Floats) -> tuple[tuple[float, float], ...]:
    """Where a cut is undone in part by what comes behind: its lift there over that of the whole track."""
    grid = log_grid()
    heard = after > np.max(after) - _QUIET_DB
    lift = behind - after
    usual = float(np.median(lift[heard])) if heard.any() else 0.0
    out = []
    for entry in track.entries:
        move = entry.move
        if not entry.enabled or isinstance(move, AdaptiveMove | RungsMove):
            continue
        at = int(np.argmin(np.abs(np.log(grid / move.frequency_hz))))
        back = float(lift[at]) - usual
        if before[at] - after[at] > _LEAST_BACK_DB and back > _LEAST_BACK_DB:
            out.append((round(move.frequency_hz, 1), round(back, 1)))
    return tuple(out)


def _behind(song: SongState, track: StripState) -> Samples | None:
    """The track behind its aftercare, but for its gain and a reverb; None where that is nothing."""
    care = replace(track.aftercare, output_db=0.0, reverb=None)
    if care == NO_AFTERCARE:
        return None
    level = replace(track, treatment=replace(track.treatment, aftercare=care))
    return tapped(song.with_strip(level), (track.id, Tap.BEHIND))


def _treated(song: SongState, track: StripState) -> TreatedSound | None:
    """The strip behind its moves; None where none is on."""
    if not any(entry.enabled for entry in track.entries):
        return None
    return tapped(song, (track.id, Tap.TREATED))


def map_extent_of(song: SongState, track: StripState) -> tuple[int, int]:
    """Columns of a strip's time map at the finest level, and its levels."""
    if track.kind is not StripKind.TRACK:
        return map_extent(track.frames, song.sample_rate)
    known = recordings().analysis(track.recording, song.sample_rate)
    return known.map_columns, known.map_levels


def map_tile(song: SongState, track: StripState, level: int, tile: int, treated: bool) -> bytes:
    """MAP_TILE_COLUMNS columns of MAP_ROWS bytes, lowest row first; short at the end of the strip."""
    _, levels = map_extent_of(song, track)
    if not 0 <= level < levels:
        raise InvalidValue("level", level, f"this strip has the levels 0 to {levels - 1}")
    first = tile * MAP_TILE_COLUMNS
    changed = treated and any(entry.enabled for entry in track.entries)
    if track.kind is StripKind.TRACK and not changed:
        columns = recordings().map_level(track.recording, song.sample_rate, level)
        return columns[first : first + MAP_TILE_COLUMNS].tobytes()
    name = song.plan.sound(track.id) if changed else song.plan.arriving(track.id)
    return _known_tiles(name, level, tile, lambda: _tile_of(song, track, level, tile, changed))


_TILES: OrderedDict[tuple[str, int, int], bytes] = OrderedDict()
_MOST_TILES = 256


def _known_tiles(sound: str, level: int, tile: int, make: Callable[[], bytes]) -> bytes:
    """A tile by the name of the sound that it shows; those asked for last are kept."""
    key = (sound, level, tile)
    found = _TILES.get(key)
    if found is None:
        found = _TILES[key] = make()
        while len(_TILES) > _MOST_TILES:
            _TILES.popitem(last=False)
    else:
        with contextlib.suppress(KeyError):
            _TILES.move_to_end(key)
    return found


def _tile_of(song: SongState, track: StripState, level: int, tile: int, treated: bool) -> bytes:
    """Measured on the sound, not derived from the curve."""
    rate = song.sample_rate
    columns, _ = map_extent_of(song, track)
    hop, step = map_hop(rate), 2**level
    first = tile * MAP_TILE_COLUMNS * step
    count = min(MAP_TILE_COLUMNS * step, columns - first)
    sound = _treated(song, track) if treated else arriving(song, track)
    if count <= 0 or sound is None:
        return b""
    time_map = TimeMap(rate)
    kept_from = at = max(0, first * hop - time_map.reach)
    kept = np.zeros((0, track.channels))
    parts = []
    while count > 0:
        here = min(count, _PIECE_COLUMNS)
        need = min(track.frames, (first + here + 4) * hop + time_map.reach)
        if need > at:
            kept = np.concatenate([kept, sound[at:need]])
            at = need
        parts.append(time_map.columns(kept, first * hop - kept_from, here))
        first, count = first + here, count - here
        drop = max(0, first * hop - time_map.reach - kept_from)
        kept, kept_from = kept[drop:], kept_from + drop
    power = np.concatenate(parts)
    for _ in range(level):
        power = halve_columns(power)
    return map_bytes(power[:MAP_TILE_COLUMNS]).tobytes()
