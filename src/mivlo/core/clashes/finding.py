"""Clashes: in which range, when and how much one strip loses to another."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.ndimage import uniform_filter1d

from mivlo.core.auditory import BANDS, edges_of
from mivlo.core.clashes.losses import Course, Loss, loss_of
from mivlo.core.clashes.scene import Scene
from mivlo.core.parallel import in_parallel
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats

Flags = npt.NDArray[np.bool_]

LEAST_LOST = 0.02
"""Less than this share of its loudness is no clash."""
MOSTLY_BURIED = 0.5
AT_HOME = 0.35
WIDEST_OCT = 1.8
"""A wider range is more than one clash: no carve frees it as a whole."""
HIDDEN = 0.7
"""A strip is hidden in a range while it loses more than this there, to all others together."""
_EDGE = 0.2
_SURROUNDINGS = 60
"""Bands around one with which the masker's loudness there is compared: most of the ear."""
_STEADY, _MOST_RISE = 0.05, 2.5
"""What a loss counts where the masker is as it always is; and the largest rise, a factor of e to the power of this."""
_BESIDE = 6
_CONFINED, _TOGETHER = 3.0, 3.5
"""How much it counts that a loss is confined to its range, and that the masker rises there as a whole."""
_ACTIVE = 0.1
_COVERED = 0.3
_GAP_S = 0.3
_FAINT = 0.02
_MOST_MOMENTS = 8


@dataclass(frozen=True, slots=True)
class Clash:
    """One strip covers another in a range.

    covered, by : numbers of the strips in the scene.
    first, last : the bands, both included; from_hz, to_hz their edges.
    lost : what `covered` loses to `by` in the range over all of its loudness alone.
    hidden : sones that are lost while it is hidden there.
    weight : how much it is one clash, by which it is ranked: what is hidden and lost, the more the more it is an event
        of `by` (all of the range does then what it does not do otherwise), and is confined to the range.
    share_of_time : of the time in which `covered` sounds in the range, the share in which it loses a good part there.
    moments : stretches in s, the worst one first.
    """

    covered: int
    by: int
    first: int
    last: int
    from_hz: float
    to_hz: float
    lost: float
    hidden: float
    weight: float
    share_of_time: float
    moments: tuple[tuple[float, float], ...]


def spans_of(density: Floats) -> list[tuple[int, int]]:
    """Ranges of bands in which a density piles up, (first, last), the highest peak first.

    Around each peak as far as it stays over a part of the peak, towards the higher side first, and no wider than
    WIDEST_OCT; what is left lies in ranges of its own.
    """
    smooth = density
    for _ in range(2):
        smooth = np.convolve(np.pad(smooth, 1, mode="edge"), [0.25, 0.5, 0.25], mode="valid")
    free = smooth > 0.0
    faint = 1e-3 * float(np.max(smooth, initial=0.0))
    out = []
    while np.any(free):
        peak = int(np.argmax(np.where(free, smooth, -1.0)))
        if smooth[peak] < faint:
            break
        low = high = peak
        while True:
            below = smooth[low - 1] if low > 0 and free[low - 1] else -1.0
            above = smooth[high + 1] if high < BANDS - 1 and free[high + 1] else -1.0
            wider = (low - 1, high) if below > above else (low, high + 1)
            if max(below, above) < _EDGE * smooth[peak] or _octaves(*wider) > WIDEST_OCT:
                break
            low, high = wider
        out.append((low, high))
        free[low : high + 1] = False
    return out


def _octaves(first: int, last: int) -> float:
    low, high = edges_of(first, last)
    return float(np.log2(high / low))


def _stretches(covered: Flags, loss: Floats, block_s: float) -> tuple[tuple[float, float], ...]:
    at = np.flatnonzero(covered)
    parts = np.split(at, np.flatnonzero(np.diff(at) > max(1, round(_GAP_S / block_s))) + 1)
    found = [(float(np.sum(loss[p[0] : p[-1] + 1])), int(p[0]), int(p[-1]) + 1) for p in parts]
    found.sort(reverse=True)
    return tuple((round(a * block_s, 2), round(b * block_s, 2)) for _, a, b in found[:_MOST_MOMENTS])


def rise_of(alone: Singles) -> Floats:
    """How far a track does in a band and moment what it does not do otherwise: (blocks, BANDS), 0 to _MOST_RISE.

    Its loudness in the band against that in the bands around it, as a logarithm, over what that is at most times.

    alone : (blocks, BANDS) of a `Course`.
    """
    level = np.log(alone.astype(np.float64) + _FAINT)
    tilt = level - uniform_filter1d(level, _SURROUNDINGS, axis=1, mode="nearest")
    whole = alone.sum(axis=1)
    active = whole > 0.05 * np.percentile(whole, 95) if len(whole) else whole > 0.0
    usual = np.median(tilt[active], axis=0) if np.any(active) else np.zeros(alone.shape[1])
    return np.asarray(np.clip(tilt - usual, 0.0, _MOST_RISE))


