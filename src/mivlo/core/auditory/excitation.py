"""Excitation along the ear: rounded-exponential filters whose lower skirt spreads with level.

B. R. Glasberg & B. C. J. Moore, Hearing Research 47, 1990 (formulas from memory).
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numba import njit

from mivlo.core.auditory.scale import BAND_HZ, BANDS, COMPONENT_HZ, COMPONENTS, COMPONENTS_A_BAND, erb_width_hz
from mivlo.core.spectra import Singles

_HIGHEST_DB = 120


@lru_cache(maxsize=1)
def _weights() -> Singles:
    """(COMPONENTS, 121, BANDS): what a component of a level in dB per ERB puts on every band, per unit of power.

    A filter at fc passes a component at f by (1 + p g) exp(-p g), g = |f - fc| / fc, p = 4 fc / ERB(fc). Below fc the
    slope depends on the level X of the component's own ERB: p - 0.35 (p / p at 1 kHz) (X - 51).
    """
    p = 4.0 * BAND_HZ / erb_width_hz(BAND_HZ)
    p_1k = 4.0 * 1000.0 / float(erb_width_hz(1000.0))
    g = (COMPONENT_HZ[:, None] - BAND_HZ) / BAND_HZ
    levels = np.arange(_HIGHEST_DB + 1.0)
    lower = p - 0.35 * (p / p_1k) * (levels[:, None] - 51.0)
    slope = np.where(g[:, None, :] < 0.0, np.maximum(lower, 1.0), p)
    x = slope * np.abs(g[:, None, :])
    return np.asarray((1.0 + x) * np.exp(-x), dtype=np.float32)


@njit(cache=True, nogil=True, fastmath=True)
def _spread(power, weights, gain, out):  # type: ignore[no-untyped-def]
    reach = COMPONENTS_A_BAND  # an ERB is one Cam: so many components to either side, the outermost by half
    total = np.empty(BANDS, dtype=np.float32)
    for row in range(power.shape[0]):
        total[:] = np.float32(0.0)
        for c in range(COMPONENTS):
            own = power[row, c] * gain
            if own < np.float32(1e-9):
                continue
            around = np.float32(0.0)
            for k in range(max(0, c - reach), min(COMPONENTS, c + reach + 1)):
                around += power[row, k] * (np.float32(0.5) if abs(k - c) == reach else np.float32(1.0))
            level = min(max(int(np.float32(10.0) * np.log10(around * gain) + np.float32(0.5)), 0), _HIGHEST_DB)
            spread = weights[c, level]
            for band in range(BANDS):
                total[band] += own * spread[band]
        out[row] = total


def excitation(power: Singles, *, full_scale_db: float) -> Singles:
    """Excitation of components.

    Parameters
    ----------
    power : (..., COMPONENTS) as `components` gives them.
    full_scale_db : the sound pressure level in dB SPL that a mean square of 1 stands for.

    Returns
    -------
    (..., BANDS) power relative to what a tone of 1 kHz at 0 dB SPL gives at its own place.
    """
    flat = np.ascontiguousarray(power, dtype=np.float32).reshape(-1, COMPONENTS)
    out = np.empty((flat.shape[0], BANDS), dtype=np.float32)
    _spread(flat, _weights(), np.float32(10.0 ** (full_scale_db / 10.0)), out)
    return out.reshape(*power.shape[:-1], BANDS)
