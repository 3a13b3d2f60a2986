"""What stands out: a first version.

Peaks of the long-term spectrum over its own smoothed contour. It takes strong repeated notes for
resonances and says so by a low confidence; better analysis is meant to replace it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.signal import find_peaks, peak_widths

from mivlo.core.moves import HIGHEST_Q, Move, Shape
from mivlo.core.spectra import POINTS_PER_OCTAVE, LongTermSpectrum, log_grid
from mivlo.core.units import octaves_to_q

_LEAST_EXCESS_DB = 4.0
_DEEPEST_DB = 15.0


@dataclass(frozen=True, slots=True)
class Finding:
    """Something that stands out, and the move that would bring it to its surroundings."""

    kind: str
    frequency_hz: float
    bandwidth_oct: float
    excess_db: float
    confidence: float
    move: Move


def find(samples: npt.ArrayLike, *, sample_rate: float, most: int = 8) -> list[Finding]:
    """Peaks of the long-term spectrum (1/24 octave) over its contour (1 octave), strongest first.

    samples : (n, channels). At most `most` findings between 40 Hz and 16 kHz (or 0.45 of the rate).
    """
    x = np.asarray(samples, dtype=np.float64)
    if not len(x):
        return []
    spectrum = LongTermSpectrum(sample_rate, x.shape[1])
    spectrum.add(x)
    grid = log_grid(low_hz=40.0, high_hz=min(16_000.0, 0.45 * sample_rate))
    fine = spectrum.levels(grid, bands_per_octave=24)
    contour = spectrum.levels(grid, bands_per_octave=1) - 10.0 * np.log10(24.0)
    excess = np.where(fine > -100.0, fine - contour, 0.0)
    peaks, shape = find_peaks(excess, height=_LEAST_EXCESS_DB, prominence=_LEAST_EXCESS_DB)
    widths = peak_widths(excess, peaks, rel_height=0.5)[0]
    order = np.argsort(shape["peak_heights"])[::-1][:most]
    return [_finding(float(grid[peaks[i]]), float(widths[i]), float(shape["peak_heights"][i])) for i in order]


def _finding(frequency_hz: float, width_points: float, excess_db: float) -> Finding:
    octaves = max(width_points / POINTS_PER_OCTAVE, 0.05)
    q = min(octaves_to_q(octaves), HIGHEST_Q)
    # one average can't tell a resonance from a repeated note: never more than an even chance
    confidence = round(min(0.5, excess_db / 40.0), 3)
    move = Move(Shape.BELL, frequency_hz, q=q, gain_db=-min(excess_db, _DEEPEST_DB))
    return Finding("ring", frequency_hz, octaves, excess_db, confidence, move)
