"""What a track's microphone hears of the others: some of the benchmark's clips in a room, far below the track."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from scipy.signal import oaconvolve

from bench.findings.clips import clip
from bench.findings.damage import Bell, Draw, damage, draw_bell, is_lifted, levels
from bench.findings.rooms import hall_tail, room_response
from bench.findings.sources import RATE, Source
from mivlo.core.units import Floats

UNDER_DB = (18.0, 46.0)
"""How far the whole of the spill lies below the track: screens between players, to a microphone at the instrument
(common practice, no source)."""


def another_of(sources: Sequence[Source], random: np.random.Generator, takes: Sequence[int]) -> Callable[[], Floats]:
    """A clip of one of some sources, another whenever it is asked for."""
    return lambda: clip(sources[int(random.integers(len(sources)))], takes[int(random.integers(len(takes)))])


def spill(clean: Floats, random: np.random.Generator, another: Callable[[], Floats]) -> Floats:
    """(n,) what is heard beside a clip; `another` gives a clip of any other source."""
    n = len(clean)
    players = np.zeros(n)
    for _ in range(int(random.integers(1, 6))):
        x = another()
        x = np.roll(np.tile(x, int(np.ceil(n / len(x))))[:n], int(random.integers(n)))
        players += x * 10.0 ** (random.normal(0.0, 5.0) / 20.0) / (np.std(x) + 1e-9)
    room = hall_tail(random, RATE) if random.random() < 0.7 else room_response(random, RATE)
    heard = oaconvolve(players, room)[:n]
    under = 10.0 ** (-random.uniform(*UNDER_DB) / 20.0)
    return np.asarray(heard * (under * np.std(clean) / (np.std(heard) + 1e-12)))


def damaged_beside(
    clean: Floats, beside: Floats, random: np.random.Generator, draw: Draw = draw_bell
) -> tuple[Floats, tuple[Bell, ...]]:
    """A clip damaged before spill is added; all of it where that would hide a ring."""
    whole = clean + beside
    damaged, bells = damage(clean, random, draw)
    before, after = levels(whole), levels(damaged + beside)
    if all(bell.hump or is_lifted(bell, before, after) for bell in bells):
        return damaged + beside, bells
    return damage(whole, random, draw)
