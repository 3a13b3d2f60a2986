"""Playing 16 stereo tracks with 8 moves each: processor time of the engine over time played.

Inside: reading the working copies from memory, all moves, mixer, meters, limiter; with one track focused
and probed. Not inside: sending, and the spectrum reports (about 30 a second).
"""

from __future__ import annotations

import time

import numpy as np

from mivlo.core.graph import Strip, compile
from mivlo.core.moves import Shape, StaticMove, Treatment
from mivlo.core.probe import Probe
from mivlo.live.engine import BLOCK_FRAMES, Engine

SECONDS, RATE = 20, 48_000


def measure() -> list[tuple[str, str, str]]:
    random = np.random.default_rng(1)
    moves = [StaticMove(Shape.BELL, 80.0 * 2**k, q=3.0, gain_db=-4.0) for k in range(8)]
    strips = [Strip(id=i, treatment=Treatment.of(moves)) for i in range(16)]
    sources = {i: (random.standard_normal((RATE * 4, 2)) * 0.02).astype(np.float32) for i in range(16)}
    engine = Engine(compile(strips, sample_rate=RATE), sources)
    engine.set_focus(0)
    engine.play()
    engine.set_probe(Probe(800.0))
    for _ in range(50):
        engine.render()
    start = time.process_time()
    for _ in range(SECONDS * RATE // BLOCK_FRAMES):
        engine.render()
    used = time.process_time() - start
    return [("16 stereo tracks, 8 moves each: share of one core", f"{100 * used / SECONDS:.0f} %", "under 50 %")]
