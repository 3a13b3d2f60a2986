"""A chain of 8 bells, stereo, 48 kHz, one thread, against scipy.signal.sosfilt on the same cascade.

Inside the measured part: filtering only, for both, the samples ready in memory. Ours runs in blocks of
512 frames, as it does while one listens, and once in blocks of 65,536, as it does for an export. sosfilt
gets everything at once, in the memory layout in which it is faster. The runs alternate; the median counts.
"""

from __future__ import annotations

import time

import numpy as np
from scipy import signal

from mivlo.core.moves import Shape, StaticMove, treatment_sections
from mivlo.core.processors import StaticProcessor, Step

SECONDS, RATE, ROUNDS = 20, 48_000, 15


def measure() -> list[tuple[str, str, str]]:
    x = np.random.default_rng(1).standard_normal((SECONDS * RATE, 2)) * 0.1
    moves = [StaticMove(Shape.BELL, 100.0 * 2**k, q=3.0, gain_db=-6.0) for k in range(8)]
    sections = treatment_sections(moves, sample_rate=RATE)
    flipped = np.ascontiguousarray(x.T)

    def ours(block: int) -> float:
        chain = StaticProcessor(RATE, 2, [Step(i, move) for i, move in enumerate(moves)])
        start = time.perf_counter()
        for i in range(0, len(x), block):
            chain.process(x[i : i + block])
        return time.perf_counter() - start

    def scipys() -> float:
        start = time.perf_counter()
        signal.sosfilt(sections, flipped, axis=1)
        across = time.perf_counter() - start
        start = time.perf_counter()
        signal.sosfilt(sections, x, axis=0)
        return min(across, time.perf_counter() - start)

    ours(512)
    runs = np.array([(scipys(), ours(512), ours(65_536)) for _ in range(ROUNDS)])
    reference, live, export = np.median(runs, axis=0)
    return [
        ("8 bells, stereo, blocks of 512: speed over sosfilt", f"{reference / live:.2f}", "1.4, aim 2"),
        ("8 bells, stereo, blocks of 65,536: speed over sosfilt", f"{reference / export:.2f}", "1.4, aim 2"),
        ("8 bells, stereo: share of real time", f"{100 * live / SECONDS:.2f} %", "-"),
    ]
