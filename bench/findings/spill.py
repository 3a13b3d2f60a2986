"""What a track's microphone hears of the others: some of the benchmark's clips in a room, far below the track."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.signal import butter, oaconvolve, sosfilt

from bench.findings.clips import clip
from bench.findings.damage import USUAL_COUNT, Draw, Sound, damage, draw_bell, is_lifted, levels, log_uniform
from bench.findings.rooms import room_response
from bench.findings.sources import RATE, Source, all_sources
from mivlo.core.units import Floats

_BANDS_HZ = ((60.0, 250.0), (250.0, 1_000.0), (1_000.0, 4_000.0), (4_000.0, 14_000.0))
UNDER_DB = (18.0, 46.0)
"""How far the whole of the spill lies below the track: screens between players, to a microphone at the instrument
(common practice, no source)."""


def another_of(sources: Sequence[Source], random: np.random.Generator, takes: Sequence[int]) -> Callable[[], Floats]:
    """A clip of one of some sources, another whenever it is asked for."""
    return lambda: clip(sources[int(random.integers(len(sources)))], takes[int(random.integers(len(takes)))])


def hall_tail(random: np.random.Generator) -> Floats:
    """(n,) what a larger room answers: noise that decays, longer in the low bands, and some early echoes."""
    decay_s = log_uniform(random, 0.25, 2.2)
    t = np.arange(round(1.1 * decay_s * RATE)) / RATE
    out = np.zeros(len(t))
    for (low, high), least, most in zip(_BANDS_HZ, (0.7, 1.0, 0.5, 0.25), (1.3, 1.01, 1.0, 0.8), strict=True):
        sos = butter(2, (low, high), btype="bandpass", fs=RATE, output="sos")
        noise = sosfilt(sos, random.standard_normal(len(t)))
        out += noise * np.exp(-6.91 * t / (decay_s * float(random.uniform(least, most))))
    out *= np.clip(t / 0.02, 0.0, 1.0)
    out /= np.sqrt(np.sum(out**2))
    for _ in range(8):
        out[round(float(random.uniform(0.003, 0.045)) * RATE)] += float(random.uniform(0.05, 0.3))
    return np.asarray(out)


@dataclass(frozen=True, slots=True)
class Playing:
    """Others that play beside a clip, (n,) each, and what the room answers."""

    players: tuple[Floats, ...]
    room: Floats

    def left_in(self, clean: Floats, players: Iterable[Floats], random: np.random.Generator) -> Floats:
        """(n,) what the microphone of a clip hears of some who play in the room."""
        heard = oaconvolve(sum(players, np.zeros(len(clean))), self.room)[: len(clean)]
        under = 10.0 ** (-random.uniform(*UNDER_DB) / 20.0)
        return np.asarray(heard * (under * np.std(clean) / (np.std(heard) + 1e-12)))

    def microphones(self, clean: Floats, random: np.random.Generator) -> tuple[Floats, ...]:
        """(n,) what the microphone of each of the others hears: itself and, far below, all the rest and the clip."""
        everyone = [x / (np.std(x) + 1e-9) for x in (clean, *self.players)]
        rest = [[x for k, x in enumerate(everyone) if k != own] for own in range(1, len(everyone))]
        pairs = zip(self.players, rest, strict=True)
        return tuple(player + self.left_in(player, others, random) for player, others in pairs)


def playing_beside(n: int, random: np.random.Generator, another: Callable[[], Floats]) -> Playing:
    """One to five others that play for n samples, as loud as each other within some decibels, in a room."""
    players = []
    for _ in range(int(random.integers(1, 6))):
        x = another()
        x = np.roll(np.tile(x, int(np.ceil(n / len(x))))[:n], int(random.integers(n)))
        players.append(x * 10.0 ** (random.normal(0.0, 5.0) / 20.0) / (np.std(x) + 1e-9))
    return Playing(tuple(players), hall_tail(random) if random.random() < 0.7 else room_response(random, RATE))


def spill(clean: Floats, random: np.random.Generator, another: Callable[[], Floats]) -> Floats:
    """(n,) what is heard beside a clip; `another` gives a clip of any other source."""
    playing = playing_beside(len(clean), random, another)
    return playing.left_in(clean, playing.players, random)


def others_of_half(source: Source) -> list[Source]:
    """All others of the half of a source."""
    return [s for s in all_sources() if s.half == source.half and s.name != source.name]


def spill_of_half(source: Source, clean: Floats, random: np.random.Generator, takes: Sequence[int]) -> Floats:
    """(n,) what is heard beside a clip of a source of some others of its half."""
    return spill(clean, random, another_of(others_of_half(source), random, takes))


def damaged_beside(
    clean: Floats,
    beside: Floats,
    random: np.random.Generator,
    draw: Draw = draw_bell,
    *,
    count: tuple[int, int] = USUAL_COUNT,
) -> Sound:
    """A clip damaged before spill is added; all of it where that would hide a ring."""
    whole = clean + beside
    damaged, bells = damage(clean, random, draw, count=count)
    before, after = levels(whole), levels(damaged + beside)
    if all(bell.hump or is_lifted(bell, before, after) for bell in bells):
        return damaged + beside, bells
    return damage(whole, random, draw, count=count)
