"""What is shown while it plays: levels, and the spectrum of the strip that is looked at."""

from __future__ import annotations

import math
from collections import deque
from typing import Any

import numpy as np

from mivlo.core.loudness import SILENCE_LUFS, ShortTermMeter, TruePeakMeter
from mivlo.core.spectra import LongTermSpectrum, Singles, band_levels, log_grid
from mivlo.core.units import Floats
from mivlo.live.engine import Engine

SPECTRUM_WINDOW = 8192
SPECTRUM_POINTS_PER_OCTAVE = 24


def level_db(value: float) -> float:
    """An amplitude in dB, to a tenth; -120 for silence."""
    return round(20.0 * math.log10(value), 1) if value > 1e-6 else -120.0


class SpectrumMeter:
    """The last window of the focused strip, untreated and treated."""

    def __init__(self, sample_rate: int) -> None:
        self._rate = sample_rate
        self.grid_hz = log_grid(SPECTRUM_POINTS_PER_OCTAVE)
        self.forget()

    def forget(self) -> None:
        self._recent: tuple[Floats, Floats] = (np.zeros((0, 1)), np.zeros((0, 1)))

    def add(self, untreated: Floats, treated: Floats) -> None:
        joined = []
        for kept, new in zip(self._recent, (untreated, treated), strict=True):
            if kept.shape[1:] != new.shape[1:]:
                kept = new[:0]
            joined.append(np.concatenate([kept, new])[-SPECTRUM_WINDOW:])
        self._recent = (joined[0], joined[1])

    @property
    def full(self) -> bool:
        return len(self._recent[0]) >= SPECTRUM_WINDOW

    def levels(self) -> tuple[Floats, Floats]:
        """Levels in 1/12 octave bands at `grid_hz`, untreated and treated."""
        return self._levels(self._recent[0]), self._levels(self._recent[1])

    def _levels(self, x: Floats) -> Floats:
        spectrum = LongTermSpectrum(self._rate, x.shape[1], window_at_48k=SPECTRUM_WINDOW)
        padded = np.zeros((max(spectrum.length, len(x)), x.shape[1]))
        padded[-len(x) :] = x
        spectrum.add(padded[-spectrum.length :])
        return band_levels(spectrum.power(), spectrum.bin_hz, self.grid_hz, bands_per_octave=12)


class LevelsMeter:
    """Levels of the focused strip before and behind its moves: peak and true peak of the last 3 s, short-term loudness.

    BS.1770-5 for true peak and weighting; 3 s as EBU Tech 3341 has it.
    """

    def __init__(self, sample_rate: int) -> None:
        self._rate = sample_rate
        self.forget()

    def forget(self) -> None:
        self._sides: tuple[_Side, ...] = ()

    def add(self, untreated: Floats, treated: Floats) -> None:
        """Take what was heard of both."""
        channels = (untreated.shape[1], treated.shape[1])
        if tuple(side.channels for side in self._sides) != channels:
            self._sides = tuple(_Side(self._rate, count) for count in channels)
        for side, x in zip(self._sides, (untreated, treated), strict=True):
            side.add(x)

    def told(self) -> dict[str, Any] | None:
        """For the page; None where nothing was heard."""
        if not self._sides:
            return None
        before, after = (side.told() for side in self._sides)
        sounding = min(before["lufs"], after["lufs"]) > SILENCE_LUFS
        return {"in": before, "out": after, "lu": round(after["lufs"] - before["lufs"], 1) if sounding else 0.0}


class _Side:
    def __init__(self, sample_rate: int, channels: int) -> None:
        self.channels = channels
        self._rate = sample_rate
        self._loudness = ShortTermMeter(sample_rate, channels)
        self._true = TruePeakMeter(channels)
        self._peaks: deque[tuple[int, float, float]] = deque()
        self._frames = 0

    def add(self, x: Floats) -> None:
        if not len(x):
            return
        self._loudness.add(x)
        self._frames += len(x)
        self._peaks.append((self._frames, float(np.max(np.abs(x))), self._true.add(x)))
        while self._peaks[0][0] < self._frames - ShortTermMeter.SECONDS * self._rate:
            self._peaks.popleft()

    def told(self) -> dict[str, float]:
        peak, true = (max(entry[i] for entry in self._peaks) for i in (1, 2))
        loudness = round(self._loudness.lufs(), 1)
        return {"peak_db": level_db(peak), "true_peak_db": level_db(max(peak, true)), "lufs": loudness}


def report(engine: Engine, heard: Singles, dropped: int, levels: LevelsMeter) -> dict[str, Any]:
    """A line of levels for the page."""
    peak = np.abs(heard).max(axis=0)
    power = np.mean(heard.astype(np.float64) ** 2, axis=0)
    return {
        "type": "report",
        "position_s": round(engine.position / engine.sample_rate, 4),
        "peak_db": [level_db(float(v)) for v in peak],
        "rms_db": [level_db(math.sqrt(float(v))) for v in power],
        "tracks": {str(key): level_db(value) for key, value in engine.peaks().items()},
        "dropped": dropped,
        "moving": {str(key): round(gain, 1) for key, gain in engine.moving().items()},
        "probe_held_back_db": round(engine.probe_held_back_db, 1),
        "limiter_db": round(engine.limiter.held_back_db, 1),
        "levels": levels.told(),
    }
