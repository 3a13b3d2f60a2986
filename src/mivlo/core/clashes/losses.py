"""What each strip loses to each other one, per auditory band.

Of the two ears the better one counts in each band: a strip is as loud, alone and among others, as in the ear in which
it is louder there, and that ear's loudness stands for both. What a strip loses to all others together is shared among
them in proportion to what each takes by itself (masked-to-unmasked ratio of loudness: Aichinger, Sontacchi &
Schneider-Sternberg, AES 130th Convention 2011, from memory; the sharing is ours).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from mivlo.core.auditory import BAND_CAMS, BANDS, COMPONENT_HZ, SONES_A_BAND, TABLES, alone_at, partial_at
from mivlo.core.clashes.scene import Scene
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats, erb_number

BURIED_DB = 15.0
"""So far above a strip's excitation another one buries it: no carve that one would make brings it back."""
_FAINT = 1e-4  # sones a Cam
_UNTOUCHED = 1e-3

BLOCK = 5
"""Frames that are taken together where something is told over time: about 0.1 s."""


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
def _lose(strip, own, all_others, singles, c, buried, alone, kept, lost, gone, course, taken):  # type: ignore[no-untyped-def]
    ears, frames, bands = own.shape
    takes = np.zeros(singles.shape[0], dtype=np.float32)
    for t in range(frames):
        block = t // BLOCK
        for b in range(bands):
            best, left = _cell(strip, own, all_others, singles, t, b, c, takes)
            alone[b] += best
            kept[b] += left
            course[block, b] += best
            if left >= best:
                continue
            for j in range(singles.shape[0]):
                if takes[j] > 0.0:
                    lost[j, b] += takes[j]
                    taken[j, block, b] += takes[j]
                    hidden = True
                    for ear in range(ears):
                        if singles[j, ear, t, b] < buried * own[ear, t, b]:
                            hidden = False
                    if hidden:
                        gone[j, b] += takes[j]


@dataclass(frozen=True)
class Loss:
    """What one strip of a scene loses, mean over the frames; all in sones.

    strip : its number.
    alone, kept : (BANDS,) what each band adds to its loudness, alone and among all.
    lost : (strips, BANDS) what goes to each other strip in each band.
    buried : the part of `lost` that goes where the other one is over BURIED_DB above.
    home : (BANDS,) what share of its excitation comes from within half an ERB; the rest only spreads there.
    """

    strip: int
    alone: Floats
    kept: Floats
    lost: Floats
    buried: Floats
    home: Floats

    @property
    def loudness(self) -> float:
        """Sones alone."""
        return float(self.alone.sum())

    @property
    def among_all(self) -> float:
        """Sones in the presence of all others."""
        return float(self.kept.sum())

    @property
    def kept_share(self) -> float:
        """What is left of its loudness, 0 to 1; 1 where it does not sound."""
        return self.among_all / self.loudness if self.loudness > 0 else 1.0


@dataclass(frozen=True)
class Course:
    """The same over time, in blocks of BLOCK frames; sones of a band, mean over the block.

    block_s : how long a block lasts. alone : (blocks, BANDS). taken : (strips, blocks, BANDS) what goes to each other.
    """

    block_s: float
    alone: Singles
    taken: Singles


def _home(scene: Scene, strip: int) -> Floats:
    """(BANDS,) what share of a strip's excitation comes from within half an ERB, by its mean powers; 0 to 1."""
    power = scene.power[strip].mean(axis=(0, 1), dtype=np.float64) * 10.0 ** (scene.full_scale_db / 10.0)
    near = np.abs(erb_number(COMPONENT_HZ) - BAND_CAMS[:, None]) <= 0.5
    excited = scene.excitation[strip].mean(axis=(0, 1), dtype=np.float64)
    return np.asarray(np.clip(near @ power / np.maximum(excited, 1e-9), 0.0, 1.0))


def loss_of(scene: Scene, strip: int) -> tuple[Loss, Course]:
    """What a strip of a scene loses, on the whole and over time."""
    blocks = -(-scene.frames // BLOCK)
    alone, kept = np.zeros(BANDS), np.zeros(BANDS)
    sums = np.zeros((2, scene.count, BANDS))
    course = np.zeros((blocks, BANDS), dtype=np.float32)
    taken = np.zeros((scene.count, blocks, BANDS), dtype=np.float32)
    limit = np.float32(10.0 ** (BURIED_DB / 10.0))
    own, others = scene.excitation[strip], scene.masking_of_others(strip)
    lost, buried = sums
    _lose(strip, own, others, scene.masking, TABLES, limit, alone, kept, lost, buried, course, taken)
    mean = SONES_A_BAND / max(1, scene.frames)
    of_block = np.float32(SONES_A_BAND / BLOCK)
    home = _home(scene, strip)
    loss = Loss(strip, alone * mean, kept * mean, lost * mean, buried * mean, home)
    return loss, Course(scene.frame_s * BLOCK, course * of_block, taken * of_block)
