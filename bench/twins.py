"""Moves re-tuned to another take: how near they come to a ring that lies elsewhere there.

`python -m bench twins`: rings of 14 dB and 0.1 octave, moved by up to a quarter octave between two takes of 5 s, of the
sources that are tuned on and of those that are held out. Beside it, what looking at the second take alone finds.
"""

from __future__ import annotations

import numpy as np

from bench.findings.clips import clip
from bench.findings.damage import Bell, apply, is_audible, is_lifted, levels, log_uniform
from bench.findings.sources import FOREIGN, KNOWN, RATE, all_sources, require_packages
from mivlo.core.findings.search import Search
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.retuning import REACH_OCT, retune
from mivlo.core.units import Floats, cents_between, octaves_to_q

OCTAVES, GAIN_DB, MOVED_OCT, TAKE_S = 0.1, 14.0, 0.25, 5.0
TRIES = 4


def _pair(takes: tuple[Floats, Floats], random: np.random.Generator) -> tuple[Bell, Bell, Floats, Floats] | None:
    """A ring in either take where both have something to ring; None where there is no such place."""
    clean = [levels(x) for x in takes]
    for _ in range(80):
        first = log_uniform(random, 120.0, 6_000.0)
        both = first, first * 2.0 ** random.uniform(-MOVED_OCT, MOVED_OCT)
        bells = [Bell(hz, OCTAVES, GAIN_DB, False) for hz in both]
        if not all(is_audible(bell, level) for bell, level in zip(bells, clean, strict=True)):
            continue
        rung = [apply(x, (bell,)) for x, bell in zip(takes, bells, strict=True)]
        if all(is_lifted(bell, level, levels(x)) for x, level, bell in zip(rung, clean, bells, strict=True)):
            return bells[0], bells[1], rung[0], rung[1]
    return None


def _cents(found_hz: float | None, bell: Bell) -> float:
    return 1e4 if found_hz is None else abs(cents_between(bell.frequency_hz, found_hz))


def measure() -> list[tuple[str, str, str]]:
    """(what, measured, asked for)."""
    require_packages()
    return [row for half in (*KNOWN, *FOREIGN) for row in _measured(half)]


def _measured(half: str) -> list[tuple[str, str, str]]:
    refitted, looked = [], []
    for number, source in enumerate(s for s in all_sources() if s.half == half):
        for k in range(TRIES):
            random = np.random.default_rng([77, number, k])
            frames = round(TAKE_S * RATE)
            takes = clip(source, k % 2)[:frames], clip(source, 1 - k % 2)[:frames]
            made = _pair(takes, random)
            if made is None:
                continue
            first, second, before, after = made
            original, to = (Search(x[:, None].astype(np.float32), sample_rate=RATE) for x in (before, after))
            cut = StaticMove(Shape.BELL, first.frequency_hz, q=octaves_to_q(OCTAVES), gain_db=-GAIN_DB)
            there = retune(cut, to, original=original).move
            refitted.append(_cents(None if there is None else there.frequency_hz, second))
            near = [f for f in to.findings() if abs(np.log2(f.frequency_hz / first.frequency_hz)) < REACH_OCT]
            best = max(near, key=lambda f: f.confidence, default=None)
            looked.append(_cents(None if best is None else best.frequency_hz, second))
    rows = (
        (f"{half}, {len(refitted)} pairs: re-tuned within 10 / 25 cents", refitted, "75 / 90 %, aim 90 %"),
        ("... by looking at the second take alone", looked, ""),
    )
    return [
        (what, " / ".join(f"{100 * np.mean(np.array(cents) < limit):.0f} %" for limit in (10, 25)), wanted)
        for what, cents, wanted in rows
    ]
