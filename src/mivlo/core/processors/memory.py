"""How long sections remember."""

from __future__ import annotations

import math

import numpy as np

from mivlo.core.processors.protocol import FORGOTTEN
from mivlo.core.units import Floats

STEP_FORGOTTEN = math.log(36.0 * math.log(10.0) / 20.0 / FORGOTTEN)
"""Time constants after which a gain that follows in dB, by 36 dB at the most, has forgotten where it was."""
_LONGEST_RADIUS = 1.0 - 1e-9


def forgotten_after_s(coefs: Floats, sample_rate: float) -> float:
    """Seconds after which a cascade has forgotten its past to -120 dB.

    Each section's memory falls as r^n, r the larger radius of its two poles; those of a cascade add up.

    Parameters
    ----------
    coefs : (s, 5), b0, b1, b2, a1, a2 of each section.
    """
    if not len(coefs):
        return 0.0
    a1, a2 = coefs[:, 3], coefs[:, 4]
    root = np.sqrt((a1 * a1 - 4.0 * a2).astype(np.complex128))
    radius = np.maximum(np.abs(-a1 + root), np.abs(-a1 - root)) / 2.0
    remembering = radius[radius > 1e-9]
    frames = math.log(FORGOTTEN) / np.log(np.minimum(remembering, _LONGEST_RADIUS))
    return float(np.sum(frames)) / sample_rate
