"""Moves that listen, phase and what comes behind: stereo, 48 kHz, one thread, in blocks of 512 as one listens.

Inside the measured part: processing only, the samples ready in memory. Dynamic moves are compared with
scipy.signal.sosfilt running their 8 sections statically, in the memory layout in which it is faster.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import numpy as np
from scipy import signal

from mivlo.core.graph import Renderer, Strip, StripKind, Tap, compile
from mivlo.core.moves import AdaptiveMove, Clip, Compressor, DynamicMove, Entry, Shape, StaticMove, Treatment
from mivlo.core.phase import LONGEST_TAPS
from mivlo.core.processors import PROCESSORS, Step
from mivlo.core.processors.convolution import Convolution

SECONDS, RATE, BLOCK, ROUNDS = 10, 48_000, 512, 7
TAPS = 16_383
TRACKS, MIX = 16, 99


def _seconds(run: Callable[[], Any]) -> float:
    start = time.thread_time()
    run()
    return time.thread_time() - start


def _median(run: Callable[[], Any]) -> float:
    run()
    return float(np.median([_seconds(run) for _ in range(ROUNDS)]))


def _faster(reference: Callable[[], Any], run: Callable[[], Any]) -> float:
    """How many times as fast, both measured in turn: other work on the machine meets both."""
    reference(), run()
    both = np.array([(_seconds(reference), _seconds(run)) for _ in range(ROUNDS)])
    return float(np.divide(*np.median(both, axis=0)))


def _through(process: Callable[[Any], Any], x: Any) -> Callable[[], None]:
    def run() -> None:
        for i in range(0, len(x), BLOCK):
            process(x[i : i + BLOCK])

    return run


def measure() -> list[tuple[str, str, str]]:
    x = np.random.default_rng(1).standard_normal((SECONDS * RATE, 2)) * 0.1
    places = [100.0 * 2**k for k in range(8)]
    flipped = np.ascontiguousarray(x.T)
    sections = np.tile(np.array([1.0, -1.9, 0.95, 1.0, -1.9, 0.94]), (8, 1))

    def dynamic(threshold_db: float) -> float:
        moves = [DynamicMove(Shape.BELL, hz, threshold_db, -6.0, q=3.0, ratio=3.0) for hz in places]
        processor = PROCESSORS["dynamic"](RATE, 2, [Step(i, move) for i, move in enumerate(moves)])
        return _faster(lambda: signal.sosfilt(sections, flipped, axis=1), _through(processor.process, x))  # type: ignore[arg-type]

    adaptive = PROCESSORS["adaptive"](RATE, 2, [Step(0, AdaptiveMove(200.0, 12_000.0))])
    followed = _median(_through(adaptive.process, x))  # type: ignore[arg-type]
    linear = _median(_through(Convolution(np.hanning(TAPS), 2).process, x))
    longest = _median(_through(Convolution(np.hanning(LONGEST_TAPS), 2).process, x))
    care = PROCESSORS["compressors"](RATE, 2, [Step(0, Compressor(threshold_db=-30.0))])
    clip = PROCESSORS["clip"](RATE, 2, [Step(0, Clip(drive_db=6.0))])
    pressed, clipped = (_median(_through(p.process, x)) for p in (care, clip))  # type: ignore[arg-type]
    return [
        (
            "8 dynamic bells, three of them at work, blocks of 512: speed over sosfilt of 8",
            f"{dynamic(-30.0):.2f}",
            "0.5",
        ),
        ("... none at work", f"{dynamic(0.0):.2f}", "0.5, aim 1"),
        ("an adaptive move, stereo: times real time", f"{SECONDS / followed:.0f}", "25, aim 60"),
        ("linear phase of 16k taps, stereo: times real time", f"{SECONDS / linear:.0f}", "60"),
        ("linear phase of 64k taps, stereo: times real time", f"{SECONDS / longest:.0f}", "-"),
        ("a compressor, a clip, stereo: times real time", f"{SECONDS / pressed:.0f}, {SECONDS / clipped:.0f}", "-"),
        (
            "16 stereo tracks, 8 moves each, half dynamic: share of a core",
            f"{100 * _mix(x, known=False) / SECONDS:.0f} %",
            "under 50 %",
        ),
        ("... with their treated sounds known", f"{100 * _mix(x, known=True) / SECONDS:.0f} %", "under 10 %"),
    ]


def _mix(x: Any, *, known: bool) -> float:
    """Seconds for all of the sound through sixteen tracks."""
    kinds = [
        DynamicMove(Shape.BELL, 100.0 * 2**k, -30.0, -6.0, q=3.0)
        if k % 2
        else StaticMove(Shape.BELL, 100.0 * 2**k, q=3.0, gain_db=-6.0)
        for k in range(8)
    ]
    treatment = Treatment(entries=tuple(Entry(id=i, move=move) for i, move in enumerate(kinds)))
    strips = [Strip(id=i + 1, source=str(i), treatment=treatment) for i in range(TRACKS)]
    plan = compile([*strips, Strip(id=MIX, kind=StripKind.MIX)], sample_rate=RATE)
    sources = {i + 1: x.astype(np.float32) for i in range(TRACKS)}

    def run() -> None:
        renderer = Renderer(plan, sources, grid=None, treated=sources if known else None)
        renderer.want((MIX, Tap.PLACED))
        for _ in range(len(x) // BLOCK):
            renderer.render(BLOCK)

    return float(np.median([_seconds(run) for _ in range(2)]))
