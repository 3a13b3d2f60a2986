"""The K weighting of ITU-R BS.1770-5 for powers that are at the cochlea already."""

from __future__ import annotations

import numpy as np

from mivlo.core.auditory.outer import to_cochlea_db
from mivlo.core.auditory.scale import COMPONENT_HZ
from mivlo.core.filters import response_db
from mivlo.core.loudness import k_weighting
from mivlo.core.units import Floats

_RATE = 48_000.0  # the rate that the standard gives its filters for


def _k_weights() -> Floats:
    k = response_db(k_weighting(_RATE), COMPONENT_HZ, sample_rate=_RATE)
    return np.asarray(10.0 ** ((k - to_cochlea_db(COMPONENT_HZ)) / 10.0))


K_WEIGHTS = _k_weights()
"""(COMPONENTS,) what makes of a power at the cochlea one that is K-weighted instead."""
