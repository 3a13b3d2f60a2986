"""What lies below the music: mains hum and rumble."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from mivlo.core.findings.frames import POINTS_PER_OCTAVE, View, finding_grid
from mivlo.core.spectra import log_grid, nearest_point
from mivlo.core.units import Floats

MAINS_HZ = (50.0, 60.0)
_HUM_OVER_DB = 10.0
_HUM_STEADY_DB = 7.0
_HUM_HARMONICS = 8


@dataclass(frozen=True, slots=True)
class Hum:
    """Mains and its multiples: their frequencies with how far each stands over its surroundings in dB."""

    mains_hz: float
    lines: tuple[tuple[float, float], ...]

    @property
    def confidence(self) -> float:
        """Nothing but mains stands so still at its multiples: 98 % were real (`bench/findings/rules.py`)."""
        return 0.9 if len(self.lines) < 3 else 0.95


def find_hum(view: View) -> Hum | None:
    """Lines at multiples of 50 or 60 Hz that never stop.

    A line counts when even the quietest tenth of all frames (rests too) has it well over its surroundings
    and its level hardly varies: notes stop, mains does not.
    """
    levels, grid = view.levels[-1], finding_grid()
    if len(levels) < 8:
        return None
    low, high = np.quantile(levels, (0.1, 0.9), axis=0)
    best: Hum | None = None
    for mains in MAINS_HZ:
        lines = []
        for k in range(1, _HUM_HARMONICS + 1):
            at = nearest_point(grid, k * mains)
            near = slice(max(0, at - 1), at + 2)
            i = near.start + int(np.argmax(low[near]))
            beside = np.r_[low[max(0, at - 14) : max(0, at - 5)], low[at + 6 : at + 15]]
            over = float(low[i] - np.median(beside))
            is_peak = i == max(0, at - 2) + int(np.argmax(low[max(0, at - 2) : at + 3]))
            if over >= _HUM_OVER_DB and high[i] - low[i] <= _HUM_STEADY_DB and low[i] > -100.0 and is_peak:
                lines.append((k * mains, over))
        enough = len(lines) >= 2 or (lines and lines[0][0] <= 2 * mains and lines[0][1] >= 18.0)
        if enough and (best is None or len(lines) > len(best.lines)):
            best = Hum(mains, tuple(lines))
    return best


@dataclass(frozen=True, slots=True)
class Rumble:
    """Low end below what is played.

    frequency_hz : where it is strongest; over_db : over the valley between it and the music.
    cut_hz : where a low cut parts them; plays_from_hz : the lowest that is played.
    follows : -1 to 1, correlation of its level with the track's over time: rumble goes its own way, the thump of a
    stroke comes with the stroke.
    """

    frequency_hz: float
    over_db: float
    cut_hz: float
    plays_from_hz: float
    follows: float

    @property
    def confidence(self) -> float:
        """Fitted to clips with and without rumble (`bench/findings/rules.py`): the less it follows, the likelier.

        How far it stands out says nothing: a kick drum does so most of all.
        """
        gap_oct = np.log2(self.plays_from_hz / self.frequency_hz)
        odds = -0.3 - 2.33 * self.follows + 0.62 * gap_oct
        return float(np.clip(1.0 / (1.0 + np.exp(-odds)), 0.02, 0.9))


_LOWEST_RUMBLE_HZ, _RUMBLE_BELOW_HZ = 25.0, 62.0
_HIGHEST_CUT_HZ = 80.0
_LEAST_LOW = POINTS_PER_OCTAVE // 4


def find_rumble(view: View) -> Rumble | None:
    """A hump of the long-term spectrum below 60 Hz, parted by a valley from what is played.

    Levels in 1/3-octave bands. Played is what comes within 24 dB of the strongest band above 60 Hz.
    """
    grid = log_grid(POINTS_PER_OCTAVE // 2, 20.0, min(2_000.0, 0.4 * view.sample_rate))
    level = view.long_term.levels(grid, bands_per_octave=3)
    top = float(np.max(level))
    played = np.flatnonzero((level > top - 24.0) & (grid > 35.0))
    if not len(played):
        return None
    plays_from = _first_of_music(level, grid, played)
    below = np.flatnonzero(grid < min(_RUMBLE_BELOW_HZ, 0.75 * plays_from))
    if len(below) < 4:
        return None
    peak = int(below[np.argmax(level[below])])
    between = level[peak : int(np.argmin(np.abs(grid - plays_from))) + 1]
    valley = peak + int(np.argmin(between))
    over = float(level[peak] - level[valley])
    if over < 3.0 or grid[peak] < _LOWEST_RUMBLE_HZ or level[peak] < max(-75.0, top - 45.0) or valley == peak:
        return None
    cut = float(min(1.6 * grid[peak], 0.75 * plays_from, _HIGHEST_CUT_HZ))
    return Rumble(float(grid[peak]), over, cut, float(plays_from), _follows(view, float(grid[peak]), cut))


def _follows(view: View, frequency_hz: float, cut_hz: float) -> float:
    grid, levels = finding_grid(), view.levels[-1]
    low = grid <= max(cut_hz, frequency_hz * 2.0**0.25, grid[_LEAST_LOW])
    loud = view.track_db > np.max(view.track_db) - 60.0
    band = 10.0 * np.log10(np.mean(10.0 ** (levels[loud][:, low] / 10.0), axis=1))
    track = 10.0 * np.log10(np.mean(10.0 ** (levels[loud][:, ~low] / 10.0), axis=1))
    if len(band) < 8 or np.std(band) < 0.3 or np.std(track) < 0.3:
        return 0.0
    return float(np.corrcoef(band, track)[0, 1])


def _first_of_music(level: Floats, grid: Floats, played: np.ndarray) -> float:  # type: ignore[type-arg]
    """The lowest played frequency: strong, and not a hump of its own below a deep valley."""
    first = int(played[0])
    strongest = int(np.argmax(level))
    if first >= strongest:
        return float(grid[strongest])
    valley = first + int(np.argmin(level[first : strongest + 1]))
    top_below = float(np.max(level[first : valley + 1]))
    if grid[valley] < 1.6 * _RUMBLE_BELOW_HZ and top_below - level[valley] > 9.0 and level[strongest] > top_below + 6.0:
        later = played[played > valley]
        return float(grid[int(later[0])]) if len(later) else float(grid[strongest])
    return float(grid[first])
