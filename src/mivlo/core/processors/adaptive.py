"""The adaptive move as a stream processor: short spectra, turned down where something stands out.

Windows of about 43 ms, a quarter apart, Hann before and behind: while nothing is turned down they add up to the input
itself. What stands out is found on a grid of 24 points an octave. A partial is compared with the highest straight line
(dB over octaves) through one partial on either side of it: with the envelope through the others, not with the gaps
between them. So a smooth tone, however high it is, is left alone, and so is noise, whose peaks are alike. Where
partials move, each is compared with itself, too: with how high it and others were at the places that they passed a
moment ago.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from scipy import fft

from mivlo.core.errors import InvalidValue
from mivlo.core.moves import AdaptiveMove
from mivlo.core.processors.adaptive_kernel import gains_of, overlap_add
from mivlo.core.processors.memory import STEP_FORGOTTEN
from mivlo.core.processors.protocol import GLIDE_S, Keys, Step, checked_block
from mivlo.core.units import Floats, positive

WINDOW_S = 2048 / 48_000
HOPS = 4
POINTS_PER_OCTAVE = 24
AROUND_OCT = 1.0
"""So far beyond its range a move looks, to know what is smooth at its ends."""
AVERAGES_S = (0.025, 0.5)
"""Power is averaged over these times, and each is compared: in the longer, gliding partials fill the gaps between them,
so that what is narrow and stays where it is can be told from them."""
PASSED_S = 1.5
"""So long it is remembered where partials passed, and how high they were there (forgotten well before the averages)."""
_AT_ONCE = 32


def window_frames(rate: float, seconds: float = WINDOW_S) -> int:
    """Length of a window: a power of two of about so many seconds."""
    return int(2 ** round(math.log2(seconds * rate)))


@dataclass(frozen=True, slots=True)
class _Grid:
    """Where a move looks: points over the range and around it, and how they are made of bins and come back to them."""

    hz: Floats
    octaves: Floats
    first: npt.NDArray[np.int64]
    last: npt.NDArray[np.int64]
    weight: Floats
    factors: Floats
    first_bin: int
    bin_at: npt.NDArray[np.int64]
    bin_weight: Floats
    band_bins: npt.NDArray[np.int64]

    @classmethod
    def of(cls, move: AdaptiveMove, rate: float, length: int) -> _Grid:
        bin_hz = rate / length
        top = min(move.to_hz * 2.0**AROUND_OCT, 0.49 * rate)
        bottom = min(max(move.from_hz / 2.0**AROUND_OCT, 1.5 * bin_hz), top / 1.1)
        count = max(4, int(math.log2(top / bottom) * POINTS_PER_OCTAVE) + 1)
        octaves = math.log2(bottom) + np.arange(count) / POINTS_PER_OCTAVE
        hz = 2.0**octaves
        half = 2.0 ** (0.5 / POINTS_PER_OCTAVE)
        low, high = hz / half / bin_hz, hz * half / bin_hz
        wide = high - low >= 1.0
        first = np.where(wide, np.round(low), np.floor(hz / bin_hz)).astype(np.int64)
        last = np.maximum(np.round(high).astype(np.int64), first + 1)
        most = length // 2
        weight = np.where(wide, -1.0, hz / bin_hz - first)
        inside = (hz >= move.from_hz) & (hz <= move.to_hz)
        factors = np.where(inside, _weights(move, octaves), 0.0)
        bins = np.arange(max(1, math.ceil(bottom / bin_hz)), min(most, math.floor(hz[-1] / bin_hz)) + 1)
        place = (np.log2(bins * bin_hz) - octaves[0]) * POINTS_PER_OCTAVE
        bin_at = np.clip(place.astype(np.int64), 0, count - 2)
        edges = bottom * 2.0 ** np.arange(0.0, max(1.0, math.log2(top / bottom)) + 0.01, 1.0)
        bands = np.unique(np.clip(np.round(edges / bin_hz).astype(np.int64), 1, most))
        return cls(
            hz, octaves, np.minimum(first, most - 1), np.minimum(last, most), weight, factors,
            int(bins[0]), bin_at, place - bin_at, bands,
        )  # fmt: skip


def _weights(move: AdaptiveMove, octaves: Floats) -> Floats:
    if not move.weights:
        return np.ones_like(octaves)
    hz, factors = zip(*move.weights, strict=True)
    return np.asarray(np.interp(octaves, np.log2(hz), factors))


@dataclass(slots=True)
class _Memory:
    """All that the processor remembers."""

    pending: Floats
    pending_key: Floats
    history: Floats
    key_history: Floats
    tail: Floats
    ready: Floats
    power: Floats
    gain: Floats
    seen: Floats
    there: Floats
    bands: Floats
    at: int
    mix: float

    def copy(self) -> _Memory:
        arrays = (
            "pending",
            "pending_key",
            "history",
            "key_history",
            "tail",
            "ready",
            "power",
            "gain",
            "seen",
            "there",
            "bands",
        )
        return replace(self, **{name: getattr(self, name).copy() for name in arrays})


class AdaptiveProcessor:
    """Stream processor for one adaptive move.

    Parameters
    ----------
    sample_rate : Hz.
    channels : 1 or 2; both are turned down alike.
    steps : one move.

    Notes
    -----
    The output is one window late. Every hop, from the song's first frame on, has its gains; they are computed at the
    same frames whoever asks.
    """

    def __init__(self, sample_rate: float, channels: int, steps: Sequence[Step]) -> None:
        positive("sample_rate", sample_rate)
        if channels not in (1, 2):
            raise InvalidValue("channels", channels, "it must be 1 or 2")
        (self._step,) = steps
        self.sample_rate, self.channels = float(sample_rate), channels
        self.latency = window_frames(sample_rate)
        self.hop = self.latency // HOPS
        self._window = np.sqrt(2.0 / 3.0) * fft_hann(self.latency)
        self._scale = 4.0 / self.latency / np.sqrt(2.0 / 3.0)  # a full-scale sine at a bin's centre reads 1
        self._take(self._move)
        self._memory = self._empty()

    @property
    def aligned(self) -> int:
        """Begins where a hop begins."""
        return self.hop

    @property
    def _move(self) -> AdaptiveMove:
        move: AdaptiveMove = self._step.move
        return move

    def _take(self, move: AdaptiveMove) -> None:
        self._grid = _Grid.of(move, self.sample_rate, self.latency)
        hop_s = self.hop / self.sample_rate
        self._attack = 1.0 - math.exp(-hop_s / (move.attack_ms * 1e-3))
        self._release = 1.0 - math.exp(-hop_s / (move.release_ms * 1e-3))
        self._shares = np.array([1.0 - math.exp(-hop_s / average_s) for average_s in AVERAGES_S])

    def _empty(self) -> _Memory:
        n, ch = self.latency, self.channels
        return _Memory(
            np.zeros((0, ch)), np.zeros((0, 1)), np.zeros((n - self.hop, ch)), np.zeros((n - self.hop, 1)),
            np.zeros((n - self.hop, ch)), np.zeros((self.hop, ch)), np.zeros((len(AVERAGES_S), n // 2 + 1)),
            np.zeros(len(self._grid.hz)), *self._nothing_seen(), 0, 1.0 if self._step.enabled else 0.0,
        )  # fmt: skip

    def _nothing_seen(self) -> tuple[Floats, Floats, Floats]:
        windows = max(1, round(PASSED_S * self.sample_rate / self.hop))
        nothing = np.zeros((windows, len(self._grid.hz)))
        return nothing, nothing.copy(), np.full((windows, len(self._grid.band_bins) - 1), np.nan)

    @property
    def gliding(self) -> bool:
        """Whether it is on its way on or off."""
        return self._memory.mix != float(self._step.enabled)

    @property
    def memory_s(self) -> float:
        """Seconds after which the past is forgotten to -120 dB."""
        if not self._step.enabled and not self.gliding:
            return self.latency / self.sample_rate
        slowest = max(self._move.attack_ms, self._move.release_ms) * 1e-3
        return 2.0 * self.latency / self.sample_rate + STEP_FORGOTTEN * (slowest + AVERAGES_S[-1])

    def aim(self, steps: Sequence[Step], *, glide: bool = True) -> None:
        """Take new values; cuts go there by their own times."""
        (step,) = steps
        before = self._grid
        if step.move != self._step.move:
            self._take(step.move)
            memory = self._memory
            if not np.array_equal(before.octaves, self._grid.octaves):
                memory.gain = np.interp(self._grid.octaves, before.octaves, memory.gain, left=0.0, right=0.0)
                memory.seen, memory.there, memory.bands = self._nothing_seen()
        self._step = step
        if not glide:
            self._memory.mix = float(step.enabled)

    def process(self, block: npt.ArrayLike, keys: Keys | None = None) -> Floats:
        """Treat the next samples: (n, channels) in and out, one window late."""
        x = checked_block(block, self.channels)
        self._run(x, keys or {}, None)
        return x

    def trace(self, block: npt.ArrayLike, keys: Keys | None = None) -> tuple[Floats, Floats]:
        """Treat the next samples, and tell what was turned down.

        Returns
        -------
        Frequencies in Hz, (points,), and gains in dB, (windows, points), of each window that was completed.
        """
        rows: list[Floats] = []
        self._run(checked_block(block, self.channels), keys or {}, rows)
        return self._grid.hz, np.concatenate([np.empty((0, len(self._grid.hz))), *rows])

    def _run(self, x: Floats, keys: Keys, rows: list[Floats] | None) -> None:
        """Treat x in place."""
        memory, count = self._memory, len(x)
        sources = self._move.listens_to
        memory.pending = np.concatenate([memory.pending, x])
        if sources:
            key = keys.get(sources[0], np.zeros((count, 1)))
            memory.pending_key = np.concatenate([memory.pending_key, np.mean(key, axis=1, keepdims=True)])
        hops = len(memory.pending) // self.hop
        made = [memory.ready]
        for start in range(0, hops, _AT_ONCE):
            stop = min(hops, start + _AT_ONCE)
            made.append(self._windows(start * self.hop, stop * self.hop, bool(sources), rows))
        memory.pending = memory.pending[hops * self.hop :]
        memory.pending_key = memory.pending_key[hops * self.hop :]
        out = np.concatenate(made)
        x[:], memory.ready = out[:count], out[count:]

    def _windows(self, start: int, stop: int, listens: bool, rows: list[Floats] | None) -> Floats:
        """Treat the hops of what is pending from start to stop: what is done of them."""
        memory, n, hop = self._memory, self.latency, self.hop
        spectra, memory.history = self._spectra(memory.history, memory.pending[start:stop])
        heard = spectra
        if listens:
            heard, memory.key_history = self._spectra(memory.key_history, memory.pending_key[start:stop])
        gains = np.empty((len(spectra), n // 2 + 1))
        told = np.empty((len(spectra) if rows is not None else 0, len(self._grid.hz)))
        self._follow(heard, gains, told)
        if rows is not None:
            rows.append(told)
        spectra *= gains[:, None, :]
        pieces = np.ascontiguousarray((fft.irfft(spectra, n, axis=2) * self._window).transpose(0, 2, 1))
        out = np.empty((stop - start, self.channels))
        overlap_add(pieces, memory.tail, out, hop)
        return out

    def _spectra(self, history: Floats, new: Floats) -> tuple[npt.NDArray[np.complex128], Floats]:
        """Spectra of the windows that end in what is new, (k, channels, bins), and the history for the next ones."""
        n, hop = self.latency, self.hop
        whole = np.concatenate([history, new])
        views = np.lib.stride_tricks.sliding_window_view(whole, n, axis=0)[::hop]  # (k, channels, n)
        return np.asarray(fft.rfft(views * self._window, axis=2)), whole[len(whole) - (n - hop) :]

    def _follow(self, spectra: npt.NDArray[np.complex128], gains: Floats, told: Floats) -> None:
        """Gains of all bins for the next windows, of what is listened to."""
        memory, grid, move = self._memory, self._grid, self._move
        memory.mix, memory.at = gains_of(
            spectra, self._scale**2, memory.power, self._shares, grid.first, grid.last, grid.weight, grid.octaves,
            move.width_oct, move.share * grid.factors, move.most_db, self._attack, self._release, memory.gain,
            grid.first_bin, grid.bin_at, grid.bin_weight, memory.mix, float(self._step.enabled),
            self.hop / (GLIDE_S * self.sample_rate), memory.seen, memory.there, memory.bands, grid.band_bins,
            memory.at, gains, told,
        )  # fmt: skip

    def state(self) -> _Memory:
        """An exact copy of its memory."""
        return self._memory.copy()

    def restore(self, state: _Memory) -> None:
        """Go on from a copy of the memory."""
        self._memory = state.copy()

    def report(self) -> Mapping[int | str, float]:
        """The deepest cut at present, in dB."""
        return {self._step.key: float(self._memory.gain.min()) if self._step.enabled else 0.0}


def fft_hann(length: int) -> Floats:
    """A periodic Hann window, (length,)."""
    return np.asarray(0.5 - 0.5 * np.cos(2.0 * np.pi * np.arange(length) / length))
