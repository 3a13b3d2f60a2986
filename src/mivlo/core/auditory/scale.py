"""The ear's frequency scale: bands that are evenly spaced in ERB numbers (Cams).

Two grids. Components are what a short-time spectrum is gathered into, a quarter of a Cam wide; bands are the places of
the ear at which excitation and loudness are computed, half a Cam apart, from 1.75 to 38.75 Cams (Glasberg & Moore 1990;
range as in Moore, Glasberg & Baer 1997).
"""

from __future__ import annotations

import numpy as np

from mivlo.core.units import Floats, from_erb_number

BAND_STEP = 0.5
"""Distance of neighbouring bands in Cams: what specific loudness is summed with."""
COMPONENTS_A_BAND = 2

_LOWEST_CAM, _HIGHEST_CAM = 1.75, 38.75


BAND_CAMS: Floats = np.arange(_LOWEST_CAM, _HIGHEST_CAM + 1e-9, BAND_STEP)
BAND_HZ: Floats = from_erb_number(BAND_CAMS)
"""(75,) centres of the bands, Hz."""
BANDS = BAND_CAMS.size

_COMPONENT_STEP = BAND_STEP / COMPONENTS_A_BAND
_FIRST_EDGE = _LOWEST_CAM - 1.0
COMPONENTS = round((_HIGHEST_CAM + 0.5 - _FIRST_EDGE) / _COMPONENT_STEP)
COMPONENT_EDGES_HZ: Floats = from_erb_number(_FIRST_EDGE + _COMPONENT_STEP * np.arange(COMPONENTS + 1))
"""(155,) edges of the components, Hz, from 19 Hz to 14.5 kHz."""
COMPONENT_HZ: Floats = from_erb_number(_FIRST_EDGE + _COMPONENT_STEP * (np.arange(COMPONENTS) + 0.5))
"""(154,) centres of the components, Hz."""


def edges_of(first: int, last: int) -> tuple[float, float]:
    """The frequencies in Hz between which the bands `first` to `last` lie, half a step beyond either."""
    low, high = BAND_CAMS[first] - BAND_STEP / 2, BAND_CAMS[last] + BAND_STEP / 2
    return float(from_erb_number(low)), float(from_erb_number(high))
