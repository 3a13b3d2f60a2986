"""What comes behind the moves, as stream processors: clip, harmonics, reverb. Compressors are dynamic moves."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numba as nb
import numpy as np
import numpy.typing as npt

from mivlo.core.moves import Air, Clip, Reverb, Warmth
from mivlo.core.processors.cascade import Cascade
from mivlo.core.processors.oversampling import LATENCY, TIMES, Oversampled, add_harmonics, clip
from mivlo.core.processors.protocol import Keys, Step, checked_block
from mivlo.core.units import Floats, db_to_gain


class _Care:
    """What these processors have in common: values are taken at once, nothing is reported."""

    aligned = 1
    gliding = False

    def report(self) -> Mapping[int | str, float]:
        """They have no gain to tell."""
        return {}


class ClipProcessor(_Care):
    """Bends what comes near a ceiling, at eight times the rate. The output is LATENCY frames late."""

    latency = LATENCY

    def __init__(self, sample_rate: float, channels: int, steps: Sequence[Step]) -> None:
        self._last = np.zeros(channels)
        self._stream = Oversampled(channels, self._bend)
        self.memory_s = 3.0 * LATENCY / sample_rate
        self.aim(steps)

    def aim(self, steps: Sequence[Step], *, glide: bool = True) -> None:
        """Take new values."""
        value: Clip = steps[0].move
        self._value = value
        self._drive, self._ceiling = db_to_gain(value.drive_db), db_to_gain(value.ceiling_db)

    def _bend(self, x: Floats) -> Floats:
        x *= self._drive
        clip(x, self._last, self._ceiling, self._value.hardness)
        return x

    def process(self, block: npt.ArrayLike, keys: Keys | None = None) -> Floats:
        """The next samples: (n, channels) in and out."""
        return self._stream.process(block)

    def state(self) -> Any:
        """A copy of its memory."""
        return self._stream.state(), self._last.copy()

    def restore(self, state: Any) -> None:
        """Go on from a copy."""
        self._stream.restore(state[0])
        self._last = state[1].copy()


def _butterworth(order: int, hz: float, side: _Side, rate: float) -> Floats:
    """Sections of a Butterworth filter, in scipy's order."""
    from scipy import signal  # takes long to load, and few need it

    return np.asarray(signal.butter(order, hz, side, fs=rate, output="sos"))


_Side = Literal["lowpass", "highpass"]
_ENVELOPE_HZ = 25.0
_ORDER = 4
_BELOW_HZ = 20.0


class _Harmonics:
    """Harmonics of one band, made at the higher rate."""

    def __init__(self, sample_rate: float, channels: int, band: _Side, hz: float, level_db: float) -> None:
        rate = sample_rate * TIMES
        self.gain = db_to_gain(level_db)
        self._band = Cascade(_butterworth(_ORDER, min(hz, 0.45 * sample_rate), band, rate), channels)
        self._envelope = Cascade(_butterworth(2, _ENVELOPE_HZ, "lowpass", rate), channels)
        self._top = Cascade(_butterworth(2, _BELOW_HZ, "highpass", rate), channels)

    def add(self, x: Floats, out: Floats) -> None:
        band = self._band.process(x)
        power = self._envelope.process(band * band)
        made = np.zeros_like(x)
        add_harmonics(band, np.sqrt(2.0 * np.maximum(power, 0.0)), self.gain, made)
        out += self._top.process(made)

    def state(self) -> Any:
        return self._band.state(), self._envelope.state(), self._top.state()

    def restore(self, state: Any) -> None:
        for part, known in zip((self._band, self._envelope, self._top), state, strict=True):
            part.restore(known)


class HarmonicsProcessor(_Care):
    """Warmth and air: harmonics of what lies below and above a frequency, added. LATENCY frames late."""

    latency = LATENCY

    def __init__(self, sample_rate: float, channels: int, steps: Sequence[Step]) -> None:
        self._rate, self._channels = sample_rate, channels
        self._stream = Oversampled(channels, self._bend)
        self.memory_s = 3.0 * LATENCY / sample_rate + 14.0 / (math.pi * _BELOW_HZ)
        self._bands: list[_Harmonics] = []
        self._values: tuple[Warmth | Air, ...] = ()
        self.aim(steps)

    def aim(self, steps: Sequence[Step], *, glide: bool = True) -> None:
        """Take new values; a band whose frequency has changed begins anew."""
        values: list[Warmth | Air] = [step.move for step in steps]
        bands = []
        for i, value in enumerate(values):
            kind, hz = _place(value)
            known = self._values[i] if i < len(self._values) else None
            if known is not None and _place(known) == _place(value):
                band = self._bands[i]
                band.gain = db_to_gain(value.level_db)
            else:
                band = _Harmonics(self._rate, self._channels, kind, hz, value.level_db)
            bands.append(band)
        self._bands, self._values = bands, tuple(values)

    def _bend(self, x: Floats) -> Floats:
        out = x.copy()
        for band in self._bands:
            band.add(x, out)
        return out

    def process(self, block: npt.ArrayLike, keys: Keys | None = None) -> Floats:
        """The next samples: (n, channels) in and out."""
        return self._stream.process(block)

    def state(self) -> Any:
        """A copy of its memory."""
        return self._stream.state(), [band.state() for band in self._bands]

    def restore(self, state: Any) -> None:
        """Go on from a copy."""
        self._stream.restore(state[0])
        for band, known in zip(self._bands, state[1], strict=True):
            band.restore(known)


