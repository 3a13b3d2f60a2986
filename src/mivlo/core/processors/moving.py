"""Filters whose gain moves: their coefficients over the way that the gain can go.

Structure: the state-variable filter with trapezoidal integrators and no delay in its loop (A. Simper, "Solving the
continuous SVF equations using trapezoidal integration and equivalent currents", 2013; V. Zavalishin, "The Art of VA
Filter Design", 2012; from memory, checked in the tests against the fitted sections). Every section of second order can
be written so.

Why it stays stable however its values move: for a silent input one step maps the state (s1, s2) by

    [ 2 a1 - 1      -2 a2     ]
    [ 2 a2       1 - 2 a3     ]      a1 = 1 / (1 + g (g + k)), a2 = g a1, a3 = g a2,

and no such step makes s1² + s2² larger as long as g, k >= 0, because trapezoidal integration keeps the energy of the
analogue circuit, which only its damping k changes. The map is affine in (a1, a2, a3), so what lies straight between
two such triples does not make it larger either. Hence values may go straight from one cell to the next.
(On time-varying filters: J. Laroche, "On the stability of time-varying recursive filters", JAES 55, 2007.)
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from mivlo.core.filters import SectionKind, design_into
from mivlo.core.moves import DynamicMove, Shape
from mivlo.core.units import Floats

POINTS = 49
"""Points from the static gain to the end of the range."""
_NEAR_DB = 0.1
"""Below this the poles are those of this gain: at 0 dB any poles would do, and they must not jump."""
_UPPERMOST = 0.4999
"""Of the sample rate: no centre lies above, where a moving filter has none."""

_KINDS = {
    Shape.BELL: SectionKind.BELL,
    Shape.LOW_SHELF: SectionKind.LOW_SHELF,
    Shape.HIGH_SHELF: SectionKind.HIGH_SHELF,
}


def in_steps(svf: Floats) -> Floats:
    """A filter as the kernel steps it: 2 a1 - 1, 2 a2, 2 a3, m0 - 1, m1 / 2, m2 / 2.

    The first three map the state; v1 and v2 are half the sum of a register's old and new value. All six are affine in
    the six of `svf_of`, so what lies straight between two of them does here, too.
    """
    return np.asarray(svf * np.array([2.0, 2.0, 2.0, 1.0, 0.5, 0.5]) - np.array([1.0, 0.0, 0.0, 1.0, 0.0, 0.0]))


def svf_of(section: Floats) -> Floats:
    """A section (b0, b1, b2, a1, a2) as a state-variable filter: a1, a2, a3, m0, m1, m2.

    The output is m0 x + m1 v1 + m2 v2, v1 being its band and v2 its low pass.
    """
    b0, b1, b2, a1, a2 = section
    top, bottom = max(1.0 - a1 + a2, 1e-30), max(1.0 + a1 + a2, 1e-30)
    g = (bottom / top) ** 0.5
    k = max(2.0 * (1.0 - a2) / (top * g), 0.0)
    first = 1.0 / (1.0 + g * (g + k))
    m0 = (b0 - b1 + b2) / top
    return np.array(
        [first, g * first, g * g * first, m0, 2.0 * (b0 - b2) / (top * g) - m0 * k, (b0 + b1 + b2) / bottom - m0]
    )


def design(kind: SectionKind, frequency_hz: float, q: float, gain_db: float, rate: float) -> Floats:
    """b0, b1, b2, a1, a2 of one fitted section."""
    out = np.empty(5)
    design_into(int(kind), rate, min(frequency_hz, _UPPERMOST * rate), q, gain_db, out)
    return out


def moving_table(move: DynamicMove, rate: float) -> Floats:
    """Coefficients, as `in_steps`, from the static gain of a move to the end of its range: (POINTS, 6)."""
    return _table(move.shape, move.frequency_hz, move.q, move.gain_db, move.range_db, rate)


@lru_cache(maxsize=256)
def _table(shape: Shape, frequency_hz: float, q: float, gain_db: float, range_db: float, rate: float) -> Floats:
    gains = gain_db + range_db * np.linspace(0.0, 1.0, POINTS)
    if range_db == 0.0:
        gains = gains[:1]
    if shape is Shape.BAND_PASS:
        rows = [_band_turned(gain, svf_of(design(SectionKind.BAND_PASS, frequency_hz, q, 0.0, rate))) for gain in gains]
    else:
        rows = [_gained(_KINDS[shape], frequency_hz, q, float(gain), rate) for gain in gains]
    table = in_steps(np.array(rows if len(rows) == POINTS else rows * POINTS))
    table.flags.writeable = False
    return table


def _band_turned(gain_db: float, band: Floats) -> Floats:
    """x + (10^(G/20) - 1) band(x)."""
    out = band.copy()
    out[3:] *= 10.0 ** (gain_db / 20.0) - 1.0
    out[3] += 1.0
    return out


def _gained(kind: SectionKind, frequency_hz: float, q: float, gain_db: float, rate: float) -> Floats:
    if abs(gain_db) >= _NEAR_DB:
        return svf_of(design(kind, frequency_hz, q, gain_db, rate))
    near = _NEAR_DB if gain_db >= 0.0 else -_NEAR_DB
    out = svf_of(design(kind, frequency_hz, q, near, rate))
    out[3:] *= gain_db / near
    out[3] += 1.0 - gain_db / near
    return out
