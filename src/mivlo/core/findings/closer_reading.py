"""Networks that read the closer look: 96 points an octave, through longer windows and through shorter ones.

They say what those of `network` say, of another view of the same sound, and err elsewhere: what both say in the mean is
nearer to the truth than what either says. The weights are made by `python -m bench.findings.train_closer`.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from scipy.ndimage import maximum_filter1d

from mivlo.core.findings.closer import (
    ALL_CONTOURS,
    LEVELS,
    ON_FINDING_GRID,
    POINTS_PER_OCTAVE,
    WINDOWS,
    closer_grid,
    over_surroundings,
    rows_of,
)
from mivlo.core.findings.network import HEADS, ROLES, Weights, role_and_place, run_network
from mivlo.core.roles import Role
from mivlo.core.spectra import Singles, smoothed
from mivlo.core.units import Floats

DILATIONS = (1, 2, 4, 8, 16, 24, 1, 2, 4)
_SHARES = tuple(i for i in range(len(ALL_CONTOURS)) if i not in LEVELS)
_WIDE = tuple(
    ALL_CONTOURS.index(f"{window}_{name}")
    for window in WINDOWS
    for name in ("mean_power", "quantile_0.5", "valley", "ridge", "lasting")
)
"""What is read over wider surroundings as well."""
_FAR = POINTS_PER_OCTAVE * 1.5
HARMONICS = (1.0 / 3.0, 0.5, 2.0 / 3.0, 1.5, 2.0, 3.0, 4.0)
"""Where else the notes stand of which a point may be a partial, as ratios of frequency."""
CHANNELS = len(ALL_CONTOURS) + len(_WIDE) + len(LEVELS) - 1 + len(_SHARES) + len(ROLES) + 1
_TOLD = len(ROLES) + 1
_AT_HARMONICS = (
    *(ALL_CONTOURS.index(name) for name in ("long_mean_power", "long_quantile_0.9", "long_valley")),
    len(ALL_CONTOURS) + len(_WIDE) + LEVELS[1:].index(ALL_CONTOURS.index("long_mean")),
    CHANNELS - _TOLD - len(_SHARES),
)
"""Rows of `closer_input` that are read at HARMONICS as well: peaks, what lies between them, how much comes and goes."""


def _over_wide(levels: Singles, over: Singles) -> Singles:
    """The near surroundings of levels over their wide ones, in 8 dB; `over` : the levels over the near ones."""
    return np.asarray((levels - smoothed(levels, _FAR)) / 8.0 - over)


def closer_input(contours: Singles, role: Role | None = None) -> Singles:
    """(CHANNELS, points of `closer_grid`): contours over their surroundings, those over theirs, role, place.

    As `network.network_input`: a track that is 10 dB louder is the same track.
    """
    x, wide, rows = np.asarray(contours, dtype=np.float32), list(_WIDE), rows_of(contours)
    over, apart = rows[: len(x)], rows[len(x) :]
    shares = x[list(_SHARES)] / 8.0 - 1.0
    told = role_and_place(role, closer_grid())
    return np.concatenate([over, _over_wide(x[wide], over[wide]), apart, shares, told]).astype(np.float32)


def closer_input_of_boost(boost_db: Floats) -> Singles:
    """What a boost (points of `closer_grid`,) that lies over the whole sound adds to `closer_input`."""
    one = np.asarray(boost_db, dtype=np.float32)
    over = over_surroundings(one)
    added = np.zeros((CHANNELS, len(one)), dtype=np.float32)
    added[list(LEVELS)] = over
    added[len(ALL_CONTOURS) : len(ALL_CONTOURS) + len(_WIDE)] = _over_wide(one, over)
    return added


def _put_ahead(x: Singles, by: int, out: Singles) -> None:
    """Put into zeros (rows, n), at each point, what x (rows, n) has so many points above, where it reaches that far."""
    n = x.shape[1]
    out[:, max(0, -by) : n - max(0, by)] = x[:, max(0, by) : n + min(0, by)]


def with_harmonics(inputs: Singles) -> Singles:
    """(CHANNELS + len(HARMONICS) times some, grid): inputs (CHANNELS, grid) and, at each point, some at its harmonics.

    What is a partial of a note has others above and below it; what resonates mostly stands alone.
    """
    rows = inputs[list(_AT_HARMONICS)]
    beside = np.zeros((len(HARMONICS), *rows.shape), dtype=inputs.dtype)
    for ratio, there in zip(HARMONICS, beside, strict=True):
        _put_ahead(rows, round(POINTS_PER_OCTAVE * math.log2(ratio)), there)
    return np.concatenate([inputs[:-_TOLD], *beside, inputs[-_TOLD:]])


def on_finding_grid(raw: Singles) -> Singles:
    """Raw outputs (heads, points of `closer_grid`) at the points of `finding_grid`.

    A centre is where one stands within a point beside: none falls between.
    """
    out = raw[:, ON_FINDING_GRID].copy()
    centres = [HEADS.index("centre"), HEADS.index("hump_centre")]
    out[centres] = maximum_filter1d(raw[centres], 3, axis=1, mode="nearest")[:, ON_FINDING_GRID]
    return out


def read_closer(contours: Singles, networks: Sequence[Weights], *, role: Role | None = None) -> list[Singles]:
    """Raw outputs (heads, points of `finding_grid`) of each network for `closer.closer_contours`."""
    inputs = closer_input(contours, role)
    more = with_harmonics(inputs)
    each = (inputs if weights["first.weight"].shape[1] == CHANNELS else more for weights in networks)
    return [on_finding_grid(run_network(w, x, DILATIONS)) for w, x in zip(networks, each, strict=True)]
