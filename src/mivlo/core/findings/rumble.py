"""Rumble: what moves in the lowest octaves by itself, below what is played."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.special import expit

from mivlo.core.findings.frames import POINTS_PER_OCTAVE, View
from mivlo.core.findings.thinning import sampled_less, windowed_sinc
from mivlo.core.roles import Role
from mivlo.core.spectra import log_grid
from mivlo.core.units import Floats

_PLAYED_WITHIN_DB = 20.0
_LOWEST_PLAYED_HZ, _RESTLESS_BELOW_HZ = 35.0, 80.0
_LOWEST_SUNG_HZ = 65.0
"""C2, as low as a bass sings (from memory): below it a voice has pops only."""
_NOISE_WAVERS = 4.0
"""Noise of a few hertz is seldom so much stronger, in a quarter of a second, than in its quietest quarter."""
_LEAST_WAVERING_DB = 1.0
"""What wavers less is a tone that is held."""
_BELOW_HZ = 62.0
_LOW_HZ, _ABOVE_HZ = (22.0, 38.0), (60.0, 240.0)
"""Where rumble lies whatever is played, and where the skirts of what is played come from. A five-string bass goes down
to 31 Hz: of what is played so low, only what lies under 0.8 of it is looked at."""
_LEAST_WIDTH_OCT = 0.4
_HIGHEST_CUT_HZ = 55.0
"""Recordings of speech with some rumble of their own are changed by 0.2 dB from 60 Hz on (RMS over bands); by a cut at
80 Hz it would be 1.7."""
_SAMPLED_HZ, _PARTS = 600.0, 8
_FRAME_S, _WINDOW_FRAMES = 0.25, 12
_QUIET = 25.0
"""Percentile of the frames of a window (1.5 s) that is its floor: strokes come and go above it."""
_STRONGEST = 1.0 / 3.0
"""Share of the windows that tell: a tram need not pass all the time."""
_LEAST_OVER_DB, _LEAST_DBFS, _LEAST_UNDER_TRACK_DB = 3.0, -75.0, -45.0
_NOISE_DB, _LEAST_OVER_NOISE_DB = 1.8, 6.0
"""Where what lies above wavers less, it is noise: the narrow low band stands over that by chance for a while."""
_TINY = 1e-14
_ODDS = np.array([-3.48, 0.036, 0.173, -0.173, 3.41])
"""Of `follows`, `under_db`, `over_db`, `wavers_db` and a constant (`bench/findings/rules.py`)."""


@dataclass(frozen=True, slots=True)
class Rumble:
    """Low end below what is played.

    frequency_hz : where it is strongest; cut_hz : where a low cut parts it from the music; plays_from_hz : the lowest
    that is played.
    over_db : how far it stands over what lies above it (60 to 240 Hz, per Hz) when it does so most.
    under_db : its floor against the strongest line below 300 Hz, below 0.
    wavers_db : between its floor and its louder moments within a second and a half: noise wavers little, strokes do.
    follows : -1 to 1, correlation of its level with the track's over time: rumble goes its own way, the thump of a
        stroke comes with the stroke.
    """

    frequency_hz: float
    over_db: float
    cut_hz: float
    plays_from_hz: float
    follows: float
    under_db: float
    wavers_db: float

    @property
    def witnesses(self) -> tuple[float, float, float, float]:
        """What the confidence is told by."""
        return self.follows, self.under_db, self.over_db, self.wavers_db

    @property
    def confidence(self) -> float:
        """Fitted to clips with and without rumble (`bench/findings/rules.py`)."""
        return float(np.clip(expit(np.dot(_ODDS, [*self.witnesses, 1.0])), 0.02, 0.95))


def find_rumble(view: View, role: Role | None = None) -> Rumble | None:
    """What lies in the lowest octave that nothing is played in, where it can be heard.

    Played is what comes within 20 dB of the strongest sixth of an octave, below 80 Hz only what comes and goes within
    windows of 1.5 s. Of the low band the floor is taken in these; the third of them in which it is highest tells.
    """
    if len(view.mono) < (_WINDOW_FRAMES + 2) * _FRAME_S * view.sample_rate:
        return None
    hz, power = _low_powers(view)
    plays_from = _plays_from_hz(view, hz, power, _LOWEST_SUNG_HZ if role is Role.VOICE else _LOWEST_PLAYED_HZ)
    bottom, top = _LOW_HZ[0], min(_LOW_HZ[1], 0.8 * plays_from)
    if np.log2(top / bottom) < _LEAST_WIDTH_OCT:
        return None
    low, above = _band(hz, power, bottom, top), _band(hz, power, *_ABOVE_HZ)
    over = float(np.percentile(low - above, 95.0))
    floors = _in_windows(low, _QUIET)
    best = np.argsort(-floors)[: max(2, round(_STRONGEST * len(floors)))]
    floor = float(np.median(floors[best]))
    heard = floor + 10.0 * np.log10(top - bottom)
    whole = 10.0 * np.log10(float(np.mean(np.square(view.mono, dtype=np.float64))) + _TINY)
    least = _LEAST_OVER_NOISE_DB if np.median(_wavering(above)) < _NOISE_DB else _LEAST_OVER_DB
    if over < least or heard < max(_LEAST_DBFS, whole + _LEAST_UNDER_TRACK_DB):
        return None
    wavers = float(np.median(_wavering(low)[best]))
    if wavers < _LEAST_WAVERING_DB:
        return None
    line = 10.0 * np.log10(float(np.max(power.mean(axis=1))) + _TINY)
    loud = above > np.max(above) - 60.0
    return Rumble(
        frequency_hz=_strongest_hz(hz, power, best, min(_BELOW_HZ, 0.75 * plays_from)),
        over_db=over,
        cut_hz=float(min(0.7 * plays_from, _HIGHEST_CUT_HZ)),
        plays_from_hz=plays_from,
        follows=_correlation(low[loud], above[loud]),
        under_db=floor - line,
        wavers_db=wavers,
    )


def _low_powers(view: View) -> tuple[Floats, Floats]:
    """Frequencies up to 300 Hz and power densities (frequency, frame) of a quarter of a second each."""
    by = max(1, round(view.sample_rate / _SAMPLED_HZ))
    taps = windowed_sinc(by, _PARTS, middle=(_PARTS * by - 1) / 2.0, cut=0.45, beta=5.0)
    low, rate = sampled_less(view.mono.astype(np.float64), taps), view.sample_rate / by
    length = round(_FRAME_S * rate)
    frames = np.lib.stride_tricks.sliding_window_view(low, length)[:: length // 2]
    window = 0.5 - 0.5 * np.cos(2.0 * np.pi * np.arange(length) / length)
    spectra = np.fft.rfft(frames * window, 4 * length, axis=1)
    power = np.square(np.abs(spectra)) / (rate * float(np.sum(np.square(window))))
    return np.asarray(np.fft.rfftfreq(4 * length, 1.0 / rate), dtype=np.float64), power.T


def _band(hz: Floats, power: Floats, low_hz: float, high_hz: float) -> Floats:
    """(frames,) power density of a band in dB."""
    within = (hz >= low_hz) & (hz < high_hz)
    return np.asarray(10.0 * np.log10(power[within].mean(axis=0) + _TINY))


def _in_windows(level: Floats, percentile: float) -> Floats:
    """(windows,) a percentile of (frames,) in each; frames after the last whole window don't count."""
    count = len(level) // _WINDOW_FRAMES
    windows = level[: count * _WINDOW_FRAMES].reshape(count, _WINDOW_FRAMES)
    return np.asarray(np.percentile(windows, percentile, axis=1))


