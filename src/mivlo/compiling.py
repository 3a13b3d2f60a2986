"""Compiles ahead what computes, so that neither the first gesture nor the first look waits for a compiler.

Numba keeps what it compiled beside the sources. Set-up asks for it once; each part is a small example of the real
work, since a function is compiled for the arrays it is called with.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import ProcessPoolExecutor, as_completed
from multiprocessing import get_context

import numpy as np

from mivlo.core.auditory import components, frame_length
from mivlo.core.clashes import FILES_FULL_SCALE_DB, Scene, find_floors, free, survey
from mivlo.core.findings import Search
from mivlo.core.freezing import freeze
from mivlo.core.graph import Strip, StripKind, Tap, compile, render, treat
from mivlo.core.loudness import true_peak
from mivlo.core.moves import (
    AdaptiveMove,
    Aftercare,
    Air,
    Clip,
    Compressor,
    DynamicMove,
    Entry,
    Key,
    Move,
    Phase,
    Reverb,
    RungsMove,
    Shape,
    StaticMove,
    Treatment,
    Warmth,
)
from mivlo.core.retuning import retune
from mivlo.core.units import Floats
from mivlo.demo import score
from mivlo.demo.oscillators import add_ring, harmonics
from mivlo.demo.voice import narrator
from mivlo.live.warming import warm_up

RATE = 48_000
_MIX = 9


def _noise(seconds: float, channels: int = 1, seed: int = 0) -> Floats:
    return np.random.default_rng(seed).standard_normal((round(seconds * RATE), channels)) * 0.1


def _bell(gain_db: float = -6.0, hz: float = 800.0) -> StaticMove:
    return StaticMove(Shape.BELL, hz, q=4.0, gain_db=gain_db)


def _dynamic_moves() -> None:
    """The longest: moves that listen, to themselves and to another track, by themselves and together."""
    alone = DynamicMove(Shape.BELL, 900.0, -50.0, -9.0)
    keyed = DynamicMove(Shape.BELL, 1_200.0, -50.0, -9.0, key=Key(source=2), lookahead_ms=5.0)
    care = Aftercare(compressors=(Compressor(threshold_db=-40.0),))
    first = Treatment(entries=(Entry(id=1, move=alone), Entry(id=2, move=keyed)), aftercare=care)
    for channels in (1, 2):
        strips = [
            Strip(id=1, source="one", channels=channels, treatment=first),
            Strip(id=2, source="two", channels=channels),
            Strip(id=_MIX, kind=StripKind.MIX),
        ]
        sounds = {i: _noise(0.3, channels, i).astype(np.float32) for i in (1, 2)}
        for _ in render(compile(strips, sample_rate=RATE), sounds, (_MIX, Tap.BEHIND), 0, RATE // 4):
            pass


def _other_moves() -> None:
    """Filters of each phase, rungs, what adapts, and all that stands behind."""
    rungs = RungsMove(26, tuple(3.0 * (-1.0) ** i for i in range(26)))
    care = Aftercare(clip=Clip(drive_db=12.0), warmth=Warmth(), air=Air(), reverb=Reverb())
    moves: tuple[Move, ...] = (_bell(), rungs, AdaptiveMove(300.0, 3_000.0))
    entries = tuple(Entry(id=i, move=m) for i, m in enumerate(moves, 1))
    for channels, phase in ((1, Phase.MINIMUM), (2, Phase.MINIMUM), (2, Phase.ANALOGUE), (2, Phase.LINEAR)):
        treat(_noise(0.3, channels), Treatment(entries=entries, phase=phase, aftercare=care), sample_rate=RATE)


def _listening() -> None:
    """What only a listener needs: values that glide, the probe, sounds that are known already, levels."""
    warm_up()
    true_peak(_noise(0.3, 2).astype(np.float32))


def _looks() -> None:
    """Findings, an adaptive move that is frozen, and a move that is taken to another track."""
    x = treat(_noise(2.0), [_bell(12.0, 1_000.0)], sample_rate=RATE)
    search = Search(x, sample_rate=RATE)
    search.findings()
    search.own_tones()
    search.along()
    retune(_bell(), search)
    freeze(x, Entry(move=AdaptiveMove(200.0, 12_000.0)), sample_rate=RATE)


def _clashes() -> None:
    """Who covers whom, and what frees it."""
    a, b = _noise(2.0, seed=1), 2.0 * _noise(2.0, seed=2)
    powers = [components(x, sample_rate=RATE) for x in (a, b)]
    scene = Scene.of(powers, full_scale_db=FILES_FULL_SCALE_DB, frame_s=frame_length(RATE) / RATE)
    free(scene, 0, survey(scene).clashes, lambda: a, sample_rate=RATE)
    find_floors(scene)


def _demo() -> None:
    """The song that is shown."""
    add_ring(_noise(0.1)[:, 0], 440.0, 0.5, 0.2, RATE, 0.1)
    harmonics(_noise(0.1)[:, 0], np.ones(3))
    narrator(score.LENGTH_S, score.BAR_S, 8_000, np.random.default_rng(0))


PARTS: Mapping[str, Callable[[], None]] = {
    "moves that listen": _dynamic_moves,
    "filters and what stands behind": _other_moves,
    "clashes": _clashes,
    "findings": _looks,
    "listening": _listening,
    "the demo": _demo,
}
"""The longest first."""


def compile_all() -> Iterator[str]:
    """Compile all of PARTS, several at a time; their names as they are done."""
    with ProcessPoolExecutor(min(os.cpu_count() or 1, len(PARTS)), mp_context=get_context("spawn")) as pool:
        names = {pool.submit(part): name for name, part in PARTS.items()}
        for done in as_completed(names):
            done.result()
            yield names[done]
