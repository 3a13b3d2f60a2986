"""What the outer and the middle ear do to a level, and where hearing begins.

Tables of ANSI S3.4-2007 (Moore, Glasberg & Baer 1997 with the middle ear of Glasberg & Moore 2006): values from memory.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from mivlo.core.units import Floats

# frequency in Hz, free field to eardrum from the front in dB, middle ear in dB
_TRANSFER = np.array(
    [
        (20, 0.0, -39.6), (25, 0.0, -32.0), (31.5, 0.0, -25.85), (40, 0.0, -21.4), (50, 0.0, -18.5), (63, 0.0, -15.9),
        (80, 0.0, -14.1), (100, 0.0, -12.4), (125, 0.1, -11.0), (160, 0.3, -9.6), (200, 0.5, -8.3), (250, 0.9, -7.4),
        (315, 1.4, -6.2), (400, 1.6, -4.8), (500, 1.7, -3.8), (630, 2.5, -3.3), (750, 2.7, -2.9), (800, 2.6, -2.6),
        (1000, 2.6, -2.6), (1250, 3.2, -4.5), (1500, 5.2, -5.4), (1600, 6.6, -6.1), (2000, 12.0, -8.5),
        (2500, 16.8, -10.4), (3000, 15.3, -7.3), (3150, 15.2, -7.0), (4000, 14.2, -6.6), (5000, 10.7, -7.0),
        (6000, 7.1, -9.2), (6300, 6.4, -10.2), (8000, 1.8, -12.2), (9000, -0.9, -10.8), (10000, -1.6, -10.1),
        (11200, 1.9, -12.7), (12500, 4.9, -15.0), (14000, 2.0, -18.2), (15000, -2.0, -23.8), (16000, 2.5, -32.3),
    ]
)  # fmt: skip

# frequency in Hz, excitation at threshold in quiet in dB; constant from 500 Hz on
_THRESHOLD = np.array(
    [
        (50, 28.18), (63, 23.90), (80, 19.20), (100, 15.68), (125, 12.67), (160, 10.09), (200, 8.08), (250, 6.30),
        (315, 5.30), (400, 4.50), (500, 3.63),
    ]
)  # fmt: skip

# frequency in Hz, signal over noise in dB at the masked threshold, behind the auditory filter (1997, figure 9)
_EFFICIENCY = np.array([(50, 12.0), (100, 4.5), (200, 1.0), (300, -0.5), (500, -1.8), (1000, -3.0)])


def to_cochlea_db(frequency_hz: npt.ArrayLike) -> Floats:
    """Gain in dB from a level in a free field, from the front, to the cochlea; 0 at 1 kHz."""
    f = np.log(np.asarray(frequency_hz, dtype=np.float64))
    return np.asarray(np.interp(f, np.log(_TRANSFER[:, 0]), _TRANSFER[:, 1] + _TRANSFER[:, 2]))


def threshold_db(frequency_hz: npt.ArrayLike) -> Floats:
    """Excitation level in dB at the threshold in quiet."""
    f = np.log(np.asarray(frequency_hz, dtype=np.float64))
    return np.asarray(np.interp(f, np.log(_THRESHOLD[:, 0]), _THRESHOLD[:, 1]))


def efficiency(frequency_hz: npt.ArrayLike) -> Floats:
    """Power ratio K of signal to noise at the masked threshold, at the output of the auditory filter."""
    f = np.log(np.asarray(frequency_hz, dtype=np.float64))
    return np.asarray(10.0 ** (np.interp(f, np.log(_EFFICIENCY[:, 0]), _EFFICIENCY[:, 1]) / 10.0))
