"""Filters of static moves with another phase than their own: linear, or that of the analogue prototypes.

Linear: the magnitude of the cascade, at no phase at all, as an odd number of taps around their middle.

Analogue: the sections as they are, and behind them a short filter that turns what is left between them and the
prototypes: H_analogue / H_digital up to KEPT of the sample rate, led to a real value at half of it, where it has to be
one. It needs taps ahead of its middle, so it is late by half of its length.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import lru_cache

import numpy as np
from scipy import fft

from mivlo.core.filters import SectionKind, analogue_response, response
from mivlo.core.kernels import run_steady
from mivlo.core.moves import FixedMove, plan_sections, treatment_sections
from mivlo.core.units import Floats, db_to_gain

LONGEST_TAPS = 65_535
SHORTEST_TAPS = 1_023
ERROR_DB = 0.1
"""What taps may miss the curve by, wherever it is above LOWEST_DB."""
LOWEST_DB = -40.0
CORRECTION_TAPS = 767
KEPT = 0.46
"""Of the sample rate: up to here the analogue phase is met."""
_MOST_CORRECTED = 4.0
_GRID = 1 << 18


@lru_cache(maxsize=8)
def _without_phase(moves: tuple[FixedMove, ...], sample_rate: float) -> tuple[Floats, Floats, float]:
    """From its middle on, the impulse that has the magnitude of the moves; what is left out from each frame on; and
    the lowest magnitude. One is asked for several numbers of taps."""
    hz = fft.rfftfreq(_GRID, 1.0 / sample_rate)
    magnitude = np.abs(response(treatment_sections(moves, sample_rate=sample_rate), hz, sample_rate=sample_rate))
    half = fft.irfft(magnitude, _GRID)[: _GRID // 2]
    return half, 2.0 * np.cumsum(np.abs(half[::-1]))[::-1], float(magnitude.min())


@lru_cache(maxsize=64)
def linear_taps(moves: tuple[FixedMove, ...], sample_rate: float, least: int = SHORTEST_TAPS) -> Floats:
    """Taps of linear phase with the magnitude of the moves: (m,), m odd, the middle one at (m - 1) / 2.

    As many as it takes to meet the curve within ERROR_DB where it is above LOWEST_DB, at least `least` and at most
    LONGEST_TAPS. A curve is missed by no more than the sum of what is left out.
    """
    half, left_out, lowest = _without_phase(moves, sample_rate)
    allowed = max(lowest, 10.0 ** (LOWEST_DB / 20.0)) * (10.0 ** (ERROR_DB / 20.0) - 1.0)
    taps = least
    while taps < LONGEST_TAPS and left_out[(taps + 1) // 2] > 0.8 * allowed:
        taps = 2 * taps + 1
    arm = taps // 2
    out = np.concatenate([half[arm:0:-1], half[: arm + 1]])
    fade = max(1, taps // 32)
    edge = 0.5 - 0.5 * np.cos(np.pi * (np.arange(fade) + 0.5) / fade)
    out[:fade] *= edge
    out[-fade:] *= edge[::-1]
    out.flags.writeable = False
    return out


def minimum_impulse(moves: Sequence[FixedMove], sample_rate: float) -> Floats:
    """Impulse response of the moves as they are, of minimum phase: (m,), to where it stays below -180 dB."""
    out = np.zeros((LONGEST_TAPS + 1, 1))
    out[0] = 1.0
    sections = treatment_sections(moves, sample_rate=sample_rate)
    coefs = np.ascontiguousarray(sections[:, [0, 1, 2, 4, 5]])
    run_steady(out, coefs, np.zeros((len(coefs), 1, 4)))
    heard = np.flatnonzero(np.abs(out[:, 0]) > 1e-9)
    return np.asarray(out[: int(heard[-1]) + 1 if len(heard) else 1, 0])


def rings_before_s(taps: Floats, sample_rate: float, *, below_db: float = -40.0) -> float:
    """How long a filter rings before a hit: from where taps come within `below_db` of the loudest but the middle."""
    beside = np.abs(taps).copy()
    beside[len(taps) // 2] = 0.0
    loud = np.flatnonzero(beside > max(float(beside.max()), 1e-12) * 10.0 ** (below_db / 20.0))
    return float(len(taps) // 2 - loud[0]) / sample_rate if len(loud) else 0.0


@lru_cache(maxsize=4096)
def linear_rings_before_s(moves: tuple[FixedMove, ...], sample_rate: float) -> float:
    """How long these moves ring before a hit with linear phase."""
    return rings_before_s(linear_taps(moves, sample_rate), sample_rate)


def prototype_response(
    moves: Sequence[FixedMove], at_hz: Floats
) -> np.ndarray[tuple[int, ...], np.dtype[np.complex128]]:
    """Complex response of the analogue prototypes of all moves."""
    out = np.ones(len(at_hz), dtype=np.complex128)
    for move in moves:
        level_db, made_of = move.made_of
        out *= db_to_gain(level_db)
        for part in made_of:
            for plan in plan_sections(part.shape, part.slope_db_per_octave):
                out *= analogue_response(
                    SectionKind(plan.kind), part.frequency_hz, at_hz, q=plan.q(part.q), gain_db=part.gain_db
                )
    return out


@lru_cache(maxsize=64)
def analogue_taps(moves: tuple[FixedMove, ...], sample_rate: float) -> Floats:
    """Taps that turn the sections of the moves into their prototypes: (CORRECTION_TAPS,), around their middle."""
    size = 1 << 14
    hz = fft.rfftfreq(size, 1.0 / sample_rate)
    kept = hz <= KEPT * sample_rate
    at = np.maximum(hz[kept], 1e-3)
    digital = response(treatment_sections(moves, sample_rate=sample_rate), at, sample_rate=sample_rate)
    wanted = prototype_response(moves, at)
    usable = np.abs(digital) > 1e-6
    ratio = np.where(usable, wanted / np.where(usable, digital, 1.0), 1.0)
    height = np.clip(np.abs(ratio), 1.0 / _MOST_CORRECTED, _MOST_CORRECTED)
    phase = np.unwrap(np.angle(ratio))
    last = len(at) - 1
    ending = math.pi * round(phase[last] / math.pi)  # half of the rate has to be real
    share = (np.arange(len(hz) - last) / max(len(hz) - 1 - last, 1))[1:]
    way = share * share * (3.0 - 2.0 * share)
    slope = phase[last] - phase[last - 1]
    tail = phase[last] + slope * np.arange(1, len(share) + 1)
    target = np.concatenate([height * np.exp(1j * phase), height[last] * np.exp(1j * (tail + (ending - tail) * way))])
    whole = fft.irfft(target, size)
    arm = CORRECTION_TAPS // 2
    out = np.concatenate([whole[-arm:], whole[: arm + 1]]) * np.kaiser(CORRECTION_TAPS, 5.0)
    out.flags.writeable = False
    return out