def _clash(
    loss: Loss, course: Course, by: int, first: int, last: int, lost: float, deep: Floats, rise: Floats
) -> Clash | None:
    """What happens in a range over time; None where nothing is covered at any moment.

    deep, rise : (blocks, BANDS) of `_deep` and `rise_of` the other strip.
    """
    inside = slice(first, last + 1)
    alone = course.alone[:, inside].sum(axis=1, dtype=np.float64)
    taken = course.taken[by, :, inside].sum(axis=1, dtype=np.float64)
    active = alone > _ACTIVE * np.percentile(alone[alone > 0], 95)
    covered = active & (taken > _COVERED * alone)
    if not np.any(covered):
        return None
    gone = course.taken[:, :, inside].sum(axis=(0, 2), dtype=np.float64)
    hidden = float(np.sum(taken[gone > HIDDEN * alone])) / max(1, len(taken))
    event = float(np.sum((deep * rise)[:, inside])) / max(float(np.sum(deep[:, inside])), 1e-12)
    confined, together = _confined(course, by, first, last, covered), _together(rise[:, inside])
    weight = hidden * math.sqrt(lost) * (_STEADY + event) * math.exp(_CONFINED * confined + _TOGETHER * together)
    return Clash(
        loss.strip, by, first, last, *edges_of(first, last), lost, hidden, weight,
        float(np.sum(covered) / np.sum(active)), _stretches(covered, taken, course.block_s),
    )  # fmt: skip


def _deep(course: Course, by: int) -> Floats:
    """(blocks, BANDS) what goes to a strip, weighted by the square of the share that this is."""
    taken = course.taken[by].astype(np.float64)
    share = taken / np.maximum(course.alone, 1e-9)
    return np.asarray(taken * share * share)


def _confined(course: Course, by: int, first: int, last: int, covered: Flags) -> float:
    """The share that is lost in a range at the moments at which it is covered, less that beside it."""

    def share(bands: slice, otherwise: float) -> float:
        sounds = float(np.sum(course.alone[covered, bands], dtype=np.float64))
        return (
            float(np.sum(course.taken[by, covered, bands], dtype=np.float64)) / sounds if sounds > 1e-3 else otherwise
        )

    inside = share(slice(first, last + 1), 0.0)
    below, above = slice(max(0, first - _BESIDE), first), slice(last + 1, last + 1 + _BESIDE)
    return inside - (share(below, inside) + share(above, inside)) / 2.0


def _together(rise: Floats) -> float:
    """How far the bands of a range rise at the same moments, as one sound does: 0 to 1."""
    each = float(np.mean(np.var(rise, axis=0)))
    return float(np.var(np.mean(rise, axis=1))) / each if each > 1e-9 else 0.0


def clashes_of(loss: Loss, course: Course, rises: Sequence[Floats], *, least: float = LEAST_LOST) -> list[Clash]:
    """The clashes in which a strip is covered.

    Left out: what takes less than `least` of its loudness; what is mostly buried, since there no carve helps but faders
    do; and ranges into which its sound only spreads.

    rises : `rise_of` each strip of the scene.
    """
    found = []
    for by in range(len(loss.lost)) if loss.loudness > 0.0 else ():
        if by == loss.strip:
            continue
        deep = _deep(course, by)
        for first, last in spans_of(np.sum(deep * (_STEADY + rises[by]), axis=0)):
            inside = slice(first, last + 1)
            lost = float(np.sum(loss.lost[by, inside])) / loss.loudness
            buried = float(np.sum(loss.buried[by, inside])) / loss.loudness
            at_home = float(np.sum(loss.lost[by, inside] * loss.home[inside])) / loss.loudness
            if lost < least or buried > MOSTLY_BURIED * lost or at_home < AT_HOME * lost:
                continue
            clash = _clash(loss, course, by, first, last, lost, deep, rises[by])
            if clash is not None:
                found.append(clash)
    return found


@dataclass(frozen=True)
class Survey:
    """What the strips of a scene lose, and their clashes: by their weight, and then by what they take."""

    losses: tuple[Loss, ...]
    clashes: tuple[Clash, ...]


def survey(scene: Scene, *, least: float = LEAST_LOST, progress: Callable[[float], None] | None = None) -> Survey:
    """All against all. `progress` is told the share that is done, and may raise to give up."""
    _ = scene.masking  # once, before the threads ask for it

    made = in_parallel(lambda strip: loss_of(scene, strip), range(scene.count), progress)
    rises = [rise_of(course.alone) for _, course in made]
    clashes = [clash for loss, course in made for clash in clashes_of(loss, course, rises, least=least)]
    clashes.sort(key=lambda c: (c.weight, c.lost), reverse=True)
    return Survey(tuple(loss for loss, _ in made), tuple(clashes))
