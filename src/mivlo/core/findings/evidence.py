"""What can be said of one spot in numbers that a person can check: when, how long, how loud, with which note."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from mivlo.core.findings.contours import sounding_frames
from mivlo.core.findings.frames import POINTS_PER_OCTAVE, Part, View, finding_grid
from mivlo.core.spectra import Singles, nearest_point
from mivlo.core.units import Floats, hz_to_note

STANDS_OUT_DB = 3.0


@dataclass(frozen=True, slots=True)
class Evidence:
    """What the page draws for one finding.

    grid_hz, level_db, expected_db : the long-term level around the spot and what its surroundings suggest.
    times_s, excess_db : how far the spot stood out over time (at most 240 points).
    track_db, spot_db : level of the track and of the spot in the same frames, for the slope.
    decay_ms, decay_db : the typical decay after the sound has stopped; empty when none was seen.
    own_ring_ms : how long a filter of the spot's width rings by itself, to compare with.
    """

    grid_hz: tuple[float, ...] = ()
    level_db: tuple[float, ...] = ()
    expected_db: tuple[float, ...] = ()
    times_s: tuple[float, ...] = ()
    excess_db: tuple[float, ...] = ()
    track_db: tuple[float, ...] = ()
    spot_db: tuple[float, ...] = ()
    decay_ms: tuple[float, ...] = ()
    decay_db: tuple[float, ...] = ()
    own_ring_ms: float = 0.0


@dataclass(frozen=True, slots=True)
class SpotTrace:
    """Level of a spot and of its surroundings in every sounding frame."""

    times_s: Floats
    spot_db: Floats
    around_db: Floats
    track_db: Floats

    @property
    def excess_db(self) -> Floats:
        return np.asarray(self.spot_db - self.around_db)

    @property
    def share_of_time(self) -> float:
        """Share of the sounding frames in which the spot stands out by 3 dB or more."""
        return float(np.mean(self.excess_db >= STANDS_OUT_DB))

    def slope(self) -> tuple[float, float]:
        """dB of excess per dB of the track's level, and the correlation; 0, 0 when the level hardly varies."""
        loud = self.track_db > np.max(self.track_db) - 35.0
        x, y = self.track_db[loud], self.excess_db[loud]
        if len(x) < 8 or np.std(x) < 1.0 or np.std(y) < 0.1:
            return 0.0, 0.0
        return float(np.polyfit(x, y, 1)[0]), float(np.corrcoef(x, y)[0, 1])


def part_of(frequency_hz: float, parts: tuple[Part, ...]) -> int:
    """Which of the short parts covers a frequency."""
    at = nearest_point(finding_grid(), frequency_hz)
    return next(i for i, p in enumerate(parts) if p.start <= at < p.stop)


def trace(view: View, frequency_hz: float, octaves: float, *, broad: bool = False) -> SpotTrace:
    """How a spot stands over its surroundings, frame by frame.

    The surroundings are what lies between one and three half-widths away (at least 1/6 octave) on both
    sides, as the mean of its power. For what is broad they are the envelope there: the mean power of either
    side, two to three half-widths away, and between them a straight line in dB over octaves, so that an instrument
    that falls off to one side does not hide it.
    """
    index = part_of(frequency_hz, view.parts)
    if broad:  # both sides have to be seen by one window
        index = len(view.parts) - 1
    part, level = view.parts[index], view.levels[index]
    at = np.log2(finding_grid()[part.reach] / frequency_hz)
    half = max(octaves / 2.0, 1.0 / POINTS_PER_OCTAVE)
    inside = np.abs(at) <= (half / 2.0 if broad else half)
    if not inside.any():
        inside[np.argmin(np.abs(at))] = True
    frames = sounding_frames(level)
    power = 10.0 ** (level[frames] / 10.0)
    spot = 10.0 * np.log10(np.mean(power[:, inside], axis=1))
    around = _envelope(power, at, half) if broad else _beside(power, at, half)
    if around is None:
        around = spot
    times = view.times_s[index][frames]
    return SpotTrace(times, _as_floats(spot), _as_floats(around), np.interp(times, view.times_s[-1], view.track_db))


def lies_beside(away_oct: Floats, half_oct: float) -> npt.NDArray[np.bool_]:
    """Which points, so many octaves away, are the surroundings of a spot that is half so wide."""
    return np.asarray((away_oct > half_oct) & (away_oct <= max(3.0 * half_oct, half_oct + 1.0 / 6.0)))


def _beside(power: Singles, at: Floats, half: float) -> Singles | None:
    beside = lies_beside(np.abs(at), half)
    return np.asarray(10.0 * np.log10(np.mean(power[:, beside], axis=1))) if beside.any() else None


def _envelope(power: Singles, at: Floats, half: float) -> Singles | None:
    """Level at the middle of the line between both sides; one side alone where the other is not on the grid."""
    away = np.abs(at)
    sides = [(away > 2.0 * half) & (away <= 3.0 * half) & (at * sign > 0.0) for sign in (-1.0, 1.0)]
    levels = [10.0 * np.log10(np.mean(power[:, side], axis=1)) for side in sides if side.any()]
    return np.asarray(np.mean(levels, axis=0)) if levels else None


def _as_floats(x: Singles) -> Floats:
    return np.asarray(x, dtype=np.float64)


def harmonic_of(levels: Singles, frequency_hz: float) -> str:
    """The nearest harmonic explanation: a lower partial that comes and goes together with the spot, or nothing.

    levels : those of the long windows, (frames, grid).
    """
    grid = finding_grid()
    some = levels[sounding_frames(levels)]
    if len(some) < 8:
        return ""

    def row(f: float) -> Floats:
        i = nearest_point(grid, f)
        return np.asarray(np.max(some[:, max(0, i - 1) : i + 2], axis=1))

    spot, best, told = row(frequency_hz), 0.85, ""
    for k in range(2, 11):
        f = frequency_hz / k
        if f < grid[0]:
            break
        lower = row(f)
        i = nearest_point(grid, f)
        beside = np.median(some[:, max(0, i - 12) : i + 13], axis=1)
        prominent = float(np.mean(lower - beside))
        if np.std(spot) < 1.0 or np.std(lower) < 1.0 or prominent < 6.0:
            continue
        together = float(np.corrcoef(spot, lower)[0, 1])
        if together > best:
            best, told = together, f"harmonic {k} of {_note(f)} ({f:.0f} Hz)"
    return told


STEADY_DB, PROMINENT_DB = 2.5, 10.0


def is_steady_note(levels: Singles, frequency_hz: float) -> bool:
    """Whether a spot is a partial of a note that never stops and never changes: a drone, not a resonance.

    Two more partials of one series have to stand as steadily as the spot: octave, twelfth or double octave above,
    or the octave below with one of them. What merely resonates follows the sound that excites it.

    levels : those of the long windows, (frames, grid).
    """
    grid = finding_grid()
    some = levels[sounding_frames(levels)]

    def steady(f: float) -> bool:
        if not grid[0] <= f <= grid[-1]:
            return False
        i = nearest_point(grid, f)
        line = np.max(some[:, max(0, i - 1) : i + 2], axis=1)
        around = np.median(some[:, max(0, i - 14) : i + 15], axis=1)
        return bool(np.std(line) < STEADY_DB and np.mean(line - around) > PROMINENT_DB)

    return steady(frequency_hz) and sum(steady(k * frequency_hz) for k in (0.5, 2.0, 3.0, 4.0)) >= 2


def _note(f: float) -> str:
    note = hz_to_note(f)
    return f"{note.name}{note.octave}"
