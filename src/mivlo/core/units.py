"""Decibels, notes, Q and octaves, auditory bands.

Notes follow ISO 16 (A4 = 440 Hz) in equal temperament. Octaves of a bell are counted as in the
Audio EQ Cookbook: between the points at half of the gain in dB, on the analogue prototype.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from mivlo.core.errors import InvalidValue

Floats = npt.NDArray[np.float64]

A4_HZ = 440.0
"""ISO 16:1975, standard tuning frequency."""

NOTE_NAMES = ("C", "C♯", "D", "D♯", "E", "F", "F♯", "G", "G♯", "A", "A♯", "B")

BARK_EDGES_HZ = (
    20.0, 100.0, 200.0, 300.0, 400.0, 510.0, 630.0, 770.0, 920.0, 1080.0, 1270.0, 1480.0, 1720.0,
    2000.0, 2320.0, 2700.0, 3150.0, 3700.0, 4400.0, 5300.0, 6400.0, 7700.0, 9500.0, 12000.0,
    15500.0,
)  # fmt: skip
"""Critical band edges (Zwicker, J. Acoust. Soc. Am. 33, 1961; value from memory)."""


def positive(name: str, value: float) -> float:
    """`value` as a float if it is finite and above zero, else InvalidValue."""
    number = float(value)
    if not (math.isfinite(number) and number > 0):
        raise InvalidValue(name, value, "it must be a number above 0")
    return number


def db_to_gain(db: float) -> float:
    """Amplitude ratio of a level difference in dB."""
    return float(10.0 ** (db / 20.0))


def gain_to_db(gain: float, *, floor_db: float = -200.0) -> float:
    """Level in dB of an amplitude ratio; never below `floor_db`."""
    if gain <= 10.0 ** (floor_db / 20.0):
        return floor_db
    return 20.0 * math.log10(gain)


def power_to_db(power: npt.ArrayLike, *, floor_db: float = -150.0) -> Floats:
    """Level in dB of powers (any shape); never below `floor_db`."""
    tiny = 10.0 ** (floor_db / 10.0)
    return np.asarray(10.0 * np.log10(np.maximum(np.asarray(power, dtype=np.float64), tiny)))


def q_to_octaves(q: float) -> float:
    """Bandwidth in octaves of a bell or band pass with quality `q` (> 0).

    Source: Audio EQ Cookbook, analogue relation 1/Q = 2 sinh(ln(2)/2 · N).
    """
    return 2.0 / math.log(2.0) * math.asinh(1.0 / (2.0 * positive("q", q)))


def octaves_to_q(octaves: float) -> float:
    """Quality of a bandwidth of `octaves` (> 0): sqrt(2^N) / (2^N - 1)."""
    width = 2.0 ** positive("octaves", octaves)
    return float(math.sqrt(width) / (width - 1.0))


def ring_time_s(frequency_hz: float, q: float) -> float:
    """Time in seconds in which a resonance of quality `q` falls by 60 dB: 2.2 Q / f.

    Source: second-order resonator, decay constant Q / (π f); e.g. Fletcher & Rossing,
    The Physics of Musical Instruments (from memory). ln(1000) / π = 2.199.
    """
    return math.log(1000.0) / math.pi * positive("q", q) / positive("frequency_hz", frequency_hz)


@dataclass(frozen=True, slots=True)
class Note:
    """The equal-tempered note nearest to a frequency, and how far off it is in cents."""

    name: str
    octave: int
    cents: float

    def __str__(self) -> str:
        return f"{self.name}{self.octave} {self.cents:+.0f} ct"


def midi_to_hz(midi: float) -> float:
    """Frequency in Hz of a (fractional) MIDI note number; 69 is A4."""
    return float(A4_HZ * 2.0 ** ((midi - 69.0) / 12.0))


def hz_to_midi(frequency_hz: float) -> float:
    """Fractional MIDI note number of a frequency in Hz (> 0)."""
    return 69.0 + 12.0 * math.log2(positive("frequency_hz", frequency_hz) / A4_HZ)


def hz_to_note(frequency_hz: float) -> Note:
    """The note nearest to a frequency in Hz (> 0), with the rest in cents (-50 to 50)."""
    midi = hz_to_midi(frequency_hz)
    nearest = math.floor(midi + 0.5)
    return Note(NOTE_NAMES[nearest % 12], nearest // 12 - 1, (midi - nearest) * 100.0)


def cents_between(lower_hz: float, upper_hz: float) -> float:
    """Interval in cents from `lower_hz` to `upper_hz`."""
    return 1200.0 * math.log2(positive("upper_hz", upper_hz) / positive("lower_hz", lower_hz))


def _positives(name: str, values: npt.ArrayLike) -> Floats:
    """Several values, of which all have to be positive."""
    out = np.asarray(values, dtype=np.float64)
    for extreme in (np.min, np.max) if out.size else ():
        positive(name, float(extreme(out)))
    return out


def erb_hz(frequency_hz: npt.ArrayLike) -> Floats:
    """Equivalent rectangular bandwidth in Hz of the ear (Glasberg & Moore 1990)."""
    return np.asarray(24.7 * (4.37 * _positives("frequency_hz", frequency_hz) / 1000.0 + 1.0))


def erb_number(frequency_hz: npt.ArrayLike) -> Floats:
    """Position on the ERB scale (Glasberg & Moore 1990)."""
    return np.asarray(21.4 * np.log10(4.37 * _positives("frequency_hz", frequency_hz) / 1000.0 + 1.0))


def from_erb_number(number: npt.ArrayLike) -> Floats:
    """Frequency in Hz of positions on the ERB scale: what `erb_number` takes back."""
    return np.asarray((10.0 ** (np.asarray(number, dtype=np.float64) / 21.4) - 1.0) * 1000.0 / 4.37)
