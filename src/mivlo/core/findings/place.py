"""Where a resonance of known shape stands in another take: a small network that reads a closer look.

A move that is taken to another take knows how wide its resonance is and how much it lifted; and, where the first take
is there, how the instrument sounds without it. Told that, the network says for every place within a third octave how
likely the resonance stands there. It is a stack of dilated convolutions as in `network`. The weights are made by
`python -m bench.findings.places` from the sources named in `bench/findings/sources.py`.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from importlib.resources import files
from typing import IO

import numpy as np
from scipy.ndimage import gaussian_filter1d

from mivlo.core.findings.closer import (
    ALL_CONTOURS,
    LEVELS,
    POINTS_PER_OCTAVE,
    WINDOWS,
    closer_grid,
    over_surroundings,
)
from mivlo.core.findings.network import Weights, run_network, weights_in
from mivlo.core.spectra import Singles, nearest_point
from mivlo.core.units import Floats

REACH = 33
"""Points on either side of the old place at which it may stand now: a third octave."""
HALF = 80
"""Points on either side that are read."""
DILATIONS = (1, 2, 4, 8, 4, 2, 1)
FIRST_TAKE = tuple(
    ALL_CONTOURS.index(f"{window}_{name}")
    for window in WINDOWS
    for name in ("mean_power", "quantile_0.5", "valley", "valley_wide")
)
"""What is read of the first take."""
CHANNELS = len(ALL_CONTOURS) + len(LEVELS) - 1 + len(FIRST_TAKE) + 4
_STEPS = 1200.0 / POINTS_PER_OCTAVE
"""Places looked at per point: a cent each."""
_WITHIN = 8.0
"""Cents over which likelihood is gathered: the place near which most of it lies, not its highest point."""
_NEAR_CENTS = 25.0


@dataclass(frozen=True, slots=True)
class Place:
    """Where it most likely stands. certainty : how likely that is within 25 cents, 0 to 1."""

    frequency_hz: float
    certainty: float


def around(rows: Singles, point: int) -> Singles:
    """(rows, 2 HALF + 1) about a point of the grid; its ends are held."""
    return np.asarray(rows[:, np.clip(np.arange(point - HALF, point + HALF + 1), 0, rows.shape[1] - 1)])


def place_input(there: Singles, first: Singles | None, *, octaves: float, gain_db: float, hz: float) -> Singles:
    """(CHANNELS, 2 HALF + 1).

    Parameters
    ----------
    there : `around` of the take in which it is looked for. first : of the first take without the resonance, where it
        is there, its rows FIRST_TAKE. octaves, gain_db, hz : of the resonance in the first take.
    """
    known = np.zeros((len(FIRST_TAKE), 2 * HALF + 1), dtype=np.float32) if first is None else first
    told = (float(first is not None), np.log2(octaves / 0.1), (gain_db - 13.0) / 5.0, np.log2(hz / 800.0) / 3.0)
    constant = np.repeat(np.array(told, dtype=np.float32)[:, None], 2 * HALF + 1, axis=1)
    return np.concatenate([there, known, constant]).astype(np.float32)


@lru_cache(maxsize=1)
def shipped() -> tuple[Weights, ...]:
    """The networks of this package, read once."""
    with files("mivlo.core.findings").joinpath("place.npz").open("rb") as file:
        return read(file)


def read(file: IO[bytes]) -> tuple[Weights, ...]:
    """Networks from a file as `bench.findings.places` writes it."""
    with np.load(file) as found:
        return weights_in(found)


def likelihood(inputs: Singles, networks: tuple[Weights, ...]) -> Floats:
    """(2 REACH + 1,) how likely it stands at each point, summing to 1: the mean of what the networks say."""
    every = []
    for weights in networks:
        odds = run_network(weights, inputs, DILATIONS)[0, HALF - REACH : HALF + REACH + 1].astype(np.float64)
        odds = np.exp(odds - np.max(odds))
        every.append(odds / np.sum(odds))
    return np.asarray(np.mean(every, axis=0))


def likeliest(share: Floats) -> tuple[float, float]:
    """Points from the middle at which most of a likelihood (2 REACH + 1,) gathers, and how much within 25 cents."""
    points = np.arange(-REACH, REACH + 1)
    at = np.arange(-REACH * _STEPS, REACH * _STEPS + 1) / _STEPS
    each = np.interp(at, points, share)
    best = float(at[int(np.argmax(gaussian_filter1d(each, _WITHIN)))])
    near = np.abs(at - best) <= _NEAR_CENTS / _STEPS
    return best, float(np.sum(each[near]) / np.sum(each))


def find_place(
    rows: Singles,
    *,
    octaves: float,
    gain_db: float,
    hz: float,
    first_db: Singles | None = None,
    near_cents: float | None = None,
) -> Place:
    """Where a resonance of known width (octaves) and gain that stood at `hz` stands in another take.

    Parameters
    ----------
    rows : `closer.rows_of` the other take; first_db : `closer_contours` of the first one, with the resonance taken out.
    near_cents : how far it is from `hz` as a rule (standard deviation), where that is known: where it was seen in this
        very take, only less closely.

    Source: the networks' own training, see `bench/findings/places.py`; how near they come: `python -m bench twins`.
    """
    grid = closer_grid()
    point = nearest_point(grid, hz)
    there = around(rows, point)
    told: list[Singles | None] = [None]
    if first_db is not None:  # what is said with it and what is said without it err apart
        told.append(around(over_surroundings(first_db[list(FIRST_TAKE)]), point))
    said = [place_input(there, first, octaves=octaves, gain_db=gain_db, hz=hz) for first in told]
    share = np.mean([likelihood(inputs, shipped()) for inputs in said], axis=0)
    if near_cents is not None:
        cents = _STEPS * np.arange(-REACH, REACH + 1) + 1200.0 * np.log2(grid[point] / hz)
        share = share * np.exp(-0.5 * np.square(cents / near_cents))
    best, certainty = likeliest(share)
    return Place(float(grid[point] * 2.0 ** (best / POINTS_PER_OCTAVE)), certainty)
