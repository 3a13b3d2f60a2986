"""Tracks that carry the same source: two microphones, spill."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations

import numpy as np
from scipy import fft as scipy_fft

from mivlo.core.units import Floats

SAME = 0.5
"""So alike are the low ends of two tracks that carry the same source (highest correlation over all delays)."""
_LOW_HZ = 400.0
_LATEST_S = 0.03  # ten metres of air
_LONGEST_S = 60.0


def low_end(samples: Floats, *, sample_rate: float) -> Floats:
    """(n,) what lies below 400 Hz of samples (n, channels), at 800 Hz; at most a minute from the middle."""
    x = np.asarray(samples, dtype=np.float64)
    spare = max(0, len(x) - round(_LONGEST_S * sample_rate))
    x = x[spare // 2 : len(x) - (spare - spare // 2)].mean(axis=1)
    kept = round(len(x) / sample_rate * 2.0 * _LOW_HZ)
    if kept < 2:
        return np.zeros(0)
    spectrum = scipy_fft.rfft(x)[: kept // 2 + 1]
    return np.asarray(scipy_fft.irfft(spectrum, kept))


FAINT = 0.01
"""What is so far below the other in power can't turn anything against it that is heard: at most 0.9 dB."""


def same_sources(lows: Sequence[Floats]) -> list[tuple[int, int]]:
    """Pairs of tracks whose low ends (n,) are alike at some delay of at most 30 ms; `low_end` makes them.

    Both must carry them: a track that holds a faint trace of another's lows is none.
    """
    length = max((len(x) for x in lows), default=0)
    size = scipy_fft.next_fast_len(2 * length + 1, real=True)
    spectra = [scipy_fft.rfft(x, size) for x in lows]
    power = [float(np.sum(x**2)) for x in lows]
    latest = round(_LATEST_S * 2.0 * _LOW_HZ)
    found = []
    for a, b in combinations(range(len(lows)), 2):
        if min(power[a], power[b]) <= FAINT * max(power[a], power[b]):
            continue
        alike = scipy_fft.irfft(spectra[a] * np.conj(spectra[b]), size)
        near = np.concatenate([alike[: latest + 1], alike[-latest:]])
        if np.max(np.abs(near)) > SAME * (power[a] * power[b]) ** 0.5:
            found.append((a, b))
    return found
