"""Convolution with long filters in blocks of any size: uniformly partitioned, in the frequency domain.

The input's spectra wait in a line; a block of output is the sum of those times the spectra of the filter's parts
(overlap-save; T. G. Stockham 1966, uniformly partitioned as in W. G. Gardner, "Efficient convolution without
input-output delay", JAES 43, 1995, without its direct part).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numba as nb
import numpy as np
import numpy.typing as npt
from scipy import fft

from mivlo.core.processors.protocol import checked_block
from mivlo.core.units import Floats

CELL = 1024
"""Frames of a part of the filter, and of a block of output."""

Spectra = npt.NDArray[np.complex128]


@nb.njit(cache=True, nogil=True)
def _convolve(line, newest, parts, out):  # type: ignore[no-untyped-def]
    """out (channels, bins): the sum over the parts p of line[newest - p] times parts[p]; line is a ring."""
    size, channels, bins = line.shape
    for c in range(channels):
        for b in range(bins):
            out[c, b] = 0.0
        for p in range(parts.shape[0]):
            row, part = line[(newest - p) % size, c], parts[p]
            for b in range(bins):
                out[c, b] += row[b] * part[b]


def parts_of(taps: Floats) -> Spectra:
    """Spectra of a filter's parts, (parts, CELL + 1)."""
    count = -(-len(taps) // CELL)
    padded = np.zeros((count, CELL))
    padded.reshape(-1)[: len(taps)] = taps
    return np.asarray(fft.rfft(padded, 2 * CELL, axis=1))


@dataclass(slots=True)
class ConvolutionMemory:
    """All that a convolution remembers."""

    line: Spectra
    newest: int
    last: Floats
    pending: Floats
    ready: Floats

    def copy(self) -> ConvolutionMemory:
        arrays = ("line", "last", "pending", "ready")
        return replace(self, **{name: getattr(self, name).copy() for name in arrays})


class Convolution:
    """Convolution with one filter for all channels.

    Parameters
    ----------
    taps : (m,) the filter. Another one, not longer, may take its place: it comes in within one cell.
    channels : how many.

    Notes
    -----
    The output is CELL frames late, beside what the filter itself delays.
    """

    def __init__(self, taps: Floats, channels: int) -> None:
        self._parts = parts_of(taps)
        self._next: Spectra | None = None
        self.channels = channels
        n = len(self._parts)
        self.memory = ConvolutionMemory(
            np.zeros((n, channels, CELL + 1), dtype=np.complex128), 0, np.zeros((CELL, channels)),
            np.zeros((0, channels)), np.zeros((CELL, channels)),
        )  # fmt: skip

    @property
    def gliding(self) -> bool:
        """Whether another filter is about to come in."""
        return self._next is not None

    def aim(self, taps: Floats, *, glide: bool) -> None:
        """Take another filter of as many parts."""
        parts = parts_of(taps)
        if len(parts) != len(self._parts):
            raise ValueError("another convolution must take over")
        if glide:
            self._next = parts
        else:
            self._parts, self._next = parts, None

    def process(self, block: npt.ArrayLike) -> Floats:
        """The next samples: (n, channels) in and out."""
        x = checked_block(block, self.channels)
        memory = self.memory
        memory.pending = np.concatenate([memory.pending, x])
        cells = len(memory.pending) // CELL
        made = [memory.ready]
        for k in range(cells):
            made.append(self._cell(memory.pending[k * CELL : (k + 1) * CELL]))
        memory.pending = memory.pending[cells * CELL :]
        out = np.concatenate(made)
        memory.ready = out[len(x) :]
        return out[: len(x)]

    def _cell(self, new: Floats) -> Floats:
        memory = self.memory
        memory.newest = (memory.newest + 1) % len(memory.line)
        memory.line[memory.newest] = fft.rfft(np.concatenate([memory.last, new]).T, axis=1)
        memory.last = new
        out = self._through(self._parts)
        if self._next is not None:
            share = ((np.arange(CELL) + 1.0) / CELL)[:, None]
            out += (self._through(self._next) - out) * (share * share * (3.0 - 2.0 * share))
            self._parts, self._next = self._next, None
        return out

    def _through(self, parts: Spectra) -> Floats:
        out = np.empty((self.channels, CELL + 1), dtype=np.complex128)
        _convolve(self.memory.line, self.memory.newest, parts, out)
        return np.ascontiguousarray(fft.irfft(out, 2 * CELL, axis=1)[:, CELL:].T)
