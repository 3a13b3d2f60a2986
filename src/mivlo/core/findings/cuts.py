"""From a reading to spots, and from spots to the smallest cuts.

Centre points that the network is fairly sure of become bells; then all of them are fitted together to
the boost that it expects over frequency, because neighbours overlap. Depth shrinks with doubt.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.optimize import least_squares

from mivlo.core.findings.frames import finding_grid
from mivlo.core.findings.network import Reading
from mivlo.core.findings.peaks import find_peaks
from mivlo.core.moves import HIGHEST_Q, LOWEST_Q, Shape, StaticMove
from mivlo.core.spectra import nearest_point
from mivlo.core.units import Floats, octaves_to_q

DEEPEST_NARROW_DB, DEEPEST_BROAD_DB = 15.0, 6.0
_DOUBT_IN_FIT = 0.25
"""Power of the score by which a spot counts less."""
_WITHIN_DB = 3.0
"""How far the sum may be off the expected boost for as much as a spot is off its own first values."""
_STEP = 1.5e-8
"""By which each value is moved to see what that does: the root of what a double tells apart."""
LEAST_CENTRE, LEAST_HUMP_CENTRE = 0.12, 0.11


@dataclass(frozen=True, slots=True)
class Spot:
    """A boost that seems to be there.

    score : the network's 0 to 1, not calibrated.
    """

    frequency_hz: float
    octaves: float
    gain_db: float
    score: float
    broad: bool


def bell_db(at_oct: Floats, centre_oct: float, octaves: float, gain_db: float) -> Floats:
    """The analogue bell of the Audio EQ Cookbook in dB; frequencies as octaves over 1 Hz."""
    a = 10.0 ** (gain_db / 40.0)
    w = 2.0 ** (at_oct - centre_oct)
    q = octaves_to_q(octaves)
    away = (1.0 - w * w) ** 2
    band = (w / q) ** 2
    return np.asarray(10.0 * np.log10((away + band * a * a) / (away + band / (a * a))))


def spots_of(reading: Reading) -> list[Spot]:
    """Centre points of the reading, most certain first."""
    grid = finding_grid()
    out = []
    for i in find_peaks(np.pad(reading.centre, 1), height=LEAST_CENTRE, distance=3) - 1:
        f = float(grid[i] * 2.0 ** reading.offset_oct[i])
        score = float(reading.centre[i])
        out.append(Spot(f, float(reading.octaves[i]), float(reading.gain_db[i]), score, False))
    for i in find_peaks(np.pad(reading.hump_centre, 1), height=LEAST_HUMP_CENTRE, distance=24) - 1:
        f = float(grid[i] * 2.0 ** reading.hump_offset_oct[i])
        score = float(reading.hump_centre[i])
        out.append(Spot(f, float(reading.hump_octaves[i]), float(reading.hump_gain_db[i]), score, True))
    return sorted(out, key=lambda s: -s.score)


def fit_together(spots: Sequence[Spot], wanted_db: Floats) -> list[Spot]:
    """Centre, width and depth of all spots at once, so that their sum follows an expected boost (grid,) in dB."""
    if not spots:
        return []
    at = np.log2(finding_grid())
    first = np.array([[np.log2(s.frequency_hz), np.log2(s.octaves), s.gain_db] for s in spots])
    # how far each may go: a narrow spot's centre is known to a part of its width
    give = np.array([[0.1 * s.octaves, 0.35, 3.0] for s in spots])
    weights = [s.score**_DOUBT_IN_FIT for s in spots]

    def bells(steps: Floats) -> Floats:
        """(spots, grid), each as far as it counts."""
        values = zip(weights, first + steps * give, strict=True)
        return np.stack([w * bell_db(at, c, 2.0 ** np.clip(width, -5.0, 1.2), g) for w, (c, width, g) in values])

    def off(steps: Floats) -> Floats:
        total = np.sum(bells(steps.reshape(-1, 3)), axis=0)
        return np.concatenate([(total - wanted_db) / _WITHIN_DB, steps])

    def slopes(steps: Floats) -> Floats:
        # each spot moves its own bell only: all spots are moved at a time
        now = steps.reshape(-1, 3)
        before, out = bells(now), np.zeros((len(at) + steps.size, steps.size))
        for i in range(3):
            moved = now + _STEP * (np.arange(3) == i)
            out[: len(at), i::3] = (bells(moved) - before).T / (_STEP * _WITHIN_DB)
        out[len(at) :] = np.eye(steps.size)
        return out

    found = least_squares(off, np.zeros(first.size), jac=slopes, max_nfev=30, bounds=(-3.0, 3.0)).x.reshape(-1, 3)
    values = first + found * give
    widths = 2.0 ** np.clip(values[:, 1], -5.0, 1.2)
    return [
        replace(spot, frequency_hz=float(2.0**centre), octaves=float(width), gain_db=float(max(gain, 0.0)))
        for spot, (centre, _, gain), width in zip(spots, values, widths, strict=True)
    ]


def between(said: Spot, fitted: Spot) -> Spot:
    """A narrow spot where it fits, its height and width halfway to what was said of it alone.

    What fits together is too high by 1.2 dB where it is sure; what is said alone knows nothing of neighbours.
    """
    octaves, gain_db = math.sqrt(said.octaves * fitted.octaves), (said.gain_db + fitted.gain_db) / 2.0
    return replace(fitted, octaves=octaves, gain_db=gain_db)


_NEAR_POINTS = 12
"""How far from where a broad spot was its centre is looked for once more: a quarter octave."""


def seen_twice(spot: Spot, tried: Reading, made: StaticMove) -> Spot:
    """A broad spot as it was and with what is left of it once a cut was made, in the mean; any other as it was.

    What a bell at its place leaves of a bell is one of the same width.
    """
    if not spot.broad:
        return spot
    grid = finding_grid()
    at = nearest_point(grid, spot.frequency_hz)
    near = np.arange(max(0, at - _NEAR_POINTS), min(len(grid), at + _NEAR_POINTS + 1))
    at = int(near[np.argmax(tried.hump_centre[near])])
    if tried.hump_centre[at] < LEAST_HUMP_CENTRE:
        return spot
    hz = float(grid[at] * 2.0 ** tried.hump_offset_oct[at])
    return replace(
        spot,
        frequency_hz=math.sqrt(spot.frequency_hz * hz),
        octaves=math.sqrt(spot.octaves * float(tried.hump_octaves[at])),
        gain_db=(spot.gain_db + float(tried.hump_gain_db[at]) - made.gain_db) / 2.0,
    )


DOUBTFUL = ((0.47, 3.5), (0.56, 3.9))
"""What is less sure than the first is cut by no more dB than the second: half as many deep cuts of nothing."""


def deepest_for(confidence: float, *, broad: bool) -> float:
    """How deep a cut may be in dB, above 0."""
    return next((db for below, db in DOUBTFUL if confidence < below), DEEPEST_BROAD_DB if broad else DEEPEST_NARROW_DB)


def as_cut(spot: Spot, share: float, *, deepest_db: float) -> StaticMove:
    """The bell that brings a spot to its surroundings, as far as it is believed.

    share : part of its height that is cut, from the second opinion on it.
    """
    q = min(max(octaves_to_q(spot.octaves), LOWEST_Q), HIGHEST_Q)
    return StaticMove(Shape.BELL, spot.frequency_hz, q=q, gain_db=-min(spot.gain_db * share, deepest_db))
