"""Evidence at every frequency: what a pointer or a probe reads wherever it is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from mivlo.core.findings.contours import CONTOURS, contour_of
from mivlo.core.findings.decays import NARROWEST_OCT, WholeSpectrum, measure_decay
from mivlo.core.findings.frames import POINTS_PER_OCTAVE, finding_grid
from mivlo.core.findings.network import Reading
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats

_STEP = POINTS_PER_OCTAVE // 12


@dataclass(frozen=True, slots=True)
class Along:
    """Arrays over `hz`, 12 values an octave.

    excess_db : level over that of the surroundings (1/3 octave on each side).
    share : share of the sounding time in which the place is a local peak.
    fixed_db : boost that stays at this frequency, as the analysis expects it; 0 where there is none.
    ring_ms : time for 60 dB after the sound that excites it; 0 where no free decay was seen.
    """

    hz: Floats
    excess_db: Floats
    share: Floats
    fixed_db: Floats
    ring_ms: Floats


def measure_along(contours: Singles, reading: Reading, spectrum: WholeSpectrum, highest_hz: float) -> Along:
    """From the contours (contours, grid), their reading and the sound's transform; up to `highest_hz`."""
    grid = finding_grid()
    at = np.arange(0, int(np.searchsorted(grid, highest_hz)), _STEP)
    level = contour_of(contours, "mean_power")
    peak_share = contours[CONTOURS.index("peak_share")] / 20.0
    near = POINTS_PER_OCTAVE // 3
    excess = np.empty(len(at))
    share = np.empty(len(at))
    for k, i in enumerate(at):
        here = slice(max(0, i - _STEP // 2), i + _STEP // 2 + 1)
        around = np.r_[level[max(0, i - near) : here.start], level[here.stop : i + near + 1]]
        excess[k] = np.max(level[here]) - 10.0 * np.log10(np.mean(10.0 ** (around / 10.0)))
        share[k] = np.max(peak_share[here])
    fixed = reading.boost_db + reading.hump_db
    rings = [measure_decay(spectrum, float(f), NARROWEST_OCT) for f in grid[at]]
    return Along(
        hz=grid[at],
        excess_db=excess,
        share=share,
        fixed_db=np.array([np.max(fixed[max(0, i - _STEP // 2) : i + _STEP // 2 + 1]) for i in at]),
        ring_ms=np.array([0.0 if d is None else 1000.0 * d.ring_s for d in rings]),
    )
