"""What an adaptive move did to a sound: its gains over time and frequency, and the power that they met."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from mivlo.core.moves import AdaptiveMove, Entry
from mivlo.core.processors import AdaptiveProcessor, Step
from mivlo.core.processors.adaptive import fft_hann
from mivlo.core.spectra import power_between, short_spectra
from mivlo.core.units import Floats


@dataclass(frozen=True, slots=True)
class Picture:
    """Power of a sound and what an adaptive move left of its amplitude.

    power, goal : (windows, points); a window is 43 ms, a point 1/24 octave. hz : (points,). times_s : (windows,), the
    centres of the windows. hop_s : from one to the next. wanted : the energy that was taken away.
    """

    power: Floats
    goal: Floats
    hz: Floats
    times_s: Floats
    hop_s: float
    wanted: float

    def since(self, seconds: float) -> Picture:
        """Of the windows whose centres lie there or later."""
        kept = self.times_s >= seconds
        power, goal = self.power[kept], self.goal[kept]
        wanted = float(np.sum(power * (1.0 - goal) ** 2))
        return replace(self, power=power, goal=goal, times_s=self.times_s[kept], wanted=wanted)

    def mean_db(self) -> Floats:
        """By how much the power was turned down at each point over the whole: (points,), dB, 0 or below."""
        before = np.sum(self.power, axis=0)
        after = np.sum(self.power * self.goal**2, axis=0)
        return np.asarray(10.0 * np.log10((after + 1e-30) / (before + 1e-30)))

    def thinned(self, columns: int, rows: int) -> tuple[Floats, Floats, Floats]:
        """The deepest cut of each stretch of time and frequency: times, frequencies, dB (columns, rows)."""
        across, up = -(-len(self.times_s) // columns) or 1, -(-len(self.hz) // rows) or 1
        first, lowest = np.arange(0, len(self.times_s), across), np.arange(0, len(self.hz), up)
        if not len(first):
            return np.zeros(0), self.hz[lowest], np.zeros((0, len(lowest)))
        deepest = np.minimum.reduceat(np.minimum.reduceat(self.goal, first, axis=0), lowest, axis=1)
        middle = self.hz[np.minimum(lowest + (up - 1) // 2, len(self.hz) - 1)]
        return self.times_s[first], middle, np.asarray(20.0 * np.log10(np.maximum(deepest, 1e-3)))


def picture_of(
    sound: npt.ArrayLike,
    entry: Entry,
    key: npt.ArrayLike | None = None,
    *,
    sample_rate: int,
    start_s: float = 0.0,
) -> Picture:
    """What an adaptive move does to a sound (n, channels) that reaches it.

    key : what it listens to, if that is another sound. start_s : where the sound begins; stretches and times count
    from there on.
    """
    x, move, rate = np.asarray(sound, dtype=np.float64), entry.move, sample_rate
    assert isinstance(move, AdaptiveMove)
    processor = AdaptiveProcessor(rate, x.shape[1], [Step(0, move)])
    late, hop = processor.latency, processor.hop
    longer = np.concatenate([x, np.zeros((late, x.shape[1]))])
    keys = {}
    if key is not None:
        heard = np.asarray(key, dtype=np.float64)
        keys = {source: np.concatenate([heard, np.zeros((late, heard.shape[1]))]) for source in move.listens_to}
    hz, gain_db = processor.trace(longer, keys)
    inside = (hz >= move.from_hz) & (hz <= move.to_hz)
    padded = np.concatenate([np.zeros((late - hop, x.shape[1])), longer])
    half = math.sqrt(hz[1] / hz[0])
    power = np.concatenate(
        [
            power_between(np.sum(np.abs(piece) ** 2, axis=1), hz[inside] / half, hz[inside] * half, rate / late)
            for piece in short_spectra(padded, fft_hann(late), hop)
        ]
    )[: len(gain_db)]
    times = start_s + ((np.arange(len(gain_db)) + 1) * hop - late / 2) / rate
    acts = np.ones(len(times), dtype=bool)
    if entry.stretches:
        starts, stops = np.array(entry.stretches).T
        last = np.searchsorted(starts, times, side="right") - 1
        acts = (last >= 0) & (times < stops[np.maximum(last, 0)])
    goal = np.where(acts[:, None], 10.0 ** (gain_db[:, inside] / 20.0), 1.0)
    return Picture(power, goal, hz[inside], times, hop / rate, float(np.sum(power * (1.0 - goal) ** 2)))
