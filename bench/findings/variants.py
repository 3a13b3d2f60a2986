"""Other instruments from those that are there: what networks learn from, so that fewer sounds are foreign to them.

A clip is played faster or slower, so that its body moves with its notes, or one of its notes again and again; two
sources sound together; it is struck instead of held, driven, gets lines that ring longer than any trouble would, the
resonances of another body, which are nobody's trouble either, and a small room.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy.signal import lfilter

from bench.findings.damage import log_uniform
from bench.findings.recorded import transposed
from bench.findings.rooms import in_room
from bench.findings.sources import RATE
from mivlo.core.graph import treat
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.units import Floats, octaves_to_q


def _transposed(x: Floats, octaves: float) -> Floats:
    """As long as before; played faster it begins again."""
    y = transposed(x, 12.0 * octaves)
    return np.asarray(np.tile(y, int(np.ceil(len(x) / len(y))))[: len(x)])


def _body(random: np.random.Generator) -> list[StaticMove]:
    """Formants and modes: many, most of them small, of any width."""
    out = []
    for _ in range(int(random.integers(4, 16))):
        hz = log_uniform(random, 80.0, 9_000.0)
        width = log_uniform(random, 0.04, 0.9)
        gain = float(random.laplace(0.0, 2.0))
        out.append(StaticMove(Shape.BELL, hz, q=octaves_to_q(width), gain_db=float(np.clip(gain, -12.0, 7.0))))
    return out


def _struck(x: Floats, random: np.random.Generator) -> Floats:
    """Held sounds die away, as if each were plucked."""
    period, decay = float(random.uniform(0.15, 1.2)), float(random.uniform(0.05, 0.6))
    t = np.arange(len(x)) / RATE
    return np.asarray(x * np.exp(-(t % period) / decay))


def _driven(x: Floats, random: np.random.Generator) -> Floats:
    drive = 10.0 ** (random.uniform(0.0, 24.0) / 20.0) / max(1e-9, float(np.max(np.abs(x))))
    return np.asarray(np.tanh(drive * x + float(random.uniform(0.0, 0.3))) / drive)


def _with_lines(x: Floats, random: np.random.Generator) -> Floats:
    """Tones of its own: they ring for half a second and more, whatever excites them."""
    out = x.copy()
    level = float(np.std(x))
    for _ in range(int(random.integers(1, 5))):
        hz = log_uniform(random, 90.0, 4_000.0)
        ring_s = max(float(random.uniform(0.3, 3.0)), 2.2 * 150.0 / hz)
        r = 10.0 ** (-3.0 / (ring_s * RATE))
        rung = lfilter([1.0], [1.0, -2.0 * r * np.cos(2.0 * np.pi * hz / RATE), r * r], x)
        share = 10.0 ** (random.uniform(-26.0, -4.0) / 20.0)
        out += rung * (share * level / max(1e-12, float(np.std(rung))))
    return np.asarray(out)


def _faded(piece: Floats) -> Floats:
    """With short ends, so that it can be joined to others."""
    fade = np.linspace(0.0, 1.0, min(RATE // 200, len(piece) // 2))
    return np.asarray(piece * np.concatenate([fade, np.ones(len(piece) - 2 * len(fade)), fade[::-1]]))


def _one_note(x: Floats, random: np.random.Generator) -> Floats:
    """A short stretch again and again, louder and softer: its partials stand as still as any trouble."""
    length = int(float(random.uniform(0.35, 1.4)) * RATE)
    start = int(random.integers(0, max(1, len(x) - length)))
    piece = x[start : start + length]
    if float(np.max(np.abs(piece))) < 0.05 * float(np.max(np.abs(x))):
        return x
    piece = _faded(piece)
    times = int(np.ceil(len(x) / length))
    levels = 10.0 ** (random.normal(0.0, 4.0, times) / 20.0)
    return np.asarray(np.concatenate([level * piece for level in levels])[: len(x)])


def _other_notes(x: Floats, random: np.random.Generator) -> Floats:
    """Stretches of it, each played faster or slower by itself."""
    out: list[Floats] = []
    while sum(map(len, out)) < len(x):
        length = int(float(random.uniform(0.3, 1.5)) * RATE)
        start = int(random.integers(0, max(1, len(x) - length)))
        out.append(_faded(transposed(x[start : start + length], int(random.integers(-7, 8)))))
    return np.concatenate(out)[: len(x)]


def varied(clean: Floats, random: np.random.Generator, another: Callable[[], Floats]) -> Floats:
    """Another sound of the same length; `another` gives a clip of any other source."""
    x = _transposed(clean, float(random.uniform(-0.6, 0.6)))
    if random.random() < 0.15:
        x = _other_notes(x, random)
    elif random.random() < 0.15:
        x = _one_note(x, random)
    if random.random() < 0.25:
        beside = _transposed(another(), float(random.uniform(-0.5, 0.5)))[: len(x)]
        share = 10.0 ** (random.uniform(-15.0, 0.0) / 20.0) * np.std(x) / max(1e-9, float(np.std(beside)))
        x = x[: len(beside)] + share * beside
    if random.random() < 0.2:
        x = _struck(x, random)
    if random.random() < 0.2:
        x = _driven(x, random)
    if random.random() < 0.35:
        x = _with_lines(x, random)
    if random.random() < 0.7:
        x = treat(x[:, None], _body(random), sample_rate=RATE)[:, 0]
    if random.random() < 0.4:
        x = in_room(x, random, RATE)
    peak = float(np.max(np.abs(x)))
    return np.asarray(x * (0.5 / peak)) if peak > 0.0 else x
