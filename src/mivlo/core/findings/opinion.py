"""The second opinion: from what speaks for and against a spot to a confidence, and from that to a depth.

An additive model: every witness has a curve that says by how much it moves the log-odds, and they are summed (Hastie &
Tibshirani, Generalized Additive Models, 1990). Curves are straight between a few points and never fall (or never rise)
where the sense of a witness is known. What is summed is calibrated once more (as Platt does, Advances in Large Margin
Classifiers, 1999, by a bent line). They are fitted by `python -m bench.findings.second` to instruments and origins
that the networks which are judged never heard, so that of what is said with 0.8, about 80 % is real there as well.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
from scipy.special import expit

from mivlo.core.findings.witnesses import BY_KIND, KINDS, Witnesses
from mivlo.core.units import Floats

SENSE = {
    "certainty": 1, "closer_certainty": 1, "disagreement": -1, "height_db": 1, "boost_db": 1,
    "boost_disagreement_db": -1, "left_certainty": 0, "left_boost_db": 0, "crowd": -1, "surest_other": 1,
    "line_share": -1, "ring_over_width": 0, "ring_over_neighbours": -1, "ring_spread_cents": 0, "with_surroundings": 0,
    "with_level": 0,
    "envelope_db": 1, "valley_db": 1, "octaves": 0, "place_oct": 0, "strokes_db": 0, "partials_db": 0,
}  # fmt: skip
SENSE |= {f"{name}_{kind}": SENSE[name] for name in BY_KIND for kind in KINDS}
"""Whether more of a witness can only speak for a spot (1), only against it (-1), or both."""


@dataclass(frozen=True, slots=True)
class Curve:
    """How a witness moves the log-odds: at (n,) rising values by so much; missing : where there is no value."""

    at: Floats
    log_odds: Floats
    missing: float

    def __call__(self, value: float) -> float:
        return self.missing if np.isnan(value) else float(np.interp(value, self.at, self.log_odds))


def _as_summed() -> Floats:
    return np.array([[-30.0, 30.0], [-30.0, 30.0]])


@dataclass(frozen=True, slots=True)
class Opinion:
    """The curves of one sort of spot, and how deep a cut is for a confidence.

    shares : (2, n) confidence, rising, and the share of the height that is cut: what harms least on average.
    calibration : (2, n) summed log-odds, rising, and those of what was real there on sources of foreign origin.
    """

    curves: Mapping[str, Curve]
    start: float
    shares: Floats
    calibration: Floats = field(default_factory=_as_summed)

    def parts(self, witnesses: Witnesses) -> dict[str, float]:
        """By how much each witness that is asked moves the log-odds."""
        return {name: curve(witnesses[name]) for name, curve in self.curves.items() if name in witnesses}

    def confidence(self, witnesses: Witnesses) -> float:
        """0 to 1."""
        odds = np.interp(self.start + sum(self.parts(witnesses).values()), self.calibration[0], self.calibration[1])
        return float(expit(odds))

    def share(self, confidence: float) -> float:
        """Part of the height that is cut."""
        return float(np.interp(confidence, self.shares[0], self.shares[1]))


def to_arrays(opinion: Opinion, sort: str) -> dict[str, npt.NDArray[np.float64]]:
    """As kept in the model's file."""
    out = {f"{sort}/start": np.array(opinion.start), f"{sort}/shares": opinion.shares}
    out[f"{sort}/calibration"] = opinion.calibration
    for name, curve in opinion.curves.items():
        out[f"{sort}/{name}"] = np.stack([curve.at, curve.log_odds])
        out[f"{sort}/{name}/missing"] = np.array(curve.missing)
    return out


def from_arrays(arrays: Mapping[str, npt.NDArray[np.float64]], sort: str) -> Opinion | None:
    """Reads what `to_arrays` made; None where a model has none of the sort."""
    if f"{sort}/start" not in arrays:
        return None
    names = [n.split("/")[1] for n in arrays if n.startswith(f"{sort}/") and n.endswith("/missing")]
    curves = {
        n: Curve(arrays[f"{sort}/{n}"][0], arrays[f"{sort}/{n}"][1], float(arrays[f"{sort}/{n}/missing"]))
        for n in names
    }
    shares, calibration = (np.asarray(arrays[f"{sort}/{name}"]) for name in ("shares", "calibration"))
    return Opinion(curves, float(arrays[f"{sort}/start"]), shares, calibration)
