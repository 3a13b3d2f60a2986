"""Pairs and trios with known answers: planted clashes, natural ones, and controls that do not clash.

Sources are those of the findings bench (`bench.findings.sources`), the half that is tuned on and the half that is held
out kept apart; within a scene no source stands twice.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from scipy import signal

from bench.findings.clips import clip
from bench.findings.sources import RATE, Source, all_sources
from mivlo.core.units import Floats

LENGTH = 9 * RATE
LEVEL_DB = -23.0


@dataclass(frozen=True, slots=True)
class Planted:
    """A layer in `by` over `covered`, in a range and at times (s) that are known."""

    covered: int
    by: int
    from_hz: float
    to_hz: float
    times: tuple[tuple[float, float], ...]


@dataclass(frozen=True, slots=True)
class ClashScene:
    """Tracks (n,) mono at RATE, and what is known of them. kind : planted, natural, other bands, times, far below."""

    name: str
    kind: str
    tracks: tuple[Floats, ...]
    planted: Planted | None = None


def _active_rms(x: Floats) -> float:
    frames = x[: len(x) // 960 * 960].reshape(-1, 960)
    power = np.mean(frames**2, axis=1)
    loud = power > np.max(power) * 1e-3
    return float(np.sqrt(np.mean(power[loud]) + 1e-20))


def _levelled(x: Floats, db: float) -> Floats:
    return np.asarray(x * (10.0 ** (db / 20.0) / _active_rms(x)))


def _track(source: Source, take: int, random: np.random.Generator) -> Floats:
    x = clip(source, take)
    x = np.pad(x, (0, max(0, LENGTH - len(x))))[:LENGTH]
    return _levelled(x, LEVEL_DB + float(random.uniform(-3, 3)))


def _band(x: Floats, low: float, high: float) -> Floats:
    sos = signal.butter(6, [low, min(high, RATE * 0.45)], "bandpass", fs=RATE, output="sos")
    return np.asarray(signal.sosfiltfilt(sos, x))


def _stretches(target: Floats, random: np.random.Generator) -> tuple[tuple[float, float], ...]:
    """Two or three stretches of 1 to 2.2 s in which the target sounds."""
    power = signal.lfilter([0.001], [1, -0.999], target**2)
    starts = np.arange(0.2, LENGTH / RATE - 2.4, 0.1)
    active = [s for s in starts if np.mean(power[int(s * RATE) : int((s + 1.5) * RATE)]) > np.mean(power) * 0.7]
    random.shuffle(active)
    chosen: list[tuple[float, float]] = []
    for s in active:
        if all(s > b + 0.3 or s + 2.3 < a for a, b in chosen) and len(chosen) < 3:
            chosen.append((float(s), float(s + random.uniform(1.0, 2.2))))
    return tuple(sorted(chosen))


def _gate(times: tuple[tuple[float, float], ...]) -> Floats:
    out = np.zeros(LENGTH)
    for a, b in times:
        out[int(a * RATE) : int(b * RATE)] = 1.0
    smooth = np.hanning(960)
    return np.asarray(signal.fftconvolve(out, smooth / np.sum(smooth), mode="same"))


def _plant(
    target: Floats, carrier: Floats, other: Floats | None, random: np.random.Generator
) -> tuple[Floats, float, float, tuple[tuple[float, float], ...]]:
    """The carrier with a layer made of noise or of another sound, and where and when it is."""
    times = _stretches(target, random)
    width = float(random.uniform(0.7, 1.6))
    # where the target has something: a centre drawn by its energy in third octaves
    centres = 1000.0 * 2.0 ** np.arange(-2.7, 3.0, 1 / 3)
    f, p = signal.welch(target, RATE, nperseg=8192)
    levels = np.array([np.sum(p[(f > c / 1.12) & (f < c * 1.12)]) for c in centres])
    weight = levels**0.3
    centre = float(random.choice(centres, p=weight / weight.sum()))
    low, high = centre * 2 ** (-width / 2), centre * 2 ** (width / 2)
    there = _band(target, low, high)
    raw = random.standard_normal(LENGTH) if other is None else other
    # shaped like the target there: whitened by its own smooth spectrum, then the target's
    _, shape = signal.welch(there, RATE, nperseg=2048)
    fr, own = signal.welch(raw, RATE, nperseg=2048)
    ratio = np.sqrt((shape + 1e-16) / (own + 1e-4 * np.max(own)))
    ratio = np.minimum(ratio, 30 * np.median(ratio[(fr > low) & (fr < high)]) + 1e-12)
    kernel = signal.firwin2(2049, fr / fr[-1], ratio)
    layer = _band(signal.fftconvolve(raw, kernel, mode="same"), low, high)
    gate = _gate(times)
    inside = gate > 0.5
    over = float(random.uniform(3, 5))
    layer *= 10.0 ** (over / 20.0) * _active_rms(there[inside]) / (np.sqrt(np.mean(layer[inside] ** 2)) + 1e-12)
    return carrier + layer * gate, low, high, times


def _thirds(x: Floats) -> Floats:
    f, p = signal.welch(x, RATE, nperseg=8192)
    centres = 1000.0 * 2.0 ** np.arange(-4.0, 4.0, 1 / 3)
    return np.array([np.sum(p[(f > c / 1.12) & (f < c * 1.12)]) for c in centres])


def _overlap(a: Floats, b: Floats) -> float:
    """How much of two long-term spectra lies in the same third octaves, by amplitude."""
    x, y = (np.sqrt(_thirds(t)) for t in (a, b))
    return float(np.sum(np.minimum(x / x.sum(), y / y.sum())))


def _far_bands(a: Floats, b: Floats, random: np.random.Generator) -> tuple[Floats, Floats]:
    split = float(random.uniform(300, 1500))
    low = signal.sosfiltfilt(signal.butter(6, split / 2.0, "low", fs=RATE, output="sos"), a)
    high = signal.sosfiltfilt(signal.butter(6, split * 2.0, "high", fs=RATE, output="sos"), b)
    return _levelled(low, LEVEL_DB), _levelled(high, LEVEL_DB)


def scenes(
    half: str, *, planted: int = 40, trios: int = 16, controls: int = 30, natural: int = 20
) -> Iterator[ClashScene]:
    """All scenes of a half, the same whenever they are asked for."""
    pool = [s for s in all_sources() if s.half == half]

    def drawn(name: str, count: int) -> tuple[np.random.Generator, list[Source]]:
        seed = int.from_bytes(hashlib.sha256(f"clash {half} {name}".encode()).digest()[:8], "little")
        random = np.random.default_rng(seed)
        return random, [pool[i] for i in random.choice(len(pool), count, replace=False)]

    for kind, number in (("planted", planted), ("trio", trios)):
        for n in range(number):
            name = f"{kind} {n}"
            size = 2 if kind == "planted" else 3
            random, sources = drawn(name, size + 6)
            tracks = [_track(s, 0, random) for s in sources]
            spare, *candidates = tracks[size:]
            tracks = tracks[:size]
            if n % 4 < 3:  # of some carriers the one that stands least in the target's way by itself
                candidates.append(tracks[1])
                tracks[1] = min(candidates, key=lambda c: _overlap(tracks[0], c))
            tracks[1], low, high, times = _plant(tracks[0], tracks[1], spare if n % 2 else None, random)
            order = [int(i) for i in random.permutation(size)]
            where = Planted(order.index(0), order.index(1), low, high, times)
            yield ClashScene(name, "planted", tuple(tracks[i] for i in order), where)
    for n in range(controls):
        name = f"control {n}"
        random, sources = drawn(name, 2)
        a, b = (_track(s, 0, random) for s in sources)
        if n % 3 == 0:
            a, b = _far_bands(a, b, random)
            yield ClashScene(name, "other bands", (a, b))
        elif n % 3 == 1:
            edges = np.cumsum(random.uniform(0.8, 2.0, 12))
            first = _gate(tuple((float(x), float(y - 0.15)) for x, y in zip(edges[::2], edges[1::2], strict=True)))
            second = _gate(tuple((float(x), float(y - 0.15)) for x, y in zip(edges[1::2], edges[2::2], strict=False)))
            yield ClashScene(name, "other times", (a * first, b * second))
        else:
            yield ClashScene(name, "far below", (a, b * 10.0 ** (-float(random.uniform(30, 45)) / 20.0)))
    for n in range(natural):
        random, sources = drawn(f"natural {n}", 2)
        yield ClashScene(f"natural {n}", "natural", tuple(_track(s, 0, random) for s in sources))
