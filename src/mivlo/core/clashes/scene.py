"""Several strips as one pair of ears has them at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt
from numba import njit

from mivlo.core.auditory import BANDS, COMPONENTS, excitation
from mivlo.core.parallel import in_parallel
from mivlo.core.spectra import Singles

STAYS = 0.16
DECAY_S = 0.0145
"""What a masker leaves behind: a sixth of its excitation, which then decays by e in this time (the forward part of the
temporal window of Oxenham & Moore 1994, values from memory; of it only what lasts longer than a frame)."""

SMALL_ROOM_DB = 79.0
"""Level in dB SPL at which a mix is taken to be heard (small room; common practice, no source)."""
FILES_FULL_SCALE_DB = 95.0
"""Level in dB SPL of a mean square of 1 where single files are compared."""


@njit(cache=True, nogil=True)
def _linger(e, stays, decay):  # type: ignore[no-untyped-def]
    for ear in range(e.shape[0]):
        for b in range(e.shape[2]):
            tail = np.float32(0.0)
            before = np.float32(0.0)
            for t in range(e.shape[1]):
                tail = max(stays * before, tail * decay)
                before = e[ear, t, b]
                e[ear, t, b] = max(before, tail)


def lingering(of_masker: Singles, frame_s: float) -> Singles:
    """Excitation of a masker (ears, frames, BANDS) with its short decay; a new array."""
    out = of_masker.copy()
    _linger(out, np.float32(STAYS), np.float32(np.exp(-frame_s / DECAY_S)))
    return out


@dataclass(frozen=True)
class Scene:
    """Strips that sound together.

    Parameters
    ----------
    power : (strips, ears, frames, COMPONENTS) as `components` gives them, times what faders and pans do; one ear where
        both hear the same.
    full_scale_db : the sound pressure level in dB SPL of a mean square of 1.
    frame_s : from one frame to the next.
    """

    power: Singles
    full_scale_db: float
    frame_s: float

    @classmethod
    def of(cls, powers: Sequence[Singles], *, full_scale_db: float, frame_s: float) -> Scene:
        """Of each strip (ears, frames, COMPONENTS), with one ear or two; short ones end in silence."""
        ears = max((p.shape[0] for p in powers), default=1)
        frames = max((p.shape[1] for p in powers), default=0)
        whole = np.zeros((len(powers), ears, frames, COMPONENTS), dtype=np.float32)
        for into, power in zip(whole, powers, strict=True):
            into[:, : power.shape[1]] = power
        return cls(whole, full_scale_db, frame_s)

    @property
    def count(self) -> int:
        """How many strips there are."""
        return len(self.power)

    @property
    def frames(self) -> int:
        return int(self.power.shape[2])

    @cached_property
    def excitation(self) -> Singles:
        """(strips, ears, frames, BANDS) of every strip by itself."""
        made = in_parallel(self.spread, self.power)
        return np.stack(made) if made else np.zeros((0, 1, 0, BANDS), np.float32)

    @cached_property
    def masking(self) -> Singles:
        """The same with the short decay that each has as a masker."""
        return np.stack([lingering(e, self.frame_s) for e in self.excitation]) if self.count else self.excitation

    def spread(self, power: Singles) -> Singles:
        """Excitation (..., BANDS) of powers (..., COMPONENTS) at the scene's level."""
        return excitation(power, full_scale_db=self.full_scale_db)

    def of_others(self, *but: int) -> Singles:
        """(ears, frames, COMPONENTS): the powers of all but some strips, added up."""
        total = np.zeros(self.power.shape[1:], dtype=np.float32)
        for i in range(self.count):
            if i not in but:
                total += self.power[i]
        return total

    def masking_of_others(self, *but: int) -> Singles:
        """(ears, frames, BANDS): what all but some strips put on the ear, with its short decay.

        Powers are added before they are spread, since the spread depends on the level of all of them.
        """
        return lingering(self.spread(self.of_others(*but)), self.frame_s)

    def at(self, frames: slice | npt.NDArray[np.int64]) -> Scene:
        """Some of its frames."""
        return replace(self, power=self.power[:, :, frames])

    def at_most(self, frames: int) -> Scene:
        """So many of its frames, evenly spread, where it has more."""
        return self if self.frames <= frames else self.at(np.linspace(0, self.frames - 1, frames).astype(np.int64))
