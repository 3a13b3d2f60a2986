"""Many statistics of the same sound over frequency.

A resonance that stands still lifts all of them; notes, which come and go and move, lift only some.
The valley (per frame the least level within a sixteenth of an octave on each side, averaged over the
frames) hardly sees partials at all.
"""

from __future__ import annotations

import numpy as np

from mivlo.core.findings.frames import MARGIN, Part, finding_grid
from mivlo.core.findings.ranks import greatest_near, least_near, quantiles_of
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats

QUANTILES = (0.1, 0.3, 0.5, 0.7, 0.9, 0.98)
_NEAR, _WIDE = 3, 6
"""Points on each side: 1/16 and 1/8 octave."""
_NEAR_LONG = 2
"""The same for the long windows, which part what lies closer."""
GATE_DB = 45.0
"""Frames this far below the loud ones are rests and say nothing."""
LOUD_GATE_DB = 20.0
"""Of less, what others leave in a track's microphone hides little; of how it dies away less is heard."""

CONTOURS = (
    "mean_power", "mean", *(f"quantile_{q}" for q in QUANTILES), "valley", "valley_median", "valley_high",
    "valley_wide", "ridge", "spread", "lasting", "lasting_valley", "falling", "fall_rate", "rise_rate",
    "quiet_valley", "loud", "peak_share",
)  # fmt: skip
LONG_CONTOURS = ("long_mean_power", "long_median", "long_low", "long_valley", "long_peak_share")
ALL_CONTOURS = (*CONTOURS, *LONG_CONTOURS)


def contour_of(contours: Singles, name: str) -> Floats:
    """One of ALL_CONTOURS, (grid,)."""
    return np.asarray(contours[ALL_CONTOURS.index(name)], dtype=np.float64)


def sounding_frames(levels: Singles, gate_db: float = GATE_DB) -> np.ndarray:  # type: ignore[type-arg]
    """Indices of the frames that are not rests; all of them when hardly any would be left."""
    loudness = np.max(levels, axis=1)
    kept = np.flatnonzero(loudness > np.quantile(loudness, 0.95) - gate_db)
    return kept if len(kept) >= 4 else np.arange(len(levels))


def sounding_levels(levels: Singles, gate_db: float = GATE_DB) -> Singles:
    """The levels of the frames that are not rests, none further than 90 dB below where most is."""
    inside = levels[sounding_frames(levels, gate_db)]
    return np.asarray(np.maximum(inside, np.max(np.mean(inside, axis=0)) - 90.0))


def part_contours(levels: Singles, part: Part, gate_db: float = GATE_DB) -> Singles:
    """(len(CONTOURS), points of the part) in dB; rates in dB per frame, shares times 20."""
    inside = sounding_levels(levels, gate_db)
    valley, ridge = least_near(inside, _NEAR), greatest_near(inside, _NEAR)
    median, high = quantiles_of(valley, (0.5, 0.9))
    power = 10.0 ** (inside / 10.0)
    total = 10.0 * np.log10(np.sum(power, axis=1))
    lag = min(3, len(inside) - 1)  # 0.13 to 0.26 s
    lasting = np.minimum(inside[lag:], inside[: len(inside) - lag])
    change = inside[1:] - inside[:-1] if len(inside) > 1 else np.zeros_like(inside)
    trend = total[1:] - total[:-1] if len(inside) > 1 else np.zeros(1)
    falling = np.argsort(trend)[: max(1, len(trend) // 3)]
    rising = np.argsort(trend)[-max(1, len(trend) // 10) :]
    loud_first = np.argsort(total)[::-1]
    quiet, loud = loud_first[-max(1, len(total) // 3) :], loud_first[: max(1, len(total) // 5)]
    rows = [
        10.0 * np.log10(np.mean(power, axis=0)),
        np.mean(inside, axis=0),
        *quantiles_of(inside, QUANTILES),
        np.mean(valley, axis=0),
        median,
        high,
        np.mean(least_near(inside, _WIDE), axis=0),
        np.mean(ridge, axis=0),
        np.std(inside, axis=0),
        np.mean(lasting, axis=0),
        np.mean(least_near(lasting, _NEAR), axis=0),
        np.mean(inside[1:][falling] if len(inside) > 1 else inside, axis=0),
        quantiles_of(change[falling], (0.5,))[0],
        np.mean(change[rising], axis=0),
        np.mean(valley[quiet], axis=0),
        np.mean(inside[loud], axis=0),
        20.0 * np.mean(inside >= ridge - 1e-3, axis=0),
    ]
    return np.asarray(np.stack(rows)[:, part.own], dtype=np.float32)


def long_contours(levels: Singles, gate_db: float = GATE_DB) -> Singles:
    """(len(LONG_CONTOURS), grid) of the long windows."""
    inside = sounding_levels(levels, gate_db)
    low, median = quantiles_of(inside, (0.15, 0.5))
    ridge = greatest_near(inside, _NEAR_LONG)
    rows = [
        10.0 * np.log10(np.mean(10.0 ** (inside / 10.0), axis=0)),
        median,
        low,
        np.mean(least_near(inside, _NEAR_LONG), axis=0),
        20.0 * np.mean(inside >= ridge - 1e-3, axis=0),
    ]
    return np.asarray(np.stack(rows), dtype=np.float32)


def all_contours(levels: list[Singles], parts: tuple[Part, ...], gate_db: float = GATE_DB) -> Singles:
    """(contours, grid): what each part says of its range, and the long windows' view of all.

    gate_db : how far below the loud ones frames still count.
    """
    each = [part_contours(x, p, gate_db) for x, p in zip(levels[:-1], parts[:-1], strict=True)]
    short = np.concatenate(each, axis=1)
    assert short.shape[1] == len(finding_grid()), MARGIN
    return np.concatenate([short, long_contours(levels[-1], gate_db)])