def _wavering(level: Floats) -> Floats:
    """(windows,) dB between the floor of a window and its louder moments."""
    return _in_windows(level, 100.0 - _QUIET) - _in_windows(level, _QUIET)


def _strongest_hz(hz: Floats, power: Floats, windows: np.ndarray, below_hz: float) -> float:  # type: ignore[type-arg]
    """Where what sounds in some windows is strongest below a frequency, by its quiet frames."""
    frames = (windows[:, None] * _WINDOW_FRAMES + np.arange(_WINDOW_FRAMES)).ravel()
    within = np.flatnonzero((hz >= _LOW_HZ[0]) & (hz <= max(below_hz, _LOW_HZ[0] * 1.2)))
    quiet = np.percentile(power[within][:, frames], _QUIET, axis=1)
    return float(hz[within[int(np.argmax(quiet))]])


def _correlation(low: Floats, above: Floats) -> float:
    if len(low) < 8 or np.std(low) < 0.3 or np.std(above) < 0.3:
        return 0.0
    return float(np.corrcoef(low, above)[0, 1])


def _plays_from_hz(view: View, hz: Floats, power: Floats, least_hz: float) -> float:
    """The lowest sixth of an octave that is played: near the strongest, of what comes and goes within a second."""
    grid = log_grid(POINTS_PER_OCTAVE // 4, least_hz, 0.4 * view.sample_rate)
    level = view.long_term.levels(grid, bands_per_octave=6)
    for i in np.flatnonzero(grid < _RESTLESS_BELOW_HZ):
        band = power[np.abs(np.log2(np.maximum(hz, 1.0) / grid[i])) <= 1.0 / 3.0]
        level[i] += 10.0 * np.log10(_comes_and_goes(band.mean(axis=0)) + 1e-6)
    return float(grid[np.flatnonzero(level > np.max(level) - _PLAYED_WITHIN_DB)[0]])


def _comes_and_goes(power: Floats) -> float:
    """The share of a power (frames,) that is more than noise wavers over its floor, in each window."""
    floors = np.repeat(_in_windows(power, _QUIET), _WINDOW_FRAMES)
    kept = power[: len(floors)]
    return float(np.sum(np.maximum(0.0, kept - _NOISE_WAVERS * floors)) / (np.sum(kept) + _TINY))
