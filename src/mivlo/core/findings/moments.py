"""What a voice does for a moment: sibilants, plosives, whistles.

Looked at in frames of 10 ms over the whole sound, however long; only a few numbers a frame are kept.
The limits are common practice, no source.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy import fft as scipy_fft

from mivlo.core.findings.frames import Sound
from mivlo.core.spectra import Singles, window_length
from mivlo.core.units import Floats, power_to_db

FRAME_S = 0.01
_LOW_HZ, _MIDDLE_HZ, _HISS_HZ, _TONE_HZ = (25.0, 150.0), (250.0, 3_000.0), (4_300.0, 13_000.0), (2_800.0, 9_500.0)
_TONE_STEPS = 64


@dataclass(frozen=True, slots=True)
class Moments:
    """One sort of moment.

    spans_s : (from, to); frequency_hz, octaves : where.
    excess_db : the typical one over what is usual there; level_db : what is usual, in dBFS.
    similar : 0 to 1, how alike they are in level.
    """

    spans_s: tuple[tuple[float, float], ...]
    excess_db: float
    frequency_hz: float
    octaves: float
    level_db: float
    similar: float


@dataclass(frozen=True, slots=True)
class VoiceFrames:
    """A voice in frames of 10 ms: levels in dB of three ranges, and its strongest high tone."""

    low_db: Floats
    middle_db: Floats
    hiss_db: Floats
    tone_hz: Floats
    tone_over_db: Floats
    tone_db: Floats
    hiss_spectrum: Floats
    hiss_hz: Floats
    start_s: float

    @property
    def vowels_db(self) -> float:
        """Level of the loud vowels: the upper tenth of the middle range."""
        return float(np.quantile(self.middle_db, 0.9))


def frame_spectra(sound: Sound, start: int, stop: int, *, sample_rate: float) -> Iterator[tuple[Singles, Floats]]:
    """Power spectra of frames of 10 ms (frames, bins), 10 s at a time, and the frequencies of the bins in Hz.

    A sine of full scale has a power of 1, summed over the bins that it touches.
    """
    length = window_length(1024, sample_rate)
    hop = max(1, round(FRAME_S * sample_rate))
    window = np.hanning(length + 1)[:-1].astype(np.float32)
    window *= np.sqrt(4.0 / (float(np.sum(window**2)) * length))
    hz = np.arange(length // 2 + 1) * sample_rate / length
    step = int(10.0 * sample_rate) // hop * hop
    for at in range(start, max(start + 1, stop - length), step):
        x = np.asarray(sound[at : min(stop, at + step + length - hop)], dtype=np.float32).mean(axis=1)
        if len(x) < length:
            return
        frames = np.lib.stride_tricks.sliding_window_view(x, length)[::hop]
        spectrum = scipy_fft.rfft(frames * window, axis=1)
        yield spectrum.real**2 + spectrum.imag**2, hz


def voice_frames(sound: Sound, start: int, stop: int, *, sample_rate: float) -> VoiceFrames:
    """Read start..stop of a sound, 10 s at a time."""
    rows: list[list[Singles]] = [[] for _ in range(6)]
    hiss: Floats = np.zeros(1)
    hiss_hz: Floats = np.zeros(1)
    for power, hz in frame_spectra(sound, start, stop, sample_rate=sample_rate):
        ranges = [_bins(hz, r) for r in (_LOW_HZ, _MIDDLE_HZ, _HISS_HZ, _TONE_HZ)]
        low, middle, high = (power[:, r].sum(axis=1) for r in ranges[:3])
        tone = power[:, ranges[3]]
        peak = tone.argmax(axis=1)
        around = np.median(tone, axis=1) + 1e-20
        strongest = tone[np.arange(len(tone)), peak]
        tone_hz = hz[ranges[3]][peak].astype(np.float32)
        for row, values in zip(rows, (low, middle, high, tone_hz, strongest / around, strongest), strict=True):
            row.append(values)
        hiss = hiss + power[high > middle][:, ranges[2]].sum(axis=0)
        hiss_hz = hz[ranges[2]]
    if not rows[0]:
        rows = [[np.full(1, 1e-15, dtype=np.float32)] for _ in range(6)]
    low, middle, high, tone_hz, over, tone_power = (np.concatenate(r).astype(np.float64) for r in rows)
    return VoiceFrames(
        power_to_db(low), power_to_db(middle), power_to_db(high), tone_hz, power_to_db(over), power_to_db(tone_power),
        hiss, hiss_hz, start / sample_rate,
    )  # fmt: skip


def _bins(hz: Floats, limits: tuple[float, float]) -> slice:
    inside = np.flatnonzero((hz >= limits[0]) & (hz <= limits[1]))
    return slice(int(inside[0]), int(inside[-1]) + 1) if len(inside) else slice(len(hz) - 2, len(hz))


def runs_of(on: npt.NDArray[np.bool_], shortest: int, longest: int, bridge: int = 2) -> list[tuple[int, int]]:
    """Stretches of frames that are on, small gaps bridged, of a fitting length."""
    closed = on.copy()
    edges = np.flatnonzero(np.diff(np.r_[0, on.astype(np.int8), 0]))
    for stop, start in zip(edges[1:-1:2], edges[2::2], strict=False):
        if start - stop <= bridge:
            closed[stop:start] = True
    edges = np.flatnonzero(np.diff(np.r_[0, closed.astype(np.int8), 0]))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True) if shortest <= b - a <= longest]


def spans_of(runs: list[tuple[int, int]], start_s: float) -> tuple[tuple[float, float], ...]:
    """Runs of frames as (from, to) in s."""
    return tuple((round(start_s + a * FRAME_S, 3), round(start_s + (b + 1) * FRAME_S, 3)) for a, b in runs)


def alike(tops_db: Floats) -> float:
    """0 to 1, how alike moments are in level."""
    return float(np.exp(-np.std(tops_db) / 6.0))


ALLOWED_HISS_DB, ALLOWED_POP_DB, ALLOWED_WHISTLE_DB = -7.0, 0.0, -20.0
"""Over the vowels: what a sibilant, a pop, a whistle may have."""


def _moments(
    v: VoiceFrames,
    runs: list[tuple[int, int]],
    level_db: Floats,
    frequency_hz: float,
    octaves: float,
    *,
    allowed_db: float,
    least_db: float,
) -> Moments | None:
    """The runs of frames as moments; None when the typical one is not `least_db` over what is allowed."""
    tops = np.array([np.max(level_db[a:b]) for a, b in runs])
    allowed = v.vowels_db + allowed_db
    excess = float(np.median(tops) - allowed)
    if excess < least_db:
        return None
    return Moments(spans_of(runs, v.start_s), excess, frequency_hz, octaves, allowed, alike(tops))


def find_sibilance(v: VoiceFrames) -> Moments | None:
    """Sibilants that come near the level of the vowels."""
    on = (v.hiss_db > v.middle_db + 3.0) & (v.hiss_db > v.vowels_db + ALLOWED_HISS_DB - 8.0)
    runs = runs_of(on, 3, 60)
    tops = np.array([np.max(v.hiss_db[a:b]) for a, b in runs])
    if not runs:
        return None
    # the sharp ones: over what a voice may have, and among the strongest of this one
    least = max(v.vowels_db + ALLOWED_HISS_DB + 2.0, float(np.max(tops)) - 3.0)
    sharp = [r for r, top in zip(runs, tops, strict=True) if top >= least]
    if len(sharp) < 3:
        return None
    share = np.cumsum(v.hiss_spectrum) / max(float(np.sum(v.hiss_spectrum)), 1e-30)
    centre = float(v.hiss_hz[int(np.searchsorted(share, 0.5))])
    return _moments(v, sharp, v.hiss_db, centre, 1.0, allowed_db=ALLOWED_HISS_DB, least_db=4.0)


def find_plosives(v: VoiceFrames) -> Moments | None:
    """Pops: short bursts below 150 Hz that outdo the vowels."""
    usual = float(np.quantile(v.low_db, 0.7))
    on = (v.low_db > v.middle_db + 4.0) & (v.low_db > usual + 9.0) & (v.low_db > v.vowels_db + ALLOWED_POP_DB - 6.0)
    runs = runs_of(on, 2, 25)
    runs = [r for r in runs if np.max(v.low_db[r[0] : r[1]]) > v.vowels_db + ALLOWED_POP_DB]
    if len(runs) < 2:
        return None
    return _moments(v, runs, v.low_db, 70.0, 1.5, allowed_db=ALLOWED_POP_DB, least_db=2.0)


def find_whistles(v: VoiceFrames) -> Moments | None:
    """A high tone that comes back at the same place on a few words."""
    on = (v.tone_over_db > 15.0) & (v.tone_db > v.vowels_db - 9.0) & (v.hiss_db > v.middle_db - 6.0)
    if not on.any():
        return None
    place = np.floor(12.0 * np.log2(v.tone_hz / 1000.0) + 0.5).astype(int)
    counts = np.bincount((place + _TONE_STEPS)[on], minlength=2 * _TONE_STEPS)
    step = int(np.argmax(counts)) - _TONE_STEPS
    same = on & (np.abs(place - step) <= 1)
    runs = runs_of(same, 3, 60)
    if len(runs) < 2 or np.mean(same) > 0.1:
        return None
    kept = np.concatenate([np.arange(a, b) for a, b in runs])
    kept = kept[same[kept]]
    weights = 10.0 ** (v.tone_db[kept] / 10.0)
    centre = float(2.0 ** np.average(np.log2(v.tone_hz[kept]), weights=weights))
    return _moments(v, runs, v.tone_db, centre, 0.15, allowed_db=ALLOWED_WHISTLE_DB, least_db=-np.inf)
