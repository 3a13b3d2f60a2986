"""Long-term and short-time spectra on a logarithmic grid, and the time map.

A level is always that of a band of a stated width (1/n octave), in dB where 0 is a sine of full
scale: a sine reads its own level, pink noise is level. Bands are taken from the running sum of the
power over frequency, so that any width is exact and smoothing is nothing but a wider band.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import numpy.typing as npt
from scipy import fft as scipy_fft
from scipy import sparse

from mivlo.core.errors import InvalidValue
from mivlo.core.units import Floats, positive, power_to_db

Singles = npt.NDArray[np.float32]

LOWEST_HZ, HIGHEST_HZ = 20.0, 20_000.0
POINTS_PER_OCTAVE = 48
_SINE_DB = 10.0 * math.log10(2.0)
_REFERENCE_RATE = 48_000.0
_SPECTRA_AT_ONCE = 64


def log_grid(
    points_per_octave: int = POINTS_PER_OCTAVE, low_hz: float = LOWEST_HZ, high_hz: float = HIGHEST_HZ
) -> Floats:
    """Frequencies in Hz, evenly spaced in octaves, with 1 kHz among them; within low_hz..high_hz."""
    first = math.ceil(points_per_octave * math.log2(low_hz / 1000.0) - 1e-9)
    last = math.floor(points_per_octave * math.log2(high_hz / 1000.0) + 1e-9)
    return np.asarray(1000.0 * 2.0 ** (np.arange(first, last + 1) / points_per_octave))


@lru_cache(maxsize=8)
def _smoothing(points: int, sigma: float) -> Singles:
    """(points, points): what `smoothed` multiplies by."""
    reach = int(4.0 * sigma + 0.5)
    bell = np.exp(-0.5 * (np.arange(-reach, reach + 1) / sigma) ** 2)
    up_to = np.concatenate([[0.0], np.cumsum(bell / np.sum(bell))])
    away = np.arange(points)[:, None] - np.arange(points)  # of what is read from where it is asked for
    edges = [np.clip(away + reach + more, 0, 2 * reach + 1) for more in (0, 1)]
    edges[0][0], edges[1][-1] = 0, 2 * reach + 1  # the first and the last stand for all that lies beyond
    return np.asarray(up_to[edges[1]] - up_to[edges[0]], dtype=np.float32)


def smoothed(levels: Singles, sigma: float) -> Singles:
    """Levels (..., n) over a Gaussian of so many points along the last axis; beyond its ends they go on as they end.

    As `scipy.ndimage.gaussian_filter1d` does it, as one product: the same few widths are asked for again and again.
    """
    return np.asarray(levels @ _smoothing(levels.shape[-1], sigma))


def nearest_point(grid: Floats, frequency_hz: float) -> int:
    """Which of the frequencies (m,) lies nearest, in octaves."""
    return int(np.argmin(np.abs(np.log2(grid / frequency_hz))))


def window_length(at_48k: int, sample_rate: float) -> int:
    """A fast FFT length that lasts about as long as `at_48k` samples do at 48 kHz."""
    wanted = max(64, round(at_48k * sample_rate / _REFERENCE_RATE))
    return int(scipy_fft.next_fast_len(wanted, real=True))


def band_levels(power: npt.ArrayLike, bin_hz: float, at_hz: npt.ArrayLike, *, bands_per_octave: float) -> Floats:
    """Level in dB of the bands of 1/bands_per_octave octave around the frequencies `at_hz`.

    Parameters
    ----------
    power : (..., bins) one-sided power per bin; bin k reaches from (k - 1/2) to (k + 1/2) bin_hz.
    at_hz : (m,) centres.

    Returns
    -------
    (..., m) dB, 0 = sine of full scale.
    """
    centres = np.asarray(at_hz, dtype=np.float64)
    half = 2.0 ** (0.5 / positive("bands_per_octave", bands_per_octave))
    return levels_between(power, bin_hz, centres / half, centres * half)


def levels_between(power: npt.ArrayLike, bin_hz: float, low_hz: Floats, high_hz: Floats) -> Floats:
    """Level in dB between frequencies (m,): (..., m), 0 = sine of full scale; power as for `band_levels`."""
    p = np.asarray(power, dtype=np.float64)
    running = np.concatenate([np.zeros((*p.shape[:-1], 1)), np.cumsum(p, axis=-1)], axis=-1)
    last = running.shape[-1] - 1

    def until(edges_hz: Floats) -> Floats:
        x = np.clip(edges_hz / bin_hz + 0.5, 0.0, last)
        k = np.minimum(x.astype(int), last - 1)
        return np.asarray(running[..., k] + (x - k) * (running[..., k + 1] - running[..., k]))

    return power_to_db(until(high_hz) - until(low_hz)) + _SINE_DB


class LongTermSpectrum:
    """Mean power spectrum of a stream: Hann windows of about 0.68 s, half overlapping.

    Parameters
    ----------
    sample_rate : Hz.
    channels : the powers of the channels are averaged.
    """

    def __init__(self, sample_rate: float, channels: int, *, window_at_48k: int = 32_768) -> None:
        self.length = window_length(window_at_48k, positive("sample_rate", sample_rate))
        self.bin_hz = sample_rate / self.length
        self._window = np.hanning(self.length + 1)[:-1].astype(np.float32)
        self._scale = 2.0 / (float(np.sum(self._window**2)) * self.length)
        self._sum: Floats = np.zeros(self.length // 2 + 1)
        self._frames = 0
        self._rest: Singles = np.empty((channels, 0), dtype=np.float32)

    def add(self, block: npt.ArrayLike) -> None:
        """Take the next samples (n, channels)."""
        x = np.concatenate([self._rest, np.asarray(block, dtype=np.float32).T], axis=1)
        hop = self.length // 2
        count = max(0, (x.shape[1] - self.length) // hop + 1)
        for i in range(count):
            spectrum = scipy_fft.rfft(x[:, i * hop : i * hop + self.length] * self._window, axis=1)
            self._sum += np.mean(spectrum.real**2 + spectrum.imag**2, axis=0)
        self._frames += count
        self._rest = x[:, count * hop :]

    def power(self) -> Floats:
        """(bins,) mean power per bin. What is shorter than a window counts as one, padded."""
        if self._frames == 0:
            frames = self._rest.shape[1]
            if not frames:
                return self._sum
            spectrum = scipy_fft.rfft(self._rest.astype(np.float64), n=self.length, axis=1)
            mean = np.mean(np.abs(spectrum) ** 2, axis=0)
            return np.asarray(mean * 2.0 / (frames * self.length))
        return np.asarray(self._sum * self._scale / self._frames)

    def levels(self, at_hz: npt.ArrayLike, *, bands_per_octave: float = 12) -> Floats:
        """Level in dB at the frequencies (m,), in bands of 1/bands_per_octave octave."""
        return band_levels(self.power(), self.bin_hz, at_hz, bands_per_octave=bands_per_octave)


def long_term_levels(
    samples: npt.ArrayLike, at_hz: npt.ArrayLike, *, sample_rate: float, bands_per_octave: float = 12
) -> Floats:
    """Long-term spectrum of a whole recording (n, channels) at the frequencies (m,), in dB."""
    x = np.asarray(samples, dtype=np.float64)
    spectrum = LongTermSpectrum(sample_rate, x.shape[1])
    spectrum.add(x)
    return spectrum.levels(at_hz, bands_per_octave=bands_per_octave)


# --- the time map -------------------------------------------------------------------------------

MAP_ROWS_PER_OCTAVE = 24
MAP_LOWEST_HZ = 20.0
MAP_ROWS = 240
MAP_TILE_COLUMNS = 256
MAP_FLOOR_DB = -120.0
MAP_STEP_DB = 0.5
_COARSEST_COLUMNS = 128
_MAP_HOP_AT_48K = 512
# window at 48 kHz, from Hz, below Hz, columns a step: three quarters of each window overlap
_MAP_WINDOWS = ((8192, 0.0, 250.0, 4), (4096, 250.0, 1500.0, 2), (2048, 1500.0, 1e9, 1))


def map_frequencies() -> Floats:
    """Centres in Hz of the rows of the time map, lowest first: (MAP_ROWS,)."""
    return np.asarray(MAP_LOWEST_HZ * 2.0 ** ((np.arange(MAP_ROWS) + 0.5) / MAP_ROWS_PER_OCTAVE))


def map_hop(sample_rate: float) -> int:
    """Samples between two columns of the finest level: about 10.7 ms."""
    return max(1, round(_MAP_HOP_AT_48K * sample_rate / _REFERENCE_RATE))


def map_extent(frames: int, sample_rate: float) -> tuple[int, int]:
    """Columns at the finest level of a sound's map, and its levels: each has half the columns of the one before."""
    columns = max(1, -(-frames // map_hop(sample_rate)))
    levels, length = 1, columns
    while length > _COARSEST_COLUMNS:
        levels, length = levels + 1, -(-length // 2)
    return columns, levels


def quantise(db: npt.ArrayLike) -> npt.NDArray[np.uint8]:
    """Levels as bytes: 0 is MAP_FLOOR_DB, each step MAP_STEP_DB."""
    steps = (np.asarray(db) - MAP_FLOOR_DB) / MAP_STEP_DB
    return np.clip(np.rint(steps), 0, 255).astype(np.uint8)


def _band_matrix(length: int, sample_rate: float, centres: Floats) -> sparse.csr_matrix:
    """(rows, bins): how much of each bin belongs to each band of 1/24 octave."""
    bin_hz = sample_rate / length
    half = 2.0 ** (0.5 / MAP_ROWS_PER_OCTAVE)
    rows, columns, values = [], [], []
    for row, centre in enumerate(centres):
        low, high = centre / half / bin_hz + 0.5, centre * half / bin_hz + 0.5
        for k in range(int(low), min(math.ceil(high), length // 2 + 1)):
            share = min(high, k + 1.0) - max(low, float(k))
            if share > 0:
                rows.append(row)
                columns.append(k)
                values.append(share)
    shape = (len(centres), length // 2 + 1)
    return sparse.csr_matrix((np.array(values, dtype=np.float32), (rows, columns)), shape=shape)


@dataclass(frozen=True, slots=True)
class _MapWindow:
    window: Singles
    matrix: sparse.csr_matrix
    first_row: int
    last_row: int
    stride: int


class TimeMap:
    """Level over time and frequency: columns of 1/24-octave bands, window length by frequency.

    Parameters
    ----------
    sample_rate : Hz.
    """

    def __init__(self, sample_rate: float) -> None:
        self.sample_rate = positive("sample_rate", sample_rate)
        self.hop = map_hop(sample_rate)
        centres = map_frequencies()
        self._windows: list[_MapWindow] = []
        for at_48k, low, high, stride in _MAP_WINDOWS:
            length = window_length(at_48k, sample_rate)
            inside = np.flatnonzero((centres >= low) & (centres < high))
            window = np.hanning(length + 1)[:-1]
            scale = math.sqrt(2.0 / (float(np.sum(window**2)) * length))
            matrix = _band_matrix(length, sample_rate, centres[inside])
            self._windows.append(
                _MapWindow(
                    (window * scale).astype(np.float32),
                    matrix,
                    int(inside[0]),
                    int(inside[-1]) + 1,
                    stride,
                )
            )
        self.reach = max(len(w.window) for w in self._windows) // 2
        """Samples on each side of a column's centre that it looks at."""

    def columns(self, samples: npt.ArrayLike, first_centre: int, count: int) -> Singles:
        """Power of `count` columns, the first centred on sample `first_centre` of `samples`.

        samples : (n, channels); what lies outside counts as silence.
        Returns (count, MAP_ROWS) float32, mean over the channels.
        """
        x = np.asarray(samples, dtype=np.float32)
        out = np.empty((count, MAP_ROWS), dtype=np.float32)
        for part in self._windows:
            steps = -(-count // part.stride) + 1
            bands = self._bands(x, part, first_centre, steps)
            rows = slice(part.first_row, part.last_row)
            for offset in range(part.stride):  # between two steps: a straight line
                share = np.float32(offset / part.stride)
                between = bands[:-1] * (1 - share) + bands[1:] * share
                out[offset :: part.stride, rows] = between[: len(range(offset, count, part.stride))]
        return out

    def _bands(self, x: Singles, part: _MapWindow, first_centre: int, steps: int) -> Singles:
        """Band powers (steps, rows of the part), every `stride` columns, mean over the channels."""
        length, hop = len(part.window), self.hop * part.stride
        start = first_centre - length // 2
        stop = start + (steps - 1) * hop + length
        piece = np.zeros((x.shape[1], stop - start), dtype=np.float32)
        a, b = max(start, 0), min(stop, len(x))
        if b > a:
            piece[:, a - start : b - start] = x[a:b].T
        out = np.zeros((steps, part.last_row - part.first_row), dtype=np.float32)
        useful = int(part.matrix.indices.max()) + 1
        for channel in piece:
            frames = np.lib.stride_tricks.sliding_window_view(channel, length)[::hop]
            for i in range(0, steps, 128):
                spectrum = scipy_fft.rfft(frames[i : i + 128] * part.window, axis=1)[:, :useful]
                power = spectrum.real**2 + spectrum.imag**2
                out[i : i + 128] += (part.matrix[:, :useful] @ power.T).T / x.shape[1]
        return out


def map_bytes(power: npt.ArrayLike) -> npt.NDArray[np.uint8]:
    """Powers of map columns as bytes of MAP_STEP_DB above MAP_FLOOR_DB."""
    return quantise(power_to_db(power) + _SINE_DB)


def halve_columns(power: Singles) -> Singles:
    """The next coarser level of a map: mean power of pairs of columns (an odd last one stays)."""
    if power.ndim != 2:
        raise InvalidValue("power", power.shape, "it must have the shape (columns, rows)")
    if len(power) % 2:
        power = np.concatenate([power, power[-1:]])
    return np.asarray(0.5 * (power[0::2] + power[1::2]))


def short_spectra(x: Floats, window: Floats, hop: int) -> Iterator[npt.NDArray[np.complex128]]:
    """Spectra of the windows of a sound (n, channels), one every `hop` frames: (windows, channels, bins) a piece.

    A sound that is shorter than a window has none.
    """
    if len(x) < len(window):
        return
    views = np.lib.stride_tricks.sliding_window_view(x, len(window), axis=0)[::hop]
    for at in range(0, len(views), _SPECTRA_AT_ONCE):
        yield scipy_fft.rfft(views[at : at + _SPECTRA_AT_ONCE] * window, axis=2)


def power_between(power: Floats, low_hz: Floats, high_hz: Floats, bin_hz: float) -> Floats:
    """Power of short spectra (windows, bins) between frequencies, parts of bins by their share: (windows, places)."""
    whole = np.concatenate([np.zeros((len(power), 1)), np.cumsum(power, axis=1)], axis=1)

    def up_to(edge: Floats) -> Floats:
        place = np.clip(edge / bin_hz + 0.5, 0.0, power.shape[1] - 1e-6)
        low = place.astype(int)
        return np.asarray(whole[:, low] + (place - low) * (whole[:, low + 1] - whole[:, low]))

    return np.asarray(np.maximum(up_to(high_hz) - up_to(low_hz), 0.0))
