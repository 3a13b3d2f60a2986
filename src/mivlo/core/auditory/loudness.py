"""Specific loudness alone and in the presence of something else (Moore, Glasberg & Baer 1997).

Names follow the paper: E_SIG, E_NOISE, E_THRQ (threshold in quiet), K, G, A, alpha, C. One compressive function serves
both formulas; above an excitation of 100 dB it grows with the square root, as the paper has it.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from mivlo.core.auditory.outer import efficiency, threshold_db
from mivlo.core.auditory.scale import BAND_HZ, BAND_STEP, BANDS
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats

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
    low, high = 0.1, 100.0
    for _ in range(60):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if (quiet + middle) ** alpha - middle**alpha > wanted else (low, middle)
    return low


_LOWEST, _HIGHEST, _STEPS = -20, 46, 64
_SHIFT = 23 - 6
_MASK = (1 << _SHIFT) - 1
_FIRST = (127 + _LOWEST) * _STEPS
_LEAST, _MOST = 2.0**_LOWEST, 2.0 ** (_HIGHEST - 1)


def _nodes() -> Floats:
    """Where the tables have their steps: each octave in straight steps."""
    octave, step = np.divmod(np.arange((_HIGHEST - _LOWEST) * _STEPS), _STEPS)
    return np.asarray(2.0 ** (octave + _LOWEST) * (1.0 + step / _STEPS))


_QUIET, _K, _A_ALPHA, _AT_THRESHOLD, _NUMBERS = range(5)


def _tables() -> Singles:
    """(BANDS + 1, 4 + steps): of each band four numbers and its compressive function; in the last row x^0.3.

    One array, since compiled code counts the references of each that it passes on.
    """
    quiet_db = threshold_db(BAND_HZ)
    gain_db = threshold_db(1000.0) - quiet_db
    gain, quiet = 10.0 ** (gain_db / 10.0), 10.0 ** (quiet_db / 10.0)
    alpha = np.array([_alpha_of(g) for g in gain_db])
    a = np.array([_a_of(x, float(g * q)) for x, g, q in zip(alpha, gain, quiet, strict=True)])
    e = _nodes()
    out = np.zeros((BANDS + 1, _NUMBERS + len(e)))
    out[:BANDS, _QUIET], out[:BANDS, _K] = quiet, efficiency(BAND_HZ)
    out[:BANDS, _A_ALPHA], out[:BANDS, _AT_THRESHOLD] = a**alpha, (quiet * gain + a) ** alpha
    grown = (gain[:, None] * e + a[:, None]) ** alpha[:, None]
    steep = (a**alpha)[:, None] + np.sqrt(e / _STEEP_SCALE)
    out[:BANDS, _NUMBERS:] = np.where(e > _STEEP, steep, grown)
    out[BANDS, _NUMBERS:] = e**0.3
    return out.astype(np.float32)


TABLES = _tables()


@njit(cache=True, nogil=True)
def _between(tables, row, x):  # type: ignore[no-untyped-def]
    """A function of a table at `x`, straight between its steps.

    The bits of a float are its logarithm, straight within each octave: no logarithm has to be taken.
    """
    bits = np.float32(min(max(x, np.float32(_LEAST)), np.float32(_MOST))).view(np.int32)
    at = (bits >> _SHIFT) - _FIRST + _NUMBERS
    part = np.float32(bits & _MASK) * np.float32(1.0 / (_MASK + 1))
    low = tables[row, at]
    return low + part * (tables[row, at + 1] - low)


@njit(cache=True, nogil=True)
def alone_at(e, b, tables):  # type: ignore[no-untyped-def]
    """Specific loudness in sones per Cam, one ear, of excitation `e` at band `b`."""
    if e <= np.float32(1e-6):
        return np.float32(0.0)
    made = np.float32(_C) * (_between(tables, b, e) - tables[b, _A_ALPHA])
    quiet = tables[b, _QUIET]
    if e < quiet:
        x = np.float32(2.0) * e / (e + quiet)
        made *= x * np.sqrt(x)
    return made


@njit(cache=True, nogil=True)
def partial_at(signal, noise, b, tables):  # type: ignore[no-untyped-def]
    """Specific partial loudness of `signal` in the presence of `noise`, excitations at band `b`."""
    if signal <= np.float32(1e-6):
        return np.float32(0.0)
    if noise <= np.float32(1e-4) * signal or noise <= np.float32(1e-3):
        return alone_at(signal, b, tables)
    k, a_alpha, at_threshold = tables[b, _K], tables[b, _A_ALPHA], tables[b, _AT_THRESHOLD]
    masked = k * noise + tables[b, _QUIET]
    both = _between(tables, b, signal + noise)
    floor = _between(tables, b, masked + noise)
    if signal >= masked:
        taken = (floor - at_threshold) * _between(tables, BANDS, masked / signal)
        made = np.float32(_C) * (both - a_alpha - taken)
    else:
        under = _between(tables, b, noise)
        x = np.float32(2.0) * signal / (signal + masked)
        apart = max(floor - under, np.float32(1e-6))
        made = np.float32(_C) * x * np.sqrt(x) * (at_threshold - a_alpha) / apart * (both - under)
    return max(made, np.float32(0.0))


@njit(cache=True, nogil=True)
def _alone(e, tables, out):  # type: ignore[no-untyped-def]
    for row in range(e.shape[0]):
        for b in range(BANDS):
            out[row, b] = alone_at(e[row, b], b, tables)


@njit(cache=True, nogil=True)
def _partial(e, noise, tables, out):  # type: ignore[no-untyped-def]
    for row in range(e.shape[0]):
        for b in range(BANDS):
            out[row, b] = partial_at(e[row, b], noise[row, b], b, tables)


def specific_loudness(excitation: Singles) -> Singles:
    """Specific loudness of one ear in sones per Cam, (..., BANDS) of excitations (..., BANDS)."""
    flat = np.ascontiguousarray(excitation, dtype=np.float32).reshape(-1, BANDS)
    out = np.empty_like(flat)
    _alone(flat, TABLES, out)
    return out.reshape(excitation.shape)


def partial_loudness(excitation: Singles, of_others: Singles) -> Singles:
    """Specific loudness of one ear in sones per Cam in the presence of others, (..., BANDS) of two excitations."""
    flat = np.ascontiguousarray(excitation, dtype=np.float32).reshape(-1, BANDS)
    noise = np.ascontiguousarray(of_others, dtype=np.float32).reshape(-1, BANDS)
    out = np.empty_like(flat)
    _partial(flat, noise, TABLES, out)
    return out.reshape(excitation.shape)


def sones(specific: Singles) -> Singles:
    """Loudness in sones (...,) of specific loudness (..., BANDS) that both ears hear alike."""
    return np.asarray(SONES_A_BAND * np.sum(specific, axis=-1, dtype=np.float64), dtype=np.float32)
