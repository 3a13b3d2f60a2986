"""Small made-up sounds whose troubles are known exactly."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from mivlo.core.units import Floats, midi_to_hz

RATE = 48_000
SCALE = (57, 59, 60, 62, 64, 65, 67, 69, 71, 72, 69, 65, 62, 60, 64, 67)


def seconds(length_s: float) -> Floats:
    return np.arange(int(length_s * RATE)) / RATE


@lru_cache(maxsize=128)
def note(hz: float, length_s: float, *, partials: int = 14, vibrato_cents: float = 0.0) -> Floats:
    """A plucked-sounding note: harmonics that fall off by 1/k and decay, higher ones sooner. Not to be written into."""
    t = seconds(length_s)
    bend = 2.0 ** (vibrato_cents / 1200.0 * np.sin(2 * np.pi * 5.5 * t))
    phase = 2 * np.pi * hz * np.cumsum(bend) / RATE
    out = np.zeros_like(t)
    for k in range(1, partials + 1):
        if k * hz < 0.45 * RATE:
            out += np.sin(k * phase + k) / k * np.exp(-t * (1.5 + 0.4 * k))
    return out * np.clip(t / 0.005, 0, 1)


def melody(*, length_s: float = 10.0, beat_s: float = 0.4, vibrato_cents: float = 0.0, seed: int = 1) -> Floats:
    """Changing notes of a scale over a little noise: (n,)."""
    random = np.random.default_rng(seed)
    out = random.standard_normal(int((length_s + 2) * RATE)) * 3e-4
    for i in range(int(length_s / beat_s)):
        x = note(midi_to_hz(SCALE[(5 * i) % len(SCALE)]), 0.9, vibrato_cents=vibrato_cents) * random.uniform(0.5, 1.0)
        a = int(i * beat_s * RATE)
        out[a : a + len(x)] += x * 0.2
    return out[: int(length_s * RATE)]


def hits(*, length_s: float = 10.0, every_s: float = 0.31, seed: int = 2) -> Floats:
    """Short bursts of noise: strokes without any pitch."""
    random = np.random.default_rng(seed)
    out = random.standard_normal(int(length_s * RATE)) * 2e-4
    for a in np.arange(0.1, length_s - 0.4, every_s):
        t = seconds(0.2)
        burst = random.standard_normal(len(t)) * np.exp(-t / 0.03) * random.uniform(0.15, 0.4)
        out[int(a * RATE) : int(a * RATE) + len(t)] += burst
    return out


def mode(excitation: Floats, hz: float, t60_s: float, gain: float) -> Floats:
    """A modal resonator driven by a sound: its impulse response is gain · e^(-6.91 t / T60) · sin(2π f t)."""
    from scipy.signal import lfilter

    r, w = np.exp(-np.log(1000.0) / (t60_s * RATE)), 2 * np.pi * hz / RATE
    return np.asarray(lfilter([gain * np.sin(w) * r], [1.0, -2 * r * np.cos(w), r * r], excitation))
