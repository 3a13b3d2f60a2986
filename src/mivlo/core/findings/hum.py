"""Mains hum."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from mivlo.core.findings.frames import View, finding_grid
from mivlo.core.spectra import nearest_point

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
