"""What grows faster than the track: harsh on loud notes only."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import gaussian_filter1d, uniform_filter1d

from mivlo.core.findings.contours import sounding_frames
from mivlo.core.findings.frames import POINTS_PER_OCTAVE, View, finding_grid
from mivlo.core.findings.peaks import find_peaks

LEAST_DB = 4.0
_BAND = POINTS_PER_OCTAVE // 2
_LOW_HZ, _HIGH_HZ = 1_200.0, 9_000.0


@dataclass(frozen=True, slots=True)
class LoudTrouble:
    """A range that stands out on loud notes: how much more than on the softer ones, and from which level on.

    level_db : of half an octave there, in dBFS (a sine of full scale is 0). share : of the time above that level.
    """

    frequency_hz: float
    octaves: float
    more_db: float
    slope: float
    level_db: float
    share: float


def find_loud_trouble(view: View) -> LoudTrouble | None:
    """The range whose share of the track's level is larger in its loudest fifth than in its middle, and than around.

    All instruments brighten when they are played louder; that is smooth over octaves and is taken out, what
    is left over it as a hump is the trouble.
    """
    levels = view.levels[-1]
    sounding = sounding_frames(levels)
    some, total = levels[sounding], view.track_db[sounding]
    kept = total > np.max(total) - 30.0
    some, total = some[kept], total[kept]
    if len(some) < 24 or np.std(total) < 2.0:
        return None
    band = 10.0 * np.log10(uniform_filter1d(10.0 ** (some.astype(np.float64) / 10.0), _BAND, axis=1) + 1e-15)
    share = band - total[:, None]
    loud = total >= np.quantile(total, 0.8)
    softer = (total < np.quantile(total, 0.6)) & (total >= np.quantile(total, 0.1))
    if np.mean(total[loud]) - np.mean(total[softer]) < 4.0:
        return None
    # most of the loud frames have to show it, over most of the softer ones
    more = np.quantile(share[loud], 0.35, axis=0) - np.quantile(share[softer], 0.65, axis=0)
    hump = more - gaussian_filter1d(more, 1.3 * POINTS_PER_OCTAVE, mode="nearest")
    grid = finding_grid()
    out = []
    for i in find_peaks(hump, height=LEAST_DB * 0.7, distance=POINTS_PER_OCTAVE // 2):
        if not _LOW_HZ <= grid[i] <= min(_HIGH_HZ, 0.42 * view.sample_rate):
            continue
        half = hump > hump[i] / 2.0
        low = i - int(np.argmin(half[i::-1])) if not half[: i + 1].all() else 0
        high = i + int(np.argmin(half[i:])) if not half[i:].all() else len(grid) - 1
        slope = float(np.polyfit(total, band[:, i], 1)[0])
        if slope < 1.6:
            continue
        octaves = float(np.clip((high - low) / POINTS_PER_OCTAVE, 0.4, 1.5))
        centre = float(2.0 ** np.average(np.log2(grid[low : high + 1]), weights=np.maximum(hump[low : high + 1], 0.0)))
        # between what the softer ones reach and what is usual on the loud ones: those in between shall stay
        softest, usual = np.quantile(band[softer, i], 0.9), np.median(band[loud, i])
        threshold = float(max(softest, 0.5 * (softest + usual)))
        bins = grid[i] * (2.0**0.25 - 2.0**-0.25) * len(view.parts[-1].window) / view.sample_rate
        level_db = threshold + 10.0 * float(np.log10(max(bins, 1.0)))
        above = float(np.mean(band[:, i] > threshold))
        out.append(LoudTrouble(centre, octaves, float(hump[i]) / 0.7, slope - 1.0, level_db, above))
    return max(out, key=lambda x: x.more_db, default=None)
