"""Instruments that nobody built: random strings, strokes and pipes, so that no single instrument is what is known.

What rings here rings by its own physics (modes with their decays; partials that follow a note) and is no trouble.
Mode ratios are drawn, not taken from any body's table: bodies of `rooms.MODES` stay foreign.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.signal import lfilter

from bench.findings.damage import log_uniform
from bench.findings.rooms import in_room
from bench.findings.sources import RATE
from mivlo.core.graph import treat
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.units import Floats, octaves_to_q

SECONDS = 9.0
_HIGHEST_HZ = 14_000.0


@dataclass(frozen=True, slots=True)
class _Piece:
    """Something that is struck or plucked: its modes and the time in which each dies away by 60 dB."""

    frequencies_hz: Floats
    decays_s: Floats
    levels: Floats


def _piece(random: np.random.Generator, tone_hz: float, kind: str) -> _Piece:
    count = int(random.integers(3, 28))
    if kind == "string":
        n = np.arange(1, count + 1)
        stiff = log_uniform(random, 1e-6, 1e-3)
        ratios = n * np.sqrt(1.0 + stiff * n**2) / np.sqrt(1.0 + stiff)
        where = float(random.uniform(0.05, 0.5))  # plucked there: some partials are hardly excited
        levels = np.abs(np.sin(np.pi * n * where)) + 0.02
    else:
        gaps = np.exp(random.normal(np.log(float(random.uniform(0.15, 1.2))), 0.6, count))
        ratios = 1.0 + np.concatenate([[0.0], np.cumsum(gaps)[:-1]])
        levels = 10.0 ** (random.normal(0.0, 7.0, count) / 20.0)
    levels = levels * ratios ** -float(random.uniform(0.2, 2.0))
    longest = log_uniform(random, 0.05, 4.0)
    decays = longest * ratios ** -float(random.uniform(0.2, 1.1)) * np.exp(random.normal(0.0, 0.35, count))
    hz = tone_hz * ratios
    kept = hz < _HIGHEST_HZ
    return _Piece(hz[kept], np.maximum(decays[kept], 0.01), levels[kept])


def _rung(piece: _Piece, strokes: Floats, random: np.random.Generator) -> Floats:
    """Strokes (n,) through the modes; each stroke finds each mode a little different."""
    out = np.zeros(len(strokes))
    struck = np.flatnonzero(strokes)
    for hz, decay, level in zip(piece.frequencies_hz, piece.decays_s, piece.levels, strict=True):
        given = np.zeros(len(strokes))
        given[struck] = strokes[struck] * 10.0 ** (random.normal(0.0, 2.0, len(struck)) / 20.0)
        r, angle = 10.0 ** (-3.0 / (decay * RATE)), 2.0 * np.pi * hz / RATE
        out += level * lfilter([0.0, np.sin(angle)], [1.0, -2.0 * r * np.cos(angle), r * r], given)
    return out


def _noise_of(strokes: Floats, random: np.random.Generator) -> Floats:
    """The knock or scrape of each stroke: noise of some colour that is over soon."""
    decay = log_uniform(random, 0.004, 0.12)
    burst = random.normal(size=round(6 * decay * RATE)) * np.exp(-np.arange(round(6 * decay * RATE)) / (decay * RATE))
    pole = float(random.uniform(0.0, 0.97))
    burst = lfilter([1.0 - pole], [1.0, -pole], burst)
    if random.random() < 0.5:
        burst = np.diff(burst, prepend=0.0)
    out = np.zeros(len(strokes) + len(burst))
    for at in np.flatnonzero(strokes):
        out[at : at + len(burst)] += strokes[at] * burst
    return np.asarray(out[: len(strokes)])


def _struck(random: np.random.Generator) -> Floats:
    n = round(SECONDS * RATE)
    kind = "string" if random.random() < 0.5 else "body"
    low = log_uniform(random, 50.0, 700.0)
    if kind == "string" or random.random() < 0.3:
        steps = np.sort(random.choice(np.arange(0, 25), int(random.integers(3, 11)), replace=False))
        tones = low * 2.0 ** (steps / 12.0)
    else:
        tones = low * 2.0 ** np.cumsum(random.uniform(0.0, 1.0, int(random.integers(1, 6))))
    pieces = [_piece(random, float(t), kind) for t in tones if t < 4_000.0]
    open_one = int(random.integers(len(pieces))) if random.random() < 0.3 else None
    chords = random.random() < 0.4
    strokes = np.zeros((len(pieces), n))
    step = log_uniform(random, 0.12, 0.9)
    for at in np.arange(0.02, SECONDS - 0.1, step):
        if random.random() < 0.12:
            continue
        size = int(random.integers(2, 5)) if chords else 1
        chosen = set(random.choice(len(pieces), min(size, len(pieces)), replace=False).tolist())
        if open_one is not None and random.random() < 0.8:
            chosen.add(open_one)
        for order, i in enumerate(sorted(chosen)):
            when = at + order * float(random.uniform(0.0, 0.03)) + float(random.normal(0.0, 0.006))
            strokes[i, int(np.clip(when, 0.0, SECONDS - 0.05) * RATE)] = 10.0 ** (random.normal(0.0, 5.0) / 20.0)
    tones_of = np.sum([_rung(p, s, random) for p, s in zip(pieces, strokes, strict=True)], axis=0)
    knock = _noise_of(np.sum(strokes, axis=0), random)
    share = 10.0 ** (random.uniform(-35.0, 0.0) / 20.0)
    return np.asarray(tones_of / (np.std(tones_of) + 1e-12) + share * knock / (np.std(knock) + 1e-12))


def _held(random: np.random.Generator) -> Floats:
    """Blown, bowed or sung: partials that follow a note, with a breath beside them."""
    n = round(SECONDS * RATE)
    t = np.arange(n) / RATE
    low = log_uniform(random, 60.0, 600.0)
    scale = np.sort(random.choice(np.arange(0, 22), int(random.integers(3, 9)), replace=False))
    pitch, loud = np.zeros(n), np.zeros(n)
    at = 0.0
    while at < SECONDS:
        length = log_uniform(random, 0.15, 1.6)
        part = slice(int(at * RATE), int((at + length) * RATE))
        pitch[part] = float(random.choice(scale)) / 12.0
        loud[part] = 0.0 if random.random() < 0.08 else 10.0 ** (random.normal(0.0, 4.0) / 20.0)
        at += length
    glide = log_uniform(random, 0.004, 0.06)
    pole = float(np.exp(-1.0 / (glide * RATE)))
    pitch = lfilter([1.0 - pole], [1.0, -pole], pitch, zi=[pole * pitch[0]])[0]
    loud = lfilter([1.0 - pole], [1.0, -pole], loud)
    pitch = pitch + float(random.uniform(0.0, 0.03)) * np.sin(2 * np.pi * float(random.uniform(4.0, 7.0)) * t)
    phase = 2.0 * np.pi * np.cumsum(low * 2.0**pitch) / RATE
    top = low * 2.0 ** (float(np.max(scale)) / 12.0)
    tilt = float(random.uniform(0.3, 2.2))
    odd = 10.0 ** (-float(random.uniform(0.0, 25.0)) / 20.0) if random.random() < 0.3 else 1.0
    out = np.zeros(n)
    for k in range(1, min(40, int(_HIGHEST_HZ / top)) + 1):
        level = k**-tilt * 10.0 ** (random.normal(0.0, 3.0) / 20.0) * (odd if k % 2 == 0 else 1.0)
        out += level * np.sin(k * phase)
    breath = lfilter([1.0], [1.0, -float(random.uniform(0.0, 0.95))], random.normal(size=n))
    share = 10.0 ** (random.uniform(-45.0, -8.0) / 20.0)
    return np.asarray(loud * (out / (np.std(out) + 1e-12) + share * breath / (np.std(breath) + 1e-12)))


def _resonances(random: np.random.Generator) -> list[StaticMove]:
    """Formants and modes of a body."""
    out = []
    for _ in range(int(random.integers(3, 18))):
        width = log_uniform(random, 0.06, 1.2)
        gain = float(np.clip(random.normal(0.0, 4.5), -12.0, 9.0)) * min(1.0, width * 4.0)
        out.append(StaticMove(Shape.BELL, log_uniform(random, 80.0, 9_000.0), q=octaves_to_q(width), gain_db=gain))
    return out


def made_up(random: np.random.Generator) -> Floats:
    """(n,) one clip of an instrument of its own, peak 0.5."""
    x = _struck(random) if random.random() < 0.65 else _held(random)
    x = treat(x[:, None], _resonances(random), sample_rate=RATE)[:, 0]
    if random.random() < 0.4:
        x = in_room(x, random, RATE)
    noise = random.normal(size=len(x)) * 10.0 ** (random.uniform(-90.0, -55.0) / 20.0) * np.max(np.abs(x))
    x = x + noise
    return np.asarray(x * (0.5 / float(np.max(np.abs(x)))))
