"""Clashes: in which range, when and how much one strip loses to another."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from mivlo.core.auditory import BANDS, edges_of
from mivlo.core.clashes.losses import Course, Loss, loss_of
from mivlo.core.clashes.scene import Scene
from mivlo.core.parallel import in_parallel
from mivlo.core.units import Floats

Flags = npt.NDArray[np.bool_]

LEAST_LOST = 0.02
"""Less than this share of its loudness is no clash."""
MOSTLY_BURIED = 0.5
AT_HOME = 0.35
WIDEST_OCT = 1.5
"""A wider range is more than one clash: no carve frees it as a whole."""
HIDDEN = 0.7
"""A strip is hidden in a range while it loses more than this there, to all others together."""
_EDGE = 0.4
_ACTIVE = 0.1
_COVERED = 0.3
_GAP_S = 0.3
_MOST_MOMENTS = 8


@dataclass(frozen=True, slots=True)
class Clash:
    """One strip covers another in a range.

    covered, by : numbers of the strips in the scene.
    first, last : the bands, both included; from_hz, to_hz their edges.
    lost : what `covered` loses to `by` in the range over all of its loudness alone.
    hidden : sones that are lost while it is hidden there.
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


def _clash(loss: Loss, course: Course, by: int, first: int, last: int, lost: float) -> Clash | None:
    """What happens in a range over time; None where nothing is covered at any moment."""
    inside = slice(first, last + 1)
    alone = course.alone[:, inside].sum(axis=1, dtype=np.float64)
    taken = course.taken[by, :, inside].sum(axis=1, dtype=np.float64)
    active = alone > _ACTIVE * np.percentile(alone[alone > 0], 95)
    covered = active & (taken > _COVERED * alone)
    if not np.any(covered):
        return None
    gone = course.taken[:, :, inside].sum(axis=(0, 2), dtype=np.float64)
    hidden = float(np.sum(taken[gone > HIDDEN * alone])) / max(1, len(taken))
    return Clash(
        loss.strip, by, first, last, *edges_of(first, last), lost, hidden, float(np.sum(covered) / np.sum(active)),
        _stretches(covered, taken, course.block_s),
    )  # fmt: skip


def clashes_of(loss: Loss, course: Course, *, least: float = LEAST_LOST) -> list[Clash]:
    """The clashes in which a strip is covered.

    Left out: what takes less than `least` of its loudness; what is mostly buried, since there no carve helps but faders
    do; and ranges into which its sound only spreads.
    """
    found = []
    for by in range(len(loss.lost)) if loss.loudness > 0.0 else ():
        for first, last in spans_of(loss.deep[by]):
            inside = slice(first, last + 1)
            lost = float(np.sum(loss.lost[by, inside])) / loss.loudness
            buried = float(np.sum(loss.buried[by, inside])) / loss.loudness
            at_home = float(np.sum(loss.lost[by, inside] * loss.home[inside])) / loss.loudness
            if lost < least or buried > MOSTLY_BURIED * lost or at_home < AT_HOME * lost:
                continue
            clash = _clash(loss, course, by, first, last, lost)
            if clash is not None:
                found.append(clash)
    return found


@dataclass(frozen=True)
class Survey:
    """What the strips of a scene lose, and their clashes: those that hide most first, and then those that take most."""

    losses: tuple[Loss, ...]
    clashes: tuple[Clash, ...]


def survey(scene: Scene, *, least: float = LEAST_LOST, progress: Callable[[float], None] | None = None) -> Survey:
    """All against all. `progress` is told the share that is done, and may raise to give up."""
    _ = scene.masking  # once, before the threads ask for it

    def one(strip: int) -> tuple[Loss, list[Clash]]:
        loss, course = loss_of(scene, strip)
        return loss, clashes_of(loss, course, least=least)

    made = in_parallel(one, range(scene.count), progress)
    clashes = [clash for _, found in made for clash in found]
    clashes.sort(key=lambda c: (c.hidden, c.lost), reverse=True)
    return Survey(tuple(loss for loss, _ in made), tuple(clashes))
