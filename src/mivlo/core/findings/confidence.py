"""From the network's score to a confidence: of those at 0.8, about 80 % are real.

The table is measured by `python -m bench.findings.calibrate` on the half of the benchmark that is tuned on.
"""

from __future__ import annotations

import numpy as np

from mivlo.core.findings.cuts import Spot
from mivlo.core.findings.network import shipped_model


def confidence_of(spot: Spot) -> float:
    """0 to 1, from what `evidence_score` makes of the spot."""
    table = shipped_model().calibration["broad" if spot.broad else "narrow"]
    return round(float(np.interp(evidence_score(spot), table[0], table[1])), 3)


LEAST_BROAD_EVIDENCE = -2.2
"""Of broad spots with less, hardly more are real than of those with none: instruments have humps of their own."""


def is_believable(spot: Spot, least_confidence: float) -> bool:
    """Whether a spot is worth being shown."""
    if spot.broad and evidence_score(spot) < LEAST_BROAD_EVIDENCE:
        return False
    return confidence_of(spot) >= least_confidence


def evidence_score(spot: Spot) -> float:
    """One number out of the network's certainty of a centre and the boost that was fitted."""
    odds = np.log(max(spot.score, 1e-4) / max(1.0 - spot.score, 1e-4))
    return float(odds + 0.25 * (min(spot.gain_db, 14.0) - 8.0))
