"""Wolf notes: a bowed string's note that couples with the body, swells and beats.

Body and string, tuned nearly alike, become two modes a few Hz apart, and the bow drives them alternately (Fletcher &
Rossing, The Physics of Musical Instruments, on wolf tones; cited from memory). What is heard is a fundamental whose
level goes up and down several times a second, on that one note and on no other. The limits below are common practice,
no source.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.ndimage import uniform_filter1d

from mivlo.core.findings.decays import WholeSpectrum
from mivlo.core.findings.moments import alike, runs_of
from mivlo.core.units import Floats

_LOWEST_HZ, _HIGHEST_HZ, _STEPS_PER_OCTAVE = 55.0, 440.0, 12
_SLOWEST_BEAT_HZ, _FASTEST_BEAT_HZ = 3.0, 11.0
_STEP_S, _HELD_S = 0.01, 0.4
_DIP_DB, _FEWEST_DIPS, _EVEN = 5.0, 3, 1.5
"""A beat is a dip of so many dB between its neighbours; beating is three and more of them, about evenly spaced."""
_LOUD_DB = 15.0
_SHARE_OF_OTHERS, _LEAST_OVER_DB = 0.1, 3.0
_SHORTEST, _BRIDGE, _FEWEST_TIMES = round(0.4 / _STEP_S), round(0.3 / _STEP_S) - 1, 3


@dataclass(frozen=True, slots=True)
class Wolf:
    """A note that beats.

    beats_hz : how often a second.
    over_db : its tops over the level of the other notes; level_db : its own middle level in dBFS.
    spans_s : (from, to) counted in the looked-at sound; similar : 0 to 1, how alike they are in level.
    """

    frequency_hz: float
    beats_hz: float
    over_db: float
    level_db: float
    spans_s: tuple[tuple[float, float], ...]
    similar: float


def find_wolf(spectrum: WholeSpectrum) -> Wolf | None:
    """The note that beats most, if the others do not."""
    count = int(np.log2(_HIGHEST_HZ / _LOWEST_HZ) * _STEPS_PER_OCTAVE) + 1
    centres = _LOWEST_HZ * 2.0 ** (np.arange(count) / _STEPS_PER_OCTAVE)
    levels = np.stack([_level(spectrum, float(f)) for f in centres])
    frames = levels.shape[1]
    if frames < 3.0 / _STEP_S:
        return None
    held = uniform_filter1d(levels, int(_HELD_S / _STEP_S), axis=1)
    strongest = np.argmax(held, axis=0)
    top = np.max(held, axis=0)
    loud = top > np.quantile(top, 0.9) - _LOUD_DB
    beating = np.stack([_beating(level, held[i] > top - 3.0) for i, level in enumerate(levels)])
    owned = beating & loud & (np.abs(strongest - np.arange(count)[:, None]) <= 1)
    i = int(np.argmax(np.sum(10.0 ** (levels / 20.0) * owned, axis=1)))
    runs = runs_of(owned[i], _SHORTEST, frames, _BRIDGE)
    at = np.flatnonzero(loud & (np.abs(strongest - i) > 2))
    if len(runs) < _FEWEST_TIMES or len(at) < 2.0 / _STEP_S:
        return None
    on = np.zeros(frames, dtype=np.bool_)
    for a, b in runs:
        on[a:b] = True
    of_others = float(np.mean(beating[strongest[at], at]))
    over = float(np.quantile(levels[i, on], 0.9) - np.median(top[at]))
    if of_others > _SHARE_OF_OTHERS or over < _LEAST_OVER_DB or _is_trill(levels, i, on):
        return None
    return Wolf(
        frequency_hz=_exact_hz(spectrum, float(centres[i]), on),
        beats_hz=float(np.count_nonzero(on[_dips(levels[i])]) / (np.count_nonzero(on) * _STEP_S)),
        over_db=over,
        level_db=float(np.median(levels[i, on])),
        spans_s=tuple((round(a * _STEP_S, 2), round(b * _STEP_S, 2)) for a, b in runs),
        similar=alike(np.array([np.max(levels[i, a:b]) for a, b in runs])),
    )


def _dips(level: Floats) -> npt.NDArray[np.int64]:
    from scipy.signal import find_peaks  # slow to load, and only strings need it

    least = int(1.0 / _FASTEST_BEAT_HZ / _STEP_S)
    return np.asarray(find_peaks(-level, prominence=_DIP_DB, distance=least)[0], dtype=np.int64)


def _beating(level: Floats, among_the_loudest: npt.NDArray[np.bool_]) -> npt.NDArray[np.bool_]:
    """Where the level goes up and down evenly."""
    out = np.zeros(len(level), dtype=np.bool_)
    dips = _dips(level)
    dips = dips[among_the_loudest[dips]]
    gaps = np.diff(dips) * _STEP_S
    first = 0
    for k in range(1, len(dips) + 1):
        goes_on = k < len(dips) and gaps[k - 1] <= 1.0 / _SLOWEST_BEAT_HZ
        if goes_on and k - first >= 2:
            goes_on = 1.0 / _EVEN < gaps[k - 1] / gaps[k - 2] < _EVEN
        if not goes_on:
            if k - first >= _FEWEST_DIPS:
                half = int(np.mean(gaps[first : k - 1]) / _STEP_S / 2)
                out[max(0, dips[first] - half) : dips[k - 1] + half] = True
            first = k
    return out


def _level(spectrum: WholeSpectrum, frequency_hz: float) -> Floats:
    """dBFS of the band of a semitone or two around a frequency, every 10 ms."""
    envelope, rate, _ = spectrum.band(frequency_hz, _width_hz(frequency_hz))
    level = 20.0 * np.log10(np.abs(envelope) + 1e-7)
    at = np.arange(0.0, spectrum.seconds, _STEP_S) * rate
    return np.asarray(np.interp(at, np.arange(len(level)), level))


def _width_hz(frequency_hz: float) -> float:
    return max(frequency_hz * 0.12, 2.0 * _FASTEST_BEAT_HZ)


def _is_trill(levels: Floats, i: int, on: npt.NDArray[np.bool_]) -> bool:
    """Whether a neighbour comes when this one goes: two notes in turn, not one that beats."""
    here = levels[i, on]
    for j in (i - 3, i - 2, i + 2, i + 3):
        if 0 <= j < len(levels):
            there = levels[j, on]
            if np.std(there) > 0.5 * np.std(here) and np.corrcoef(here, there)[0, 1] < -0.4:
                return True
    return False


def _exact_hz(spectrum: WholeSpectrum, frequency_hz: float, on: npt.NDArray[np.bool_]) -> float:
    """Power-weighted mean frequency of the band while it beats, from the steps of its phase."""
    envelope, rate, centre = spectrum.band(frequency_hz, _width_hz(frequency_hz))
    chosen = on[np.minimum((np.arange(len(envelope) - 1) / rate / _STEP_S).astype(int), len(on) - 1)]
    turn = np.sum((envelope[1:] * np.conj(envelope[:-1]))[chosen])
    return float(centre + np.angle(turn) * rate / (2.0 * np.pi))
