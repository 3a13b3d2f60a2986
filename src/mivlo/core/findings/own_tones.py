"""Tones that belong to the instrument or the room: a drum's own ring, an open string that drones, a favoured note.

They are lines, not faults of a recording: where one lies the power of a band is in a hertz or two, it stands at the
same place whatever is played, and it rings on for longer than any resonance of the width that can be seen there.
Engineers notch them on drums all the same, so they are never silently dropped: each is told with its note, its ring
time and how it lies to the fundamental, and with the cut that fits a line. Depths are common practice, no source: 4 to
8 dB on drums, 1 to 3 dB on what plays notes.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import median_filter

from mivlo.core.findings.contours import contour_of
from mivlo.core.findings.decays import Decay, WholeSpectrum, measure_decay
from mivlo.core.findings.frames import POINTS_PER_OCTAVE, finding_grid
from mivlo.core.findings.peaks import find_peaks
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.roles import Role
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats, hz_to_note

STRUCK = frozenset({Role.DRUMS, Role.PERCUSSION})
MOST = 6
_AROUND = POINTS_PER_OCTAVE // 3
_LEAST_OVER_DB = 8.0
_LOOKED_OCT = 1.0 / 12.0
_LEAST_PEAK_SHARE = 0.5
_LEAST_LINE_SHARE = 0.5
_DRONE_PEAK_SHARE = 0.8
_LEAST_RING_S, _LEAST_RING_Q = 0.2, 60.0
SURELY_A_LINE_Q = 160.0
"""A bell of gain G dB and quality Q rings like a filter of Q · 10^(G/40): the narrowest and highest trouble that was
learnt from (Q 51, 19 dB) like one of 153. What rings longer is a line; from 60 on it may be one."""
_TIMES_BESIDE = 1.5
_BESIDE_OCT = (-0.3, -0.17, 0.17, 0.3)
_LINE_HZ = 1.5
_HARMONIC_CENTS = 15.0
_MOST_SPREAD_CENTS = 8.0
_FUNDAMENTAL_TO_HZ = 500.0
_LOWEST_Q, _HIGHEST_Q, _DRONE_Q = 10.0, 60.0, 30.0
_LOWEST_OF_ALL_DB = 45.0
"""What is further below the loudest line is not heard as one."""


@dataclass(frozen=True, slots=True)
class Line:
    """A tone that stands still.

    frequency_hz : of its decays' phase where they agree. over_db : over the median of a third octave on each side.
    peak_share : share of the sounding time in which the place is a local peak.
    """

    frequency_hz: float
    over_db: float
    peak_share: float
    level_db: float
    decay: Decay | None

    @property
    def ring_q(self) -> float:
        """Q of a filter that rings as long (T60 = 2.2 Q / f); 0 where no decay was seen."""
        return 0.0 if self.decay is None else self.frequency_hz * self.decay.ring_s / 2.2

    @property
    def q(self) -> float:
        """Of a cut as narrow as the line: half as selective as a filter that rings as long."""
        return float(np.clip(self.ring_q / 2.0, _LOWEST_Q, _HIGHEST_Q)) if self.decay is not None else _DRONE_Q


def lines_of(contours: Singles, spectrum: WholeSpectrum, *, highest_hz: float) -> list[Line]:
    """Peaks of the long-term level that hold their band's power in a line, lowest first."""
    grid = finding_grid()
    level = contour_of(contours, "long_mean_power")
    shares = contour_of(contours, "long_peak_share") / 20.0
    over: Floats = level - median_filter(level, 2 * _AROUND + 1, mode="nearest")
    out = []
    for i in find_peaks(np.pad(over, 1, constant_values=-200.0), height=_LEAST_OVER_DB, distance=4) - 1:
        if grid[i] > highest_hz or level[i] < np.max(level) - _LOWEST_OF_ALL_DB:
            continue
        near = slice(max(0, i - 1), i + 2)
        decay = measure_decay(spectrum, float(grid[i]), _LOOKED_OCT)
        told = decay is not None and decay.frequency_hz > 0.0 and decay.spread_cents <= _MOST_SPREAD_CENTS
        hz = decay.frequency_hz if told and decay is not None else float(grid[i])
        if abs(math.log2(hz / grid[i])) > _LOOKED_OCT / 2.0:
            hz = float(grid[i])
        out.append(Line(hz, float(over[i]), float(min(1.0, np.sum(shares[near]))), float(level[i]), decay))
    return out


