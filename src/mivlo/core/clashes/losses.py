"""What each strip loses to each other one, per auditory band.

Of the two ears the better one counts in each band: a strip is as loud, alone and among others, as in the ear in which
it is louder there, and that ear's loudness stands for both. What a strip loses to all others together is shared among
them in proportion to what each takes by itself (masked-to-unmasked ratio of loudness: Aichinger, Sontacchi &
Schneider-Sternberg, AES 130th Convention 2011, from memory; the sharing is ours).
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import njit

from mivlo.core.auditory import BAND_CONSTANTS, BANDS, SONES_A_BAND, alone_at, partial_at
from mivlo.core.clashes.scene import Scene
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats

BURIED_DB = 15.0
"""So far above a strip's excitation another one buries it: no carve that one would make brings it back."""
_FAINT = 1e-4  # sones a Cam
_UNTOUCHED = 1e-3


@njit(cache=True, nogil=True)
def _cell(strip, own, all_others, singles, t, b, c, takes):  # type: ignore[no-untyped-def]
    """Loudness alone and among all at a band and frame; what each other takes of the difference goes into `takes`."""
    ears, count = own.shape[0], singles.shape[0]
    best = np.float32(0.0)
    left = np.float32(0.0)
    for j in range(count):
        takes[j] = 0.0
    for ear in range(ears):
        best = max(best, alone_at(own[ear, t, b], b, c))
    if best < np.float32(_FAINT):
        return np.float32(0.0), np.float32(0.0)
    for ear in range(ears):
        left = max(left, partial_at(own[ear, t, b], all_others[ear, t, b], b, c))
    left = min(left, best)
    loss = best - left
    if loss < np.float32(_UNTOUCHED) * best:
        return best, left
    total = np.float32(0.0)
    for j in range(count):
        if j != strip:
            by_itself = np.float32(0.0)
            for ear in range(ears):
                by_itself = max(by_itself, partial_at(own[ear, t, b], singles[j, ear, t, b], b, c))
            takes[j] = max(best - by_itself, np.float32(0.0))
            total += takes[j]
    for j in range(count):
        takes[j] = takes[j] * loss / total if total > 0.0 else np.float32(0.0)
    return best, left


@njit(cache=True, nogil=True)
def _lose(strip, own, all_others, singles, c, buried, alone, kept, lost, deep, gone):  # type: ignore[no-untyped-def]
    ears, frames, bands = own.shape
    takes = np.zeros(singles.shape[0], dtype=np.float32)
    for t in range(frames):
        for b in range(bands):
            best, left = _cell(strip, own, all_others, singles, t, b, c, takes)
            alone[t, b] = best
            kept[t, b] = left
            if left >= best:
                continue
            share = (best - left) / best
            for j in range(singles.shape[0]):
                if takes[j] > 0.0:
                    lost[j, b] += takes[j]
                    deep[j, b] += takes[j] * share * share
                    hidden = True
                    for ear in range(ears):
                        if singles[j, ear, t, b] < buried * own[ear, t, b]:
                            hidden = False
                    if hidden:
                        gone[j, b] += takes[j]


@njit(cache=True, nogil=True)
def _lose_in_time(strip, by, first, last, own, all_others, singles, c, out):  # type: ignore[no-untyped-def]
    takes = np.zeros(singles.shape[0], dtype=np.float32)
    for t in range(own.shape[1]):
        for b in range(first, last + 1):
            _cell(strip, own, all_others, singles, t, b, c, takes)
            out[t] += takes[by]


@dataclass(frozen=True)
class Loss:
    """What one strip of a scene loses.

    alone, kept : (frames, BANDS) sones that a band adds to its loudness, alone and among all.
    lost : (strips, BANDS) sones, mean over the frames: what goes to each other strip in each band.
    deep : the same, each part weighted by the square of the share that is lost at that moment and band.
    buried : the part of `lost` that goes where the other one is over BURIED_DB above.
    """

    scene: Scene
    strip: int
    alone: Singles
    kept: Singles
    lost: Floats
    deep: Floats
    buried: Floats

    @cached_property
    def loudness(self) -> float:
        """Sones alone, mean over the frames."""
        return _mean_sum(self.alone)

    @cached_property
    def among_all(self) -> float:
        """Sones in the presence of all others, mean over the frames."""
        return _mean_sum(self.kept)

    @property
    def kept_share(self) -> float:
        """What is left of its loudness, 0 to 1; 1 where it does not sound."""
        return self.among_all / self.loudness if self.loudness > 0 else 1.0

    def in_time(self, by: int, first: int, last: int) -> Floats:
        """(frames,) sones that go to another strip in the bands `first` to `last`."""
        out = np.zeros(self.scene.frames)
        own, others = self.scene.excitation[self.strip], self.scene.masking_of_others(self.strip)
        _lose_in_time(self.strip, by, first, last, own, others, self.scene.masking, BAND_CONSTANTS, out)
        return out * SONES_A_BAND


def _mean_sum(specific: Singles) -> float:
    return float(np.sum(specific, dtype=np.float64)) / max(1, len(specific))


def loss_of(scene: Scene, strip: int) -> Loss:
    """What a strip of a scene loses."""
    shape = (scene.frames, BANDS)
    alone, kept = np.zeros(shape, dtype=np.float32), np.zeros(shape, dtype=np.float32)
    sums = np.zeros((3, scene.count, BANDS))
    limit = np.float32(10.0 ** (BURIED_DB / 10.0))
    own, others = scene.excitation[strip], scene.masking_of_others(strip)
    _lose(strip, own, others, scene.masking, BAND_CONSTANTS, limit, alone, kept, *sums)
    alone *= np.float32(SONES_A_BAND)
    kept *= np.float32(SONES_A_BAND)
    return Loss(scene, strip, alone, kept, *(sums * (SONES_A_BAND / max(1, scene.frames))))


def losses(scene: Scene, *, progress: Callable[[float], None] | None = None, workers: int = 2) -> list[Loss]:
    """What every strip of a scene loses; `progress` is told the share that is done, and may raise."""
    out: list[Loss] = []
    _ = scene.masking  # once, before the threads ask for it
    with ThreadPoolExecutor(workers) as pool:
        for loss in pool.map(lambda i: loss_of(scene, i), range(scene.count)):
            out.append(loss)
            if progress is not None:
                progress(len(out) / scene.count)
    return out
