"""What stands between the song and the loudspeakers, for the listener alone: mono, and softer. Never in an export."""

from __future__ import annotations

import numpy as np

from mivlo.core.graph.glide import RAMP_S, Glide
from mivlo.core.units import Floats, db_to_gain

DIM_DB = -20.0


class Monitor:
    """Both channels as one, and all softer by DIM_DB; what changes glides."""

    def __init__(self, sample_rate: int) -> None:
        self.mono = self.dim = False
        self._frame = 0
        self._glide = Glide([0.0, 1.0], round(RAMP_S * sample_rate))  # share of mono, gain

    def set(self, *, mono: bool, dim: bool) -> None:
        """Take new values over the next frames."""
        self.mono, self.dim = mono, dim
        self._glide.aim([float(mono), db_to_gain(DIM_DB) if dim else 1.0], self._frame)

    def process(self, out: Floats) -> Floats:
        """(n, 2) as it is heard."""
        values = self._glide.over(self._frame, self._frame + len(out))
        self._frame += len(out)
        if len(values) == 1 and values[0, 0] == 0.0 and values[0, 1] == 1.0:
            return out
        share = values[:, :1]
        middle = np.mean(out, axis=1, keepdims=True)
        return np.asarray((out * (1.0 - share) + middle * share) * values[:, 1:])
