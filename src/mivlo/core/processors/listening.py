"""What a dynamic move hears: the key's band, and how its level is read.

A level has to be read without ripple, or a steady tone would be distorted by its own gain. The band is split by two
allpasses of first order with corners a factor 1 + sqrt(2) below and above its centre: their outputs are a quarter of a
period apart there (and stay within 4 degrees of it over half an octave to either side), so the sum of their squares is
the square of the amplitude at every moment. Over any sound its mean is twice the mean square of the band: a sine of
amplitude a reads 20 log10(a) dBFS (AES17).
"""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np

from mivlo.core.filters import SectionKind, response
from mivlo.core.moves import DynamicMove, KeyShape, Shape, butterworth_qualities, key_band
from mivlo.core.processors.moving import design
from mivlo.core.units import Floats

SECTIONS = 2
"""Sections of a key's band, where it needs fewer one does nothing."""
HIGHEST_CENTRE = 0.45
"""Of the sample rate: nothing is centred above."""
TOTAL_S, TOTAL_RISE_S = 0.1, 0.01
"""The level over all frequencies falls and rises with these; it rises quickly, or every onset would stand out."""
_SPLIT = 1.0 + math.sqrt(2.0)
_AVERAGE_PERIODS = 0.5
_LONGEST_AVERAGE_S = 0.005
NOTHING = np.array([1.0, 0.0, 0.0, 0.0, 0.0])
"""A section that does nothing."""


@lru_cache(maxsize=256)
def band_sections(shape: KeyShape | Shape, frequency_hz: float, q: float, rate: float) -> tuple[Floats, float]:
    """Sections of a key's band, (SECTIONS, 5), with unit gain at its centre, and that centre in Hz.

    A shelf listens to what lies on its side of its frequency (Butterworth of second order), its centre is two octaves
    inside; a low or high part has sides of 24 dB an octave.
    """
    top = HIGHEST_CENTRE * rate
    if shape is KeyShape.BAND:
        rows, centre = [design(SectionKind.BAND_PASS, frequency_hz, q, 0.0, rate)], frequency_hz
    else:
        low = shape in (KeyShape.LOW, Shape.LOW_SHELF)
        order = 4 if isinstance(shape, KeyShape) else 2
        kind = SectionKind.HIGH_CUT_2 if low else SectionKind.LOW_CUT_2
        rows = [design(kind, frequency_hz, one, 0.0, rate) for one in butterworth_qualities(order)]
        centre = frequency_hz / 4.0 if low else frequency_hz * 4.0
    centre = min(centre, top)
    sections = np.array(rows + [NOTHING] * (SECTIONS - len(rows)))
    whole = np.insert(sections, 3, 1.0, axis=1)
    sections[0, :3] /= abs(response(whole, [centre], sample_rate=rate)[0])
    sections.flags.writeable = False
    return sections, centre


def listening_values(move: DynamicMove, rate: float) -> tuple[Floats, Floats]:
    """Sections of what a move listens to, (SECTIONS, 5), and the numbers by which a level is read, (7,).

    The numbers: coefficients of the two allpasses, share of the new power in the average, share of the peak that is
    left after a frame, shares of the new power in the total where it falls and rises, share of the power at a peak.
    """
    shape, frequency_hz, q = key_band(move)
    sections, centre = band_sections(shape, frequency_hz, q, rate)
    # where a level is read: for a part with one open side, an octave within its corner
    middle = {KeyShape.LOW: 0.5, Shape.LOW_SHELF: 0.5, KeyShape.HIGH: 2.0, Shape.HIGH_SHELF: 2.0}.get(shape)
    read_at = min(centre if middle is None else frequency_hz * middle, HIGHEST_CENTRE * rate)
    g = math.tan(math.pi * read_at / rate)
    allpasses = [(corner - 1.0) / (corner + 1.0) for corner in (g / _SPLIT, g * _SPLIT)]
    average_s = min(_LONGEST_AVERAGE_S, _AVERAGE_PERIODS / read_at)
    share = 1.0 - math.exp(-1.0 / (average_s * rate))
    left = math.exp(-1.0 / (average_s * rate))
    totals = [1.0 - math.exp(-1.0 / (s * rate)) for s in (TOTAL_S, TOTAL_RISE_S)]
    return sections, np.array([*allpasses, share, left, *totals, 1.0])


WHOLE_AVERAGE_S, WHOLE_FALL_S = 0.01, 0.03
"""Of a sound over all frequencies no quarter of a period can be had: its square is averaged, its peaks fall slowly."""


def reading_of_all(rate: float) -> Floats:
    """The numbers by which the level of a whole sound is read, (7,)."""
    share, left = 1.0 - math.exp(-1.0 / (WHOLE_AVERAGE_S * rate)), math.exp(-1.0 / (WHOLE_FALL_S * rate))
    return np.array([0.0, 0.0, share, left, 0.0, 0.0, 0.5])


def rise_s(move: DynamicMove) -> float:
    """How long the key's band takes to rise, on top of the attack: Q / (pi f)."""
    shape, frequency_hz, q = key_band(move)
    return (q if shape is KeyShape.BAND else math.sqrt(0.5)) / (math.pi * frequency_hz)
