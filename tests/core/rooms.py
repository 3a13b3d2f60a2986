"""Players, and a room that hears them, with rings planted in it."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from scipy import signal

from mivlo.core import treat
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.units import Floats

RATE = 24_000


@lru_cache(maxsize=64)
def _note(semitones: int, rate: int) -> Floats:
    """(n,) so far above A2, 0.6 s: each is played many times."""
    hz, t = 110.0 * 2.0 ** (semitones / 12), np.arange(round(0.6 * rate)) / rate
    return np.asarray(sum(np.sin(2 * np.pi * k * hz * t) / k for k in range(1, 20)) * np.exp(-t / 0.25))


def players(seconds: float, seed: int, rate: int = RATE) -> list[Floats]:
    """Two that play notes of a scale, and one that strikes: (n, 1) each."""
    random = np.random.default_rng(seed)
    count = round(seconds * rate)
    out = [np.zeros((count, 1)) for _ in range(3)]
    for player in range(2):
        for at in np.arange(0.0, seconds - 0.7, 0.3):
            note = _note(int(random.choice([0, 2, 4, 5, 7, 9, 11, 12, 14, 16])), rate)
            out[player][round(at * rate) : round(at * rate) + len(note), 0] += 0.1 * random.uniform(0.3, 1.0) * note
    for at in np.arange(0.1, seconds - 0.2, 0.45):
        hit = random.standard_normal(round(0.06 * rate)) * np.linspace(1, 0, round(0.06 * rate)) ** 2
        out[2][round(at * rate) : round(at * rate) + len(hit), 0] += 0.2 * hit
    return out


def in_room(played: list[Floats], rings: list[tuple[float, float, float]], seed: int, rate: int = RATE) -> Floats:
    """All of them in a room of 1.6 s, a pair of microphones, through bells (Hz, Q, dB)."""
    random = np.random.default_rng(seed)
    t = np.arange(round(1.6 * rate)) / rate
    answers = random.standard_normal((len(t), 2)) * 10.0 ** (-3.0 * t / 1.6)[:, None]
    answers[0] += 8.0
    dry = np.sum(played, axis=0)
    wet = signal.fftconvolve(dry, answers, axes=0)[: len(dry)] * 0.05
    bells = [StaticMove(Shape.BELL, hz, q=q, gain_db=db) for hz, q, db in rings]
    return treat(wet, bells, sample_rate=rate)
