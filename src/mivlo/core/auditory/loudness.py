"""Specific loudness alone and in the presence of something else (Moore, Glasberg & Baer 1997).

Names follow the paper: E_SIG, E_NOISE, E_THRQ (threshold in quiet), K, G, A, alpha, C. One compressive function serves
both formulas; above an excitation of 100 dB it grows with the square root, as the paper has it.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit
from scipy.optimize import brentq

from mivlo.core.auditory.outer import efficiency, threshold_db
from mivlo.core.auditory.scale import BAND_HZ, BAND_STEP, BANDS
from mivlo.core.spectra import Singles

_C = 0.047 / 1.045
"""The paper's constant, less what our coarser bands and short windows add: 1 kHz at 40 dB SPL is 1 sone."""
_STEEP = 1.0e10
_STEEP_SCALE = 1.04e6
SONES_A_BAND = 2.0 * BAND_STEP
"""Sones that specific loudness of 1 in one band adds, for two ears that hear the same."""


def _alpha_of(gain_db: float) -> float:
    # figures of the paper (alpha as a function of G): values from memory
    return float(
        np.interp(
            gain_db, [-25.0, -20.0, -15.0, -10.0, -5.0, 0.0], [0.26692, 0.25016, 0.23679, 0.22228, 0.21055, 0.20000]
        )
    )


def _a_of(alpha: float, quiet: float) -> float:
    """A such that a sound at its threshold is equally loud at every frequency (the paper's condition)."""
    wanted = (2.0 * quiet + quiet) ** 0.2 - (2.0 * quiet) ** 0.2
    return float(brentq(lambda a: (quiet + a) ** alpha - a**alpha - wanted, 0.1, 100.0))


class _Bands(NamedTuple):
    """What the formulas need of every band; arrays (BANDS,) float32."""

    quiet: Singles
    k: Singles
    gain: Singles
    a: Singles
    alpha: Singles
    a_alpha: Singles
    at_threshold: Singles


def _bands() -> _Bands:
    quiet_db = threshold_db(BAND_HZ)
    gain_db = threshold_db(1000.0) - quiet_db
    gain = 10.0 ** (gain_db / 10.0)
    quiet = 10.0 ** (quiet_db / 10.0)
    alpha = np.array([_alpha_of(g) for g in gain_db])
    a = np.array([_a_of(x, float(g * q)) for x, g, q in zip(alpha, gain, quiet, strict=True)])
    single = np.float32
    return _Bands(
        quiet.astype(single), efficiency(BAND_HZ).astype(single), gain.astype(single), a.astype(single),
        alpha.astype(single), (a**alpha).astype(single), ((quiet * gain + a) ** alpha).astype(single),
    )  # fmt: skip


BAND_CONSTANTS = _bands()


@njit(cache=True, nogil=True, inline="always")
def _grown(e, b, c):  # type: ignore[no-untyped-def]
    """(G E + A)^alpha, and beyond 100 dB the square root that takes over."""
    if e > _STEEP:
        return c.a_alpha[b] + np.sqrt(e / np.float32(_STEEP_SCALE))
    return (c.gain[b] * e + c.a[b]) ** c.alpha[b]


@njit(cache=True, nogil=True)
def alone_at(e, b, c):  # type: ignore[no-untyped-def]
    """Specific loudness in sones per Cam, one ear, of excitation `e` at band `b`."""
    if e <= np.float32(1e-6):
        return np.float32(0.0)
    made = np.float32(_C) * (_grown(e, b, c) - c.a_alpha[b])
    if e < c.quiet[b]:
        x = np.float32(2.0) * e / (e + c.quiet[b])
        made *= x * np.sqrt(x)
    return made


@njit(cache=True, nogil=True)
def partial_at(signal, noise, b, c):  # type: ignore[no-untyped-def]
    """Specific partial loudness of `signal` in the presence of `noise`, excitations at band `b`."""
    if signal <= np.float32(1e-6):
        return np.float32(0.0)
    if noise <= np.float32(1e-4) * signal or noise <= np.float32(1e-3):
        return alone_at(signal, b, c)
    masked = c.k[b] * noise + c.quiet[b]
    both = _grown(signal + noise, b, c)
    floor = _grown(noise * (np.float32(1.0) + c.k[b]) + c.quiet[b], b, c)
    if signal >= masked:
        taken = (floor - c.at_threshold[b]) * (masked / signal) ** np.float32(0.3)
        made = np.float32(_C) * (both - c.a_alpha[b] - taken)
    else:
        under = _grown(noise, b, c)
        x = np.float32(2.0) * signal / (signal + masked)
        apart = max(floor - under, np.float32(1e-6))
        made = np.float32(_C) * x * np.sqrt(x) * (c.at_threshold[b] - c.a_alpha[b]) / apart * (both - under)
    return max(made, np.float32(0.0))


@njit(cache=True, nogil=True)
def _alone(e, c, out):  # type: ignore[no-untyped-def]
    for row in range(e.shape[0]):
        for b in range(BANDS):
            out[row, b] = alone_at(e[row, b], b, c)


@njit(cache=True, nogil=True)
def _partial(e, noise, c, out):  # type: ignore[no-untyped-def]
    for row in range(e.shape[0]):
        for b in range(BANDS):
            out[row, b] = partial_at(e[row, b], noise[row, b], b, c)


def specific_loudness(excitation: Singles) -> Singles:
    """Specific loudness of one ear in sones per Cam, (..., BANDS) of excitations (..., BANDS)."""
    flat = np.ascontiguousarray(excitation, dtype=np.float32).reshape(-1, BANDS)
    out = np.empty_like(flat)
    _alone(flat, BAND_CONSTANTS, out)
    return out.reshape(excitation.shape)


def partial_loudness(excitation: Singles, of_others: Singles) -> Singles:
    """Specific loudness of one ear in sones per Cam in the presence of others, (..., BANDS) of two excitations."""
    flat = np.ascontiguousarray(excitation, dtype=np.float32).reshape(-1, BANDS)
    noise = np.ascontiguousarray(of_others, dtype=np.float32).reshape(-1, BANDS)
    out = np.empty_like(flat)
    _partial(flat, noise, BAND_CONSTANTS, out)
    return out.reshape(excitation.shape)


def sones(specific: Singles) -> Singles:
    """Loudness in sones (...,) of specific loudness (..., BANDS) that both ears hear alike."""
    return np.asarray(SONES_A_BAND * np.sum(specific, axis=-1, dtype=np.float64), dtype=np.float32)
