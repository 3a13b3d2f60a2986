"""Short-time spectra as the ear takes them: finer in frequency below, finer in time above."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import numpy.typing as npt
from numba import njit
from scipy import fft as scipy_fft

from mivlo.core.auditory.outer import to_cochlea_db
from mivlo.core.auditory.scale import COMPONENT_EDGES_HZ, COMPONENT_HZ, COMPONENTS
from mivlo.core.spectra import Singles, window_length
from mivlo.core.units import Floats, positive

FRAME_S = 0.02
"""About the time from one frame to the next; `frame_length` gives it in samples."""
_PARTS = 4
# window at 48 kHz; up to Hz; looks a frame. Every look is a Hann window, half overlapping at least.
_WINDOWS = ((4096, 250.0, 1), (2048, 900.0, 1), (1024, 2800.0, 2), (512, 1e9, 4))
_AT_ONCE = 64


def frame_length(sample_rate: float) -> int:
    """Samples from one frame to the next."""
    return _PARTS * max(1, round(FRAME_S / _PARTS * positive("sample_rate", sample_rate)))


def frame_count(samples: int, sample_rate: float) -> int:
    """Frames of so many samples; the last one may be filled with silence."""
    return -(-samples // frame_length(sample_rate))


@njit(cache=True, nogil=True)
def _gather(power, first, weights, starts, out, row0):  # type: ignore[no-untyped-def]
    for row in range(power.shape[0]):
        for c in range(first.size):
            total = 0.0
            at = starts[c]
            for k in range(starts[c + 1] - at):
                total += power[row, first[c] + k] * weights[at + k]
            out[row0 + row, c] += np.float32(total)


@dataclass(frozen=True, slots=True)
class _Window:
    """One resolution: its window, where its bins go, and how often a frame it looks."""

    length: int
    looks: int
    shape: Singles
    first_component: int
    first_bin: npt.NDArray[np.int64]
    starts: npt.NDArray[np.int64]
    weights: Floats


@lru_cache(maxsize=8)
def _windows(sample_rate: float) -> tuple[_Window, ...]:
    made = []
    low_hz = 0.0
    for at_48k, high_hz, looks in _WINDOWS:
        length = window_length(at_48k, sample_rate)
        bin_hz = sample_rate / length
        bins = length // 2 + 1
        chosen = np.flatnonzero((low_hz <= COMPONENT_HZ) & (high_hz > COMPONENT_HZ))
        first_bins, starts, weights = [], [0], []
        for c in chosen:
            # bin k reaches from (k - 1/2) to (k + 1/2) bin_hz; a component takes its part of each
            low, high = COMPONENT_EDGES_HZ[c] / bin_hz + 0.5, COMPONENT_EDGES_HZ[c + 1] / bin_hz + 0.5
            k = np.arange(int(low), min(int(np.ceil(high)), bins))
            part = np.clip(np.minimum(high, k + 1.0) - np.maximum(low, k), 0.0, 1.0)
            gains = 10.0 ** (to_cochlea_db(np.maximum(k, 0.5) * bin_hz) / 10.0)
            first_bins.append(int(k[0]) if k.size else 0)
            weights.append(part * gains)
            starts.append(starts[-1] + k.size)
        shape = np.hanning(length + 1)[:-1]
        scale = np.sqrt(2.0 / (np.sum(shape**2) * length * looks))
        made.append(
            _Window(
                length, looks, (shape * scale).astype(np.float32), int(chosen[0]), np.array(first_bins),
                np.array(starts), np.concatenate(weights) if weights else np.zeros(0),
            )
        )  # fmt: skip
        low_hz = high_hz
    return tuple(made)


def components(samples: npt.ArrayLike, *, sample_rate: float) -> Singles:
    """Power at the cochlea in components of a quarter Cam, frame after frame.

    Parameters
    ----------
    samples : (n, channels).
    sample_rate : Hz.

    Returns
    -------
    (channels, frames, COMPONENTS) float32: mean square after outer and middle ear, where a sine of full scale at 1 kHz
    has 1/2. Frame k is centred on the middle of its stretch of `frame_length` samples. Windows last 85 ms up to 250 Hz,
    43 ms to 900 Hz, 21 ms to 2.8 kHz and 11 ms above (after the multi-resolution spectra of Glasberg & Moore 2002, with
    fewer lengths); of the short ones several are averaged a frame.
    """
    x = np.asarray(samples, dtype=np.float32).T
    hop = frame_length(sample_rate)
    frames = frame_count(x.shape[1], sample_rate)
    out = np.zeros((x.shape[0], frames, COMPONENTS), dtype=np.float32)
    longest = max(w.length for w in _windows(sample_rate))
    padded = np.zeros((x.shape[0], frames * hop + 2 * longest), dtype=np.float32)
    padded[:, longest : longest + x.shape[1]] = x
    for window in _windows(sample_rate):
        step = hop // window.looks
        for channel, sound in enumerate(padded):
            for look in range(window.looks):
                begin = longest + step * look + step // 2 - window.length // 2
                views = np.lib.stride_tricks.sliding_window_view(sound[begin:], window.length)[::hop][:frames]
                part = out[channel, :, window.first_component : window.first_component + window.first_bin.size]
                for at in range(0, frames, _AT_ONCE):
                    spectrum = scipy_fft.rfft(views[at : at + _AT_ONCE] * window.shape, axis=1)
                    power = spectrum.real**2 + spectrum.imag**2
                    _gather(power, window.first_bin, window.weights, window.starts, part, at)
    return out
