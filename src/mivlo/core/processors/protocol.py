"""What does something to sound: the protocol that all kinds follow, so that the renderer needs to know none."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt

from mivlo.core.errors import BadAudio
from mivlo.core.moves import Air, Clip, Compressor, Reverb, Warmth
from mivlo.core.units import Floats

FORGOTTEN = 1e-6
"""-120 dB: what is left of the past below this is forgotten."""
GLIDE_S = 0.02
"""Time in which a changed value reaches its new place."""

Keys = Mapping[int, Floats]
"""Sound of other strips by their ids, aligned with the block: (n, channels of the strip)."""


CareValue = Compressor | Clip | Warmth | Air | Reverb
"""What can stand behind the moves."""


@dataclass(frozen=True, slots=True)
class Step:
    """One move, or a part of the aftercare, as a processor takes it: `key` stays with it while its values change.

    `move` is a `Move` or a `CareValue`, of the kind that the processor is for.
    """

    key: int | str
    move: Any
    enabled: bool = True


class Processor(Protocol):
    """A run of moves of one kind as a stream: blocks in, blocks out, in any block size with the same result."""

    @property
    def latency(self) -> int:
        """Frames by which the output lags behind the input; fixed for the processor's life."""

    @property
    def aligned(self) -> int:
        """A stream has to begin at a frame of the song that is a multiple of this."""

    @property
    def memory_s(self) -> float:
        """How far back the past reaches into what comes next, down to -120 dB."""

    @property
    def gliding(self) -> bool:
        """Whether some value is still on its way."""

    def aim(self, steps: Sequence[Step], *, glide: bool = True) -> None:
        """Take new values: reached over GLIDE_S, or at once."""

    def process(self, block: Floats, keys: Keys) -> Floats:
        """The next frames: (n, channels) in, (n, channels) out, the output `latency` frames late."""

    def state(self) -> Any:
        """An exact copy of its memory; what happens later does not change it."""

    def restore(self, state: Any) -> None:
        """Go on from a copy of the memory, as the processor would that it was taken from."""

    def report(self) -> Mapping[int | str, float]:
        """Gain in dB that each moving step adds at its centre by now; fixed ones are left out."""


def checked_block(block: npt.ArrayLike, channels: int) -> Floats:
    """A copy of `block` as (n, channels) float64; BadAudio if it has another shape."""
    x = np.array(block, dtype=np.float64, order="C")
    if x.ndim != 2 or x.shape[1] != channels:
        raise BadAudio(f"A block of shape (n, {channels}) is needed, this one has {x.shape}.")
    return x
