"""Excitation along the ear: rounded-exponential filters whose lower skirt spreads with level.

B. R. Glasberg & B. C. J. Moore, Hearing Research 47, 1990 (formulas from memory).
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import numpy.typing as npt
from numba import njit

from mivlo.core.auditory.scale import BAND_HZ, BANDS, COMPONENT_HZ, COMPONENTS, COMPONENTS_A_BAND
from mivlo.core.spectra import Singles
from mivlo.core.units import erb_hz

_HIGHEST_DB = 120


@lru_cache(maxsize=1)
def _weights() -> Singles:
    """(COMPONENTS, 121, BANDS): what a component of a level in dB per ERB puts on every band, per unit of power.

    A filter at fc passes a component at f by (1 + p g) exp(-p g), g = |f - fc| / fc, p = 4 fc / ERB(fc). Below fc the
    slope depends on the level X of the component's own ERB: p - 0.35 (p / p at 1 kHz) (X - 51).
    """
    p = 4.0 * BAND_HZ / erb_hz(BAND_HZ)
    p_1k = 4.0 * 1000.0 / float(erb_hz(1000.0))
    g = (COMPONENT_HZ[:, None] - BAND_HZ) / BAND_HZ
    levels = np.arange(_HIGHEST_DB + 1.0)
    lower = p - 0.35 * (p / p_1k) * (levels[:, None] - 51.0)
    slope = np.where(g[:, None, :] < 0.0, np.maximum(lower, 1.0), p)
    x = slope * np.abs(g[:, None, :])
    return np.asarray((1.0 + x) * np.exp(-x), dtype=np.float32)


_NOTHING = 1e-11  # of a component: less does not reach a threshold in quiet even at 110 dB


@lru_cache(maxsize=1)
def _reach() -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """(COMPONENTS, 121) from and up to which band a component of a level reaches."""
    there = _weights() > _NOTHING
    return there.argmax(axis=2), BANDS - there[:, :, ::-1].argmax(axis=2)


@njit(cache=True, nogil=True, fastmath=True)
def _spread(power, weights, first, last, gain, out):  # type: ignore[no-untyped-def]
    reach = COMPONENTS_A_BAND  # an ERB is one Cam: so many components to either side, the outermost by half
    levels = np.empty(COMPONENTS, dtype=np.int64)
    for row in range(power.shape[0]):
        out[row, :] = 0.0
        for c in range(COMPONENTS):
            around = np.float32(0.0)
            for k in range(max(0, c - reach), min(COMPONENTS, c + reach + 1)):
                around += power[row, k] * (np.float32(0.5) if abs(k - c) == reach else np.float32(1.0))
            # the bits of a float are its logarithm; a parabola makes it so between powers of two, within 0.04 dB
            bits = np.float32(max(around * gain, np.float32(1.0))).view(np.int32)
            part = np.float32(bits & 0x7FFFFF) * np.float32(1.0 / 0x800000)
            octaves = np.float32((bits >> 23) - 127) + part + np.float32(0.34) * part * (np.float32(1.0) - part)
            levels[c] = min(int(octaves * np.float32(3.0103) + np.float32(0.5)), _HIGHEST_DB)
        for c in range(COMPONENTS):
            own = power[row, c] * gain
            if own < np.float32(1e-9):
                continue
            level = levels[c]
            for band in range(first[c, level], last[c, level]):
                out[row, band] += own * weights[c, level, band]


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
    _spread(flat, _weights(), *_reach(), np.float32(10.0 ** (full_scale_db / 10.0)), out)
    return out.reshape(*power.shape[:-1], BANDS)
