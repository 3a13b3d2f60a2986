"""What shrieks for a moment in an instrument: fingers on strings, a bow or a reed that slips, a note that shrills.

The limits were chosen on the half of the benchmark that is tuned on, with recorded fret noise laid over its guitars,
basses, strings, brass and winds; see docs/findings.md.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from mivlo.core.findings.frames import Sound
from mivlo.core.findings.moments import Moments, alike, frame_spectra, runs_of, spans_of
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats, power_to_db

_BODY_HZ = (100.0, 1_300.0)
_EDGES_HZ = 1_250.0 * 2.0 ** (np.arange(10) / 3)
_LEAST_OVER_DB, _TOP_OVER_DB = 8.0, 11.0
_AUDIBLE_DB = 18.0
"""Below loud notes: what is softer is covered by them."""
_LARGEST_SHARE = 0.12
_STEP_DB, _LOWEST_STEP, _HIGHEST_STEP = 6.0, -8, 2
_FEWEST = 30


def find_squeaks(sound: Sound, start: int, stop: int, *, sample_rate: float) -> Moments | None:
    """Short, rare stretches in which one third-octave outdoes what is usual there at that level of the body.

    Only by as much as it does so more than the other bands: a stroke is bright in all of them.
    """
    body, bands = _levels(sound, start, stop, sample_rate=sample_rate)
    if len(body) < 4 * _FEWEST:
        return None
    loud = float(np.quantile(body, 0.9))
    sounding = body > loud - 45.0
    usual = _usual(body - loud, bands, sounding)
    if usual is None:
        return None
    over = bands - usual
    alone = over - np.median(over, axis=1, keepdims=True)
    sticks_out = np.where(bands > loud - _AUDIBLE_DB, np.minimum(over, alone), -np.inf)
    most = np.max(sticks_out, axis=1)
    runs = [(a, b) for a, b in runs_of(most > _LEAST_OVER_DB, 4, 60) if np.max(most[a:b]) > _TOP_OVER_DB]
    if not runs or sum(b - a for a, b in runs) > _LARGEST_SHARE * np.count_nonzero(sounding):
        return None
    tops = np.array([np.max(most[a:b]) for a, b in runs])
    frames = np.concatenate([np.arange(a, b) for a, b in runs])
    band = np.argmax(sticks_out[frames], axis=1)
    strength = 10.0 ** (bands[frames, band] / 10.0)
    place = (band + 0.5) / 3.0
    middle = float(np.average(place, weights=strength))
    spread = float(np.sqrt(np.average((place - middle) ** 2, weights=strength)))
    return Moments(
        spans_s=spans_of(runs, start / sample_rate),
        excess_db=float(np.median(tops)),
        frequency_hz=float(_EDGES_HZ[0] * 2.0**middle),
        octaves=float(np.clip(1.0 / 3.0 + 2.0 * spread, 1.0 / 3.0, 1.5)),
        level_db=float(np.median(usual[frames, band])),
        similar=alike(tops),
    )


def _levels(sound: Sound, start: int, stop: int, *, sample_rate: float) -> tuple[Floats, Singles]:
    """Per frame of 10 ms the level of the body (frames,) and of each third-octave (frames, bands) in dB."""
    body: list[Singles] = []
    bands: list[Singles] = []
    for power, hz in frame_spectra(sound, start, stop, sample_rate=sample_rate):
        below = np.searchsorted(hz, _EDGES_HZ[: np.searchsorted(_EDGES_HZ, hz[-1])])
        body.append(power[:, (hz >= _BODY_HZ[0]) & (hz < _BODY_HZ[1])].sum(axis=1))
        bands.append(np.add.reduceat(power, below, axis=1)[:, :-1])
    if not body:
        return np.zeros(0), np.zeros((0, 1), dtype=np.float32)
    return power_to_db(np.concatenate(body)), power_to_db(np.concatenate(bands)).astype(np.float32)


def _usual(body_db: Floats, bands: Singles, sounding: npt.NDArray[np.bool_]) -> Singles | None:
    """(frames, bands) the level that nine tenths stay below while the body is as loud as in that frame.

    None where it sounds too seldom to say what is usual. In steps of the body's level, each with those beside it; it
    rises with them. body_db : over that of loud notes.
    """
    steps = np.floor(body_db / _STEP_DB).clip(_LOWEST_STEP, _HIGHEST_STEP).astype(int)
    table = np.full((_HIGHEST_STEP - _LOWEST_STEP + 1, bands.shape[1]), -np.inf, dtype=np.float32)
    for row, step in enumerate(range(_LOWEST_STEP, _HIGHEST_STEP + 1)):
        near = sounding & (np.abs(steps - step) <= 1)
        if np.count_nonzero(near) >= _FEWEST:
            table[row] = np.quantile(bands[near], 0.9, axis=0)
    known = np.isfinite(table[:, 0])
    if not known.any():
        return None
    table[~known] = np.min(table[known], axis=0)
    return np.asarray(np.maximum.accumulate(table, axis=0)[steps - _LOWEST_STEP])
