"""Fixed sections as a stream processor, for meters and weights."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from mivlo.core.kernels import run_steady
from mivlo.core.processors.protocol import checked_block
from mivlo.core.units import Floats


class Cascade:
    """Fixed sections as a stream processor.

    Parameters
    ----------
    sections : (s, 6) in scipy's order.
    channels : 1 or 2.
    """

    def __init__(self, sections: npt.ArrayLike, channels: int) -> None:
        sos = np.asarray(sections, dtype=np.float64).reshape(-1, 6)
        self.channels = channels
        self._coefs = np.ascontiguousarray(sos[:, [0, 1, 2, 4, 5]] / sos[:, 3:4])
        self._states = np.zeros((len(sos), channels, 4))

    def process(self, block: npt.ArrayLike) -> Floats:
        """Filter the next samples: (n, channels) in and out."""
        x = checked_block(block, self.channels)
        run_steady(x, self._coefs, self._states)
        return x

    def state(self) -> Floats:
        """An exact copy of its memory."""
        return self._states.copy()

    def restore(self, state: Floats) -> None:
        """Go on from a copy of the memory."""
        self._states = state.copy()
