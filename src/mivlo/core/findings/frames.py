"""Short-time levels on the logarithmic grid of the findings: windows that follow frequency.

Low frequencies need long windows to be told apart, high ones short windows to be told when. Each
`Part` covers a range of the grid with one window; the levels of a part are its own (frames, points)
array, so that nothing is resampled in time.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt
from numba import njit
from scipy import fft as scipy_fft

from mivlo.core.findings.thinning import thinned, thinning_for
from mivlo.core.spectra import LongTermSpectrum, Singles, log_grid, window_length
from mivlo.core.units import Floats, positive

POINTS_PER_OCTAVE = 48
LOWEST_HZ, HIGHEST_HZ = 45.0, 14_500.0
FLOOR_DB = -140.0

Layout = Sequence[tuple[int, int, float, float]]
"""Per part: window and hop at 48 kHz, from Hz, below Hz."""
_LAYOUT: Layout = (
    (16_384, 4_096, 0.0, 600.0),
    (8_192, 2_048, 600.0, 2_000.0),
    (4_096, 2_048, 2_000.0, 1e9),
    (32_768, 8_192, 0.0, 1e9),
)
MARGIN = 8
"""Grid points that a part computes beyond its own range, so that looking sideways needs no border."""


def finding_grid() -> Floats:
    """(m,) frequencies in Hz at which findings are looked for; the same at any sample rate."""
    return log_grid(POINTS_PER_OCTAVE, LOWEST_HZ, HIGHEST_HZ)


@njit(cache=True, nogil=True, fastmath=True)  # type: ignore[untyped-decorator]
def _to_bands(power: Singles, first: npt.NDArray[np.int32], weights: Singles, out: Singles) -> None:
    """out[t, j] += sum of power[t, first[j] + i] * weights[j, i]."""
    for t in range(power.shape[0]):
        for j in range(first.shape[0]):
            total = np.float32(0.0)
            for i in range(weights.shape[1]):
                total += power[t, first[j] + i] * weights[j, i]
            out[t, j] += total


@dataclass(frozen=True, slots=True)
class Part:
    """One window and the range of the grid that it covers."""

    window: Singles
    hop: int
    start: int
    """First point of the grid that belongs to the part."""
    stop: int
    reach: slice
    """The points that are computed: the part's own and MARGIN more on each side."""
    first: npt.NDArray[np.int32]
    weights: Singles
    thinning: int
    """Of a part that reaches low frequencies only, one in so many samples is enough, see `thinned`."""

    @property
    def own(self) -> slice:
        """The part's own points among those that are computed."""
        return slice(self.start - self.reach.start, self.stop - self.reach.start)

    def count(self, samples: int) -> int:
        """Frames in so many samples; what is shorter than a window counts as one."""
        return max(1, (samples - len(self.window)) // self.hop + 1)


@lru_cache(maxsize=4)
def make_parts(sample_rate: float) -> tuple[Part, ...]:
    """The parts for a sample rate; the last one is the long window over the whole grid."""
    return parts_of(finding_grid(), _LAYOUT, sample_rate=sample_rate)


def parts_of(
    grid: Floats,
    layout: Layout,
    *,
    sample_rate: float,
    points_per_octave: int = POINTS_PER_OCTAVE,
    margin: int = MARGIN,
) -> tuple[Part, ...]:
    """The parts of a layout on a grid (m,) in Hz; `margin` points more are computed on either side of each."""
    positive("sample_rate", sample_rate)
    out = []
    for at_48k, hop_at_48k, low, high in layout:
        length = window_length(at_48k, sample_rate)
        hop = max(1, round(hop_at_48k * length / at_48k))
        inside = np.flatnonzero((grid >= low) & (grid < high))
        start, stop = int(inside[0]), int(inside[-1]) + 1
        reach = slice(max(0, start - margin), min(len(grid), stop + margin))
        window = np.hanning(length + 1)[:-1]
        scale = np.sqrt(4.0 / (float(np.sum(window**2)) * length))  # a sine of full scale reads 0 dB
        first, weights = _weights(grid[reach], sample_rate / length, length // 2 + 1, points_per_octave)
        thinning = thinning_for(math.gcd(length, hop), sample_rate / grid[reach.stop - 1])
        out.append(Part((window * scale).astype(np.float32), hop, start, stop, reach, first, weights, thinning))
    return tuple(out)


def _weights(
    centres: Floats, bin_hz: float, bins: int, points_per_octave: int
) -> tuple[npt.NDArray[np.int32], Singles]:
    """How much of each bin belongs to the band around each centre: a point wide, or a bin where that is wider."""
    half = 2.0 ** (0.5 / points_per_octave)
    low = np.minimum(centres / half, centres - 0.5 * bin_hz) / bin_hz + 0.5
    high = np.maximum(centres * half, centres + 0.5 * bin_hz) / bin_hz + 0.5
    first = np.floor(low).astype(np.int32)
    most = int(np.max(np.ceil(high) - first))
    weights = np.zeros((len(centres), most), dtype=np.float32)
    for i in range(most):
        k = first + i
        weights[:, i] = np.clip(np.minimum(high, k + 1.0) - np.maximum(low, k), 0.0, 1.0)
    weights /= np.sum(weights, axis=1, keepdims=True)  # power per bin: level of the density, not of the band
    first = np.clip(first, 0, bins - most).astype(np.int32)
    return first, weights


def frame_powers(samples: Singles, part: Part) -> Singles:
    """(frames, points of `part.reach`) mean power per bin of `samples` (channels, n), summed over the channels."""
    length, by = len(part.window), part.thinning
    if samples.shape[1] < length:
        samples = np.pad(samples, ((0, 0), (0, length - samples.shape[1])))
    count = part.count(samples.shape[1])
    out = np.zeros((count, len(part.first)), dtype=np.float32)
    used = slice(0, int(np.max(part.first)) + part.weights.shape[1])
    window = part.window[::by] * np.float32(by)
    for channel in samples:
        frames = np.lib.stride_tricks.sliding_window_view(thinned(channel, by), length // by)[:: part.hop // by]
        for i in range(0, count, 32):
            spectrum = scipy_fft.rfft(frames[i : min(i + 32, count)] * window, axis=1)[:, used]
            power = np.asarray(spectrum.real**2 + spectrum.imag**2, dtype=np.float32)
            _to_bands(power, part.first, part.weights, out[i : i + 32])
    return out


def frame_levels(stretches: Iterable[npt.ArrayLike], part: Part) -> Singles:
    """Levels in dB (frames, points of `part.reach`) of stretches of sound (n, channels), one after the other."""
    return _as_levels([frame_powers(np.ascontiguousarray(np.asarray(s, dtype=np.float32).T), part) for s in stretches])


def _as_levels(powers: list[Singles]) -> Singles:
    tiny = np.float32(10.0 ** (FLOOR_DB / 10.0))
    return np.asarray(10.0 * np.log10(np.maximum(np.concatenate(powers), tiny)), dtype=np.float32)


class Sound(Protocol):
    """Samples (n, channels) that are read a stretch at a time: an array, a memory map, or a file."""

    @property
    def shape(self) -> tuple[int, ...]: ...

    def __getitem__(self, stretch: slice, /) -> npt.NDArray[Any]: ...


Moments = Callable[[Floats, float], npt.NDArray[np.bool_]]
"""Of times (n,) in s and the length of a window about each in s: which of them count, (n,)."""

LONGEST_S = 150.0
"""What is longer is sampled: stretches of STRETCH_S that are spread evenly, so many seconds in all."""
STRETCH_S = 10.0


def choose_stretches(start: int, stop: int, *, sample_rate: float) -> list[tuple[int, int]]:
    """(first, end) frames of the stretches in which start..stop is looked at."""
    piece = int(STRETCH_S * sample_rate)
    if stop - start <= LONGEST_S * sample_rate:
        edges = list(range(start, stop, piece))
        if len(edges) > 1 and stop - edges[-1] < piece // 2:  # no short rest
            edges.pop()
        return list(zip(edges, [*edges[1:], stop], strict=True))
    count = int(LONGEST_S / STRETCH_S)
    firsts = np.linspace(start, stop - piece, count).astype(int)
    return [(int(a), int(a) + piece) for a in firsts]


@dataclass(frozen=True, slots=True)
class View:
    """A sound as the findings see it.

    levels : per part (frames, points of its reach) in dB; times_s : per part the centres of the frames.
    track_db : (frames,) level of the whole in the frames of the long windows, the last part.
    mono : (n,) the stretches one after the other, channels averaged; breaks : where in it one begins, which is the
    frame `firsts` of the sound.
    long_term : the spectrum of the stretches, from 20 Hz on.
    """

    parts: tuple[Part, ...]
    levels: list[Singles]
    times_s: list[Floats]
    track_db: Floats
    mono: Singles
    breaks: tuple[int, ...]
    firsts: tuple[int, ...]
    long_term: LongTermSpectrum
    sample_rate: float

    def time_of(self, seconds: float) -> float:
        """Where in the sound lies what is so far into `mono`, in s."""
        return float(self.times_of(np.array([seconds]))[0])

    def times_of(self, seconds: Floats) -> Floats:
        """As `time_of`, of many (n,)."""
        at, breaks, firsts = seconds * self.sample_rate, np.array(self.breaks), np.array(self.firsts)
        i = np.maximum(0, np.searchsorted(breaks, at, side="right") - 1)
        return np.asarray((firsts[i] + at - breaks[i]) / self.sample_rate)

    def levels_at(self, which: Moments) -> list[Singles]:
        """The levels of some of its frames."""
        each = zip(self.parts, self.levels, self.times_s, strict=True)
        return [level[which(times, len(part.window) / self.sample_rate)] for part, level, times in each]


def look(sound: Sound, start: int, stop: int, *, sample_rate: float, progress: Callable[[float], None]) -> View:
    """Read start..stop of a sound once and take its levels."""
    parts = make_parts(sample_rate)
    chosen = choose_stretches(start, stop, sample_rate=sample_rate)
    powers: list[list[Singles]] = [[] for _ in parts]
    times: list[list[Floats]] = [[] for _ in parts]
    mono, breaks = [], []
    long_term = LongTermSpectrum(sample_rate, sound.shape[1])
    at = 0
    for number, (first, end) in enumerate(chosen):
        x = np.ascontiguousarray(np.asarray(sound[first:end], dtype=np.float32).T)
        for part, some, when in zip(parts, powers, times, strict=True):
            power = frame_powers(x, part)
            some.append(power)
            centres = first + np.arange(len(power)) * part.hop + len(part.window) / 2
            when.append(np.asarray(centres / sample_rate, dtype=np.float64))
        long_term.add(x.T)
        mono.append(x.mean(axis=0))
        breaks.append(at)
        at += x.shape[1]
        progress((number + 1) / len(chosen))
    levels = [_as_levels(p) for p in powers]
    return View(
        parts,
        levels,
        [np.concatenate(t) for t in times],
        10.0 * np.log10(np.sum(10.0 ** (levels[-1].astype(np.float64) / 10.0), axis=1)),
        np.concatenate(mono),
        tuple(breaks),
        tuple(first for first, _ in chosen),
        long_term,
        sample_rate,
    )
