"""A closer look: the contours of a sound at 1/96 octave, through longer and through shorter windows than findings use.

Where exactly a resonance stands is told by how it tilts the few partials and the little noise that fall into it: that
needs each of them at its own place. Longer windows part lines from each other, shorter ones part moments.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from mivlo.core.findings.contours import GATE_DB, sounding_levels
from mivlo.core.findings.frames import HIGHEST_HZ, LOWEST_HZ, Layout, Moments, Part, frame_levels, parts_of
from mivlo.core.findings.ranks import greatest_near, least_near, quantiles_of
from mivlo.core.spectra import Singles, log_grid, smoothed
from mivlo.core.units import Floats

POINTS_PER_OCTAVE = 96
LONGEST_S = 80.0
"""So much of a sound is looked at, in stretches that are spread evenly."""
_PIECES = 8
_LONG: Layout = ((32_768, 8_192, 0.0, 600.0), (16_384, 4_096, 600.0, 2_000.0), (8_192, 4_096, 2_000.0, 1e9))
_SHORT: Layout = (
    (16_384, 4_096, 0.0, 300.0),
    (8_192, 2_048, 300.0, 1_000.0),
    (4_096, 1_024, 1_000.0, 3_000.0),
    (2_048, 1_024, 3_000.0, 1e9),
)
_MARGIN = 16
_NEAR, _WIDE = 4, 8
"""Points on each side: 1/24 and 1/12 octave."""
_LAG = 2

WINDOWS = ("long", "short")
CONTOURS = (
    "mean_power", "mean", "quantile_0.1", "quantile_0.5", "quantile_0.9", "valley", "valley_wide", "ridge", "lasting",
    "quiet", "loud", "falling", "peak_share",
)  # fmt: skip
_QUANTILES = (0.1, 0.5, 0.9)
ALL_CONTOURS = tuple(f"{window}_{name}" for window in WINDOWS for name in CONTOURS)
LEVELS = tuple(i for i, name in enumerate(ALL_CONTOURS) if not name.endswith("peak_share"))
"""Of ALL_CONTOURS, what a boost lifts."""
_NEARBY = POINTS_PER_OCTAVE / 4
ON_FINDING_GRID = slice(1, None, 2)
"""Which points of `closer_grid` are those of `finding_grid`."""


def closer_grid() -> Floats:
    """(m,) frequencies in Hz of a closer look; the same at any sample rate."""
    return log_grid(POINTS_PER_OCTAVE, LOWEST_HZ, HIGHEST_HZ)


def _contours(levels: Singles, part: Part, gate_db: float) -> Singles:
    """(len(CONTOURS), points of the part) in dB; shares times 20."""
    inside = sounding_levels(levels, gate_db)
    valley, ridge = least_near(inside, _NEAR), greatest_near(inside, _NEAR)
    power = 10.0 ** (inside / 10.0)
    total = 10.0 * np.log10(np.sum(power, axis=1))
    lag = min(_LAG, len(inside) - 1)
    lasting = np.minimum(inside[lag:], inside[: len(inside) - lag])
    loud_first = np.argsort(total)[::-1]
    falling = np.argsort(np.diff(total))[: max(1, (len(total) - 1) // 3)]
    rows = [
        10.0 * np.log10(np.mean(power, axis=0)),
        np.mean(inside, axis=0),
        *quantiles_of(inside, _QUANTILES),
        np.mean(valley, axis=0),
        np.mean(least_near(inside, _WIDE), axis=0),
        np.mean(ridge, axis=0),
        np.mean(lasting, axis=0),
        np.mean(inside[loud_first[-max(1, len(total) // 3) :]], axis=0),
        np.mean(inside[loud_first[: max(1, len(total) // 5)]], axis=0),
        np.mean(inside[1:][falling] if len(inside) > 1 else inside, axis=0),
        20.0 * np.mean(inside >= ridge - 1e-3, axis=0),
    ]
    return np.asarray(np.stack(rows)[:, part.own], dtype=np.float32)


def stretches_of(count: int, *, sample_rate: float) -> list[slice]:
    """What is looked at of a sound of so many samples: all of it, or LONGEST_S in pieces that are spread evenly."""
    most = round(LONGEST_S * sample_rate)
    if count <= most:
        return [slice(0, count)]
    piece = most // _PIECES
    return [slice(first, first + piece) for first in np.linspace(0, count - piece, _PIECES).astype(int).tolist()]


@dataclass(frozen=True, slots=True)
class Seen:
    """What a part of a window saw: levels (frames, points), and where in the sound the frames lie, (frames,) in s."""

    part: Part
    levels: Singles
    times_s: Floats

    def at(self, which: Moments, sample_rate: float) -> Seen:
        """Some of its frames."""
        some = which(self.times_s, len(self.part.window) / sample_rate)
        return Seen(self.part, self.levels[some], self.times_s[some])


@dataclass(frozen=True, slots=True)
class CloserView:
    """A sound as a closer look sees it: through each of WINDOWS, part by part."""

    windows: tuple[tuple[Seen, ...], ...]
    sample_rate: float

    def contours(self, gate_db: float = GATE_DB) -> Singles:
        """(len(ALL_CONTOURS), points of `closer_grid`) in dB where 0 is a sine of full scale.

        gate_db : how far below the loud ones frames still count.
        """
        each = [[_contours(seen.levels, seen.part, gate_db) for seen in parts] for parts in self.windows]
        return np.concatenate([np.concatenate(rows, axis=1) for rows in each])

    @property
    def fewest(self) -> int:
        """Frames of the part that has the fewest."""
        return min(len(seen.levels) for parts in self.windows for seen in parts)

    def at(self, which: Moments) -> CloserView:
        """Some of its frames."""
        return replace(
            self, windows=tuple(tuple(s.at(which, self.sample_rate) for s in parts) for parts in self.windows)
        )


def look_closer(mono: Singles, *, sample_rate: float) -> CloserView:
    """A closer look at a sound (n,)."""
    stretches = stretches_of(len(mono), sample_rate=sample_rate)

    def seen(part: Part) -> Seen:
        times = [
            (s.start + np.arange(part.count(s.stop - s.start)) * part.hop + len(part.window) / 2.0) / sample_rate
            for s in stretches
        ]
        return Seen(part, frame_levels([mono[s, None] for s in stretches], part), np.concatenate(times))

    return CloserView(tuple(tuple(map(seen, parts)) for parts in _parts(sample_rate)), sample_rate)


@lru_cache(maxsize=4)
def _parts(sample_rate: float) -> tuple[tuple[Part, ...], ...]:
    """Of each of WINDOWS."""
    grid, dense = closer_grid(), POINTS_PER_OCTAVE
    return tuple(
        parts_of(grid, layout, sample_rate=sample_rate, points_per_octave=dense, margin=_MARGIN)
        for layout in (_LONG, _SHORT)
    )


def closer_contours(mono: Singles, *, sample_rate: float) -> Singles:
    """(len(ALL_CONTOURS), points of `closer_grid`) of all of a sound (n,) that is no rest."""
    return look_closer(mono, sample_rate=sample_rate).contours()


def over_surroundings(levels_db: npt.ArrayLike) -> Singles:
    """Levels (..., grid) over their surroundings of a quarter octave, in 8 dB."""
    x = np.asarray(levels_db, dtype=np.float32)
    return np.asarray((x - smoothed(x, _NEARBY)) / 8.0)


def rows_of(contours: Singles) -> Singles:
    """(rows, grid): contours over their surroundings, and how far each level lies from the mean power."""
    levels = np.asarray(LEVELS[1:])
    return np.concatenate([over_surroundings(contours), (contours[levels] - contours[0]) / 20.0])