def fundamental_of(lines: Sequence[Line], role: Role | None) -> Line | None:
    """The lowest strong line of something struck, below 500 Hz; what plays notes has many."""
    if role not in STRUCK:
        return None
    low = [line for line in lines if line.frequency_hz < _FUNDAMENTAL_TO_HZ]
    strong = [line for line in low if line.level_db > max(x.level_db for x in low) - 12.0]
    return min(strong, key=lambda line: line.frequency_hz, default=None)


def own_tones(lines: Sequence[Line], spectrum: WholeSpectrum, fundamental: Line | None) -> list[Line]:
    """Those that stand still and ring as only a line can, without the fundamental; what stands out most first."""
    out: list[Line] = []
    for line in lines:
        if fundamental is not None and abs(math.log2(line.frequency_hz / fundamental.frequency_hz)) < _LOOKED_OCT:
            continue
        if any(_is_harmonic(line, lower) for lower in out):
            continue
        rings = line.decay is not None and line.decay.spread_cents <= _MOST_SPREAD_CENTS
        if _rings_as_a_line(line, spectrum) if rings else _never_stops(line, spectrum):
            out.append(line)
    return sorted(out, key=lambda line: -line.over_db)[:MOST]


def _rings_as_a_line(line: Line, spectrum: WholeSpectrum) -> bool:
    decay = line.decay
    assert decay is not None
    if line.peak_share < _LEAST_PEAK_SHARE or decay.ring_s < _LEAST_RING_S or line.ring_q < _LEAST_RING_Q:
        return False
    beside = [measure_decay(spectrum, line.frequency_hz * 2.0**by, _LOOKED_OCT) for by in _BESIDE_OCT]
    # what rings beside at the line's own frequency is the line
    rings = [d.ring_s for d in beside if d is not None and not _is_of(d, line)]
    if rings and decay.ring_s < _TIMES_BESIDE * float(np.median(rings)):
        return False
    wide = max(_LINE_HZ, 3.0 * 2.2 / decay.ring_s)  # a line that dies away is not infinitely thin
    return spectrum.line_share(line.frequency_hz, 2.0 * _LOOKED_OCT, wide) >= _LEAST_LINE_SHARE


def _is_of(decay: Decay, line: Line) -> bool:
    return decay.frequency_hz > 0.0 and abs(math.log2(decay.frequency_hz / line.frequency_hz)) < _LOOKED_OCT / 2.0


def _never_stops(line: Line, spectrum: WholeSpectrum) -> bool:
    """A line that is there nearly all the time and falls too slowly for a ring time."""
    if line.decay is not None or line.peak_share < _DRONE_PEAK_SHARE:
        return False
    return spectrum.line_share(line.frequency_hz, 2.0 * _LOOKED_OCT, _LINE_HZ) >= _LEAST_LINE_SHARE


def _is_harmonic(line: Line, lower: Line) -> bool:
    ratio = line.frequency_hz / lower.frequency_hz
    return round(ratio) >= 2 and abs(1200.0 * math.log2(ratio / round(ratio))) < _HARMONIC_CENTS


def offered_cut(line: Line, role: Role | None) -> StaticMove:
    """As narrow as the line; on what is struck 4 to 8 dB deep, on what plays notes 1 to 3 dB."""
    depth = np.clip(line.over_db / 3.0, 4.0, 8.0) if role in STRUCK else np.clip(line.over_db / 8.0, 1.0, 3.0)
    return StaticMove(Shape.BELL, line.frequency_hz, q=round(line.q, 2), gain_db=-round(float(depth), 2))


def relation(line: Line, fundamental: Line | None) -> str:
    """How it lies to the fundamental, in words."""
    if fundamental is None:
        return ""
    note = hz_to_note(fundamental.frequency_hz)
    ratio = line.frequency_hz / fundamental.frequency_hz
    return f"{ratio:.2f} × the fundamental, {fundamental.frequency_hz:.0f} Hz ({note.name}{note.octave})"


def why(line: Line) -> str:
    """Why it is no fault, in a sentence."""
    if line.decay is None:
        return "A tone of its own, no fault of the recording: it drones on at one place, whatever is played."
    return "A tone of its own, no fault of the recording: it stays in place and rings on as only a line does."