def _place(value: Warmth | Air) -> tuple[_Side, float]:
    return ("lowpass", value.below_hz) if isinstance(value, Warmth) else ("highpass", value.above_hz)


# --- reverb -----------------------------------------------------------------------------------------

_LINES_S = (0.0297, 0.0371, 0.0411, 0.0437, 0.0533, 0.0599, 0.0671, 0.0743)
_DIFFUSERS_S = (0.0047, 0.0036, 0.0127, 0.0093)
_PREDELAY_S = 0.02
_LOW_HZ, _HIGH_HZ = 200.0, 8000.0
_DIFFUSION = 0.6


@nb.njit(cache=True, nogil=True)
def _room(x, lines, lengths, at, gains, damp, damped, diffusers, widths, spots, out):  # type: ignore[no-untyped-def]
    """Eight delay lines that feed each other (Householder), behind four allpasses. x (n,), out (n, 2)."""
    count = lines.shape[0]
    for n in range(x.shape[0]):
        u = x[n]
        for d in range(diffusers.shape[0]):
            old = diffusers[d, spots[d]]
            new = u - _DIFFUSION * old
            diffusers[d, spots[d]] = new
            u = old + _DIFFUSION * new
            spots[d] = spots[d] + 1 if spots[d] + 1 < widths[d] else 0
        total, left, right = 0.0, 0.0, 0.0
        for k in range(count):
            damped[k] += damp * (lines[k, at[k]] * gains[k] - damped[k])
            total += damped[k]
            if k % 2 == 0:
                left += damped[k] if k % 4 == 0 else -damped[k]
            else:
                right += damped[k] if k % 4 == 1 else -damped[k]
        total *= 2.0 / count
        for k in range(count):
            lines[k, at[k]] = damped[k] - total + u
            at[k] = at[k] + 1 if at[k] + 1 < lengths[k] else 0
        out[n, 0], out[n, 1] = 0.5 * left, 0.5 * right


class ReverbProcessor(_Care):
    """A plain room: a network of feedback delays (J.-M. Jot, A. Chaigne 1991) behind a delay and two cuts.

    Every line loses as much a second, so that its sound falls by 60 dB in the time of decay.
    """

    latency = 0

    def __init__(self, sample_rate: float, channels: int, steps: Sequence[Step]) -> None:
        self._rate, self._channels = sample_rate, channels
        self._lengths = np.array([max(2, round(s * sample_rate)) for s in _LINES_S])
        self._widths = np.array([max(2, round(s * sample_rate)) for s in _DIFFUSERS_S])
        cuts = np.concatenate(
            [
                _butterworth(2, _LOW_HZ, "highpass", sample_rate),
                _butterworth(2, min(_HIGH_HZ, 0.45 * sample_rate), "lowpass", sample_rate),
            ]
        )
        self._cuts = Cascade(cuts, 1)
        self._damp = 1.0 - math.exp(-2.0 * math.pi * min(_HIGH_HZ, 0.45 * sample_rate) / sample_rate)
        self._arrays = [
            np.zeros((len(_LINES_S), int(self._lengths.max()))), np.zeros(len(_LINES_S), dtype=np.int64),
            np.zeros(len(_LINES_S)), np.zeros((len(_DIFFUSERS_S), int(self._widths.max()))),
            np.zeros(len(_DIFFUSERS_S), dtype=np.int64), np.zeros((round(_PREDELAY_S * sample_rate), 1)),
        ]  # fmt: skip
        self.aim(steps)

    def aim(self, steps: Sequence[Step], *, glide: bool = True) -> None:
        """Take new values."""
        value: Reverb = steps[0].move
        self._send = db_to_gain(value.send_db)
        self._gains = 10.0 ** (-3.0 * self._lengths / (self._rate * value.decay_s))
        self.memory_s = 2.0 * value.decay_s + 0.2

    def process(self, block: npt.ArrayLike, keys: Keys | None = None) -> Floats:
        """The next samples with their room: (n, channels) in and out."""
        x = checked_block(block, self._channels)
        lines, at, damped, diffusers, spots, waiting = self._arrays
        both = np.concatenate([waiting, np.mean(x, axis=1, keepdims=True)])
        self._arrays[5] = both[len(x) :]
        sent = self._cuts.process(both[: len(x)])[:, 0]
        room = np.empty((len(x), 2))
        _room(sent, lines, self._lengths, at, self._gains, self._damp, damped, diffusers, self._widths, spots, room)
        if self._channels == 1:
            room = np.sum(room, axis=1, keepdims=True) * math.sqrt(0.5)
        return np.asarray(x + self._send * room)

    def state(self) -> Any:
        """A copy of its memory."""
        return self._cuts.state(), [array.copy() for array in self._arrays]

    def restore(self, state: Any) -> None:
        """Go on from a copy."""
        self._cuts.restore(state[0])
        self._arrays = [array.copy() for array in state[1]]
