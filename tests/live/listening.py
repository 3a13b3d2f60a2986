"""What a listener should hear, worked out the slow way: frame by frame, from files that begin at the song's start."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from mivlo.core.graph import Plan, Renderer, Strip, StripKind, Tap, blocks, compile, render
from mivlo.core.graph.streams import Samples
from mivlo.core.moves import (
    AdaptiveMove,
    Aftercare,
    Air,
    Channels,
    Clip,
    Compressor,
    DynamicMove,
    Entry,
    Key,
    Phase,
    Place,
    Reverb,
    RungsMove,
    Shape,
    StaticMove,
    Treatment,
    Warmth,
)
from mivlo.core.units import Floats
from mivlo.live.engine import BLOCK_FRAMES, Engine
from mivlo.live.modes import Passage, Scope, Signal

GROUP, MIX = 8, 9
INAUDIBLE = 2e-6
"""-120 dBFS of the strip, and as much of the sum's other strips."""


def bell(gain: float = -6.0, hz: float = 800.0, q: float = 2.0) -> StaticMove:
    return StaticMove(Shape.BELL, hz, q=q, gain_db=gain)


def treatment(*moves: Any) -> Treatment:
    return Treatment(entries=tuple(Entry(id=i + 1, move=m) for i, m in enumerate(moves)))


def _follows(key: int | None = None, **values: Any) -> DynamicMove:
    """A bell that forgets quickly, so that stories need not be long."""
    listened = Key() if key is None else Key(source=key)
    how = {"attack_ms": 1.0, "release_ms": 4.0, "q": 2.0, **values}
    return DynamicMove(Shape.BELL, 900.0, -50.0, -9.0, key=listened, **how)


def _part(move: Any, **values: Any) -> Treatment:
    return Treatment(entries=(Entry(id=1, move=bell()), Entry(id=2, move=move, **values)))


_NARROW = AdaptiveMove(300.0, 3_000.0, share=1.0, attack_ms=1.0, release_ms=5.0)
_COMPRESSED = Compressor(threshold_db=-45.0, attack_ms=1.0, release_ms=5.0)
# nothing in the lows, which would be remembered for long
_RUNGS = RungsMove(26, tuple(0.0 if i < 14 else (-1.0) ** i * 3.0 for i in range(26)))
LISTENING: list[Treatment] = [
    _part(_follows()),
    _part(_follows(1, lookahead_ms=7.0, hold_ms=3.0)),
    _part(_follows(GROUP, threshold_of="strip"), channels=Channels.SIDE),
    _part(_follows(2), stretches=((0.05, 0.31), (0.7, 1.1))),
    _part(_NARROW),
    _part(replace(_NARROW, key=Key(source=3)), channels=Channels.LEFT),
    replace(_part(_follows()), phase=Phase.LINEAR),
    replace(_part(_follows(1)), phase=Phase.ANALOGUE),
    replace(_part(_follows(), place=Place.BEHIND), aftercare=Aftercare(compressors=(_COMPRESSED, _COMPRESSED))),
    _part(_RUNGS),
    replace(_part(_RUNGS, channels=Channels.MID), phase=Phase.LINEAR),
    replace(_part(bell()), aftercare=Aftercare(clip=Clip(drive_db=12.0), warmth=Warmth(), air=Air(above_hz=2_000.0))),
    replace(_part(bell()), aftercare=Aftercare(reverb=Reverb(decay_s=0.1), output_db=-3.0), amounts={"all": 0.5}),
]
"""Treatments of every kind that listens, and of all that can stand behind."""


def strips() -> list[Strip]:
    """Two tracks in a group, one beside it; each with moves."""
    return [
        Strip(id=1, source="one", channels=1, pan=-0.3, treatment=treatment(bell(), bell(3.0, 200.0))),
        Strip(id=2, source="two", parent=GROUP, fader_db=-4.0, treatment=treatment(bell(-9.0, 1_500.0, 8.0))),
        Strip(id=3, source="three", parent=GROUP),
        Strip(id=GROUP, kind=StripKind.GROUP, fader_db=-2.0, treatment=treatment(bell(-3.0, 300.0))),
        Strip(id=MIX, kind=StripKind.MIX),
    ]


def named(made: Sequence[Strip], frames: int) -> list[Strip]:
    """With names that tell recordings of another length apart."""
    return [replace(s, source=f"{s.source}{frames}") if s.source else s for s in made]


def sounds(frames: int, seed: int = 3) -> dict[int, Samples]:
    random = np.random.default_rng(seed)
    make = lambda n, c: (random.standard_normal((n, c)) * 0.03).astype(np.float32)  # noqa: E731
    return {1: make(frames, 1), 2: make(frames - 700, 2), 3: make(frames // 2, 2)}


_files: dict[Any, Floats] = {}


def file_of(engine: Engine) -> Floats:
    """The whole song as an engine in this state should play it: made from its start, in large blocks."""
    plan: Plan = engine.plan
    compared = None if engine.focus is None else plan.sound(engine.focus)
    key = (
        plan.place(plan.mix),
        plan.sample_rate,
        engine.end,
        engine.focus,
        compared,
        engine.scope,
        engine.placed,
        engine.companions,
        engine.signal,
        engine.key_strip,
        None if engine.key_strip is None else plan.sound(engine.key_strip),
    )
    if key not in _files:
        _files[key] = _made(engine, plan)
    return _files[key]


def _made(engine: Engine, plan: Plan) -> Floats:
    renderer = Renderer(plan, engine.sources)
    alone = engine.scope is Scope.ALONE and engine.focus is not None
    point = (engine.focus, Tap.BEHIND) if alone and not engine.placed else (plan.mix, Tap.PLACED)
    if engine.key_strip is not None:  # what a move listens to, whatever else is chosen
        point = (engine.key_strip, Tap.BEHIND)
        renderer.want(point)
        out = np.concatenate([made[point] for made in blocks(renderer, engine.end)])
        return out if out.shape[1] == 2 else np.tile(out, (1, 2))
    weights = {Signal.TREATED: (1.0, 0.0), Signal.UNTREATED: (0.0, 1.0), Signal.REMOVED: (-1.0, 1.0)}[engine.signal]
    compared = [engine.focus] if engine.focus is not None else list(plan.strips)
    for i in compared:
        through = (
            engine.focus is None and engine.signal is Signal.REMOVED and plan.strips[i].kind is not StripKind.TRACK
        )
        treated, untreated = (0.0, 1.0) if through else weights
        renderer.listen(i, treated=treated, untreated=untreated, glide=False)
    if engine.focus is not None:
        around = _around(plan, engine.focus)
        if alone and engine.placed:
            for i in engine.companions:
                around |= _around(plan, i)
            renderer.hear_only(around, glide=False)
        elif engine.signal is Signal.REMOVED:
            renderer.hear_only(around & plan.audible(solos=True), glide=False)
    renderer.want(point)
    out = np.concatenate([made[point] for made in blocks(renderer, engine.end)])
    return out if out.shape[1] == 2 else np.tile(out, (1, 2))


def _around(plan: Plan, strip: int) -> frozenset[int]:
    """A strip with the groups that it runs through, and what runs into it; what is muted there stays so."""
    return frozenset({strip, *plan.above(strip), *(b for b in plan.below(strip) if not plan.strips[b].mute)})


@dataclass
class Playhead:
    """The rules of docs/live.md, a frame at a time."""

    rate: int
    end: int
    position: int = 0
    turning: tuple[int, int] | None = None
    turned: bool = False
    heard: list[int] = field(default_factory=list)

    def block(self, passage: Passage | None, looping: bool) -> tuple[list[int], list[bool], bool]:
        """The frames of the next block, which of them lie in a blend, and whether the song ended in it."""
        fade = max(1, round(0.005 * self.rate))
        shortest = max(2 * fade, round(0.02 * self.rate))
        frames, blended = [], []
        for _ in range(BLOCK_FRAMES):
            if self.position >= self.end:
                self.position, self.turning = 0, None
                return frames, blended, True
            start, stop = (passage.start, min(passage.stop, self.end)) if passage else (0, self.end)
            loops = looping and stop - start >= shortest
            if self.turning is None and loops and stop - fade <= self.position < stop:
                self.turning = (start, stop)
            frames.append(self.position)
            blended.append(self.turning is not None)
            self.position += 1
            if self.turning is not None and self.position == self.turning[1]:
                self.position, self.turning = self.turning[0], None
        return frames, blended, False


_treated: dict[str, Floats] = {}


def treated_of(plan: Plan, sources: Mapping[int, Samples]) -> dict[int, Samples]:
    """What a cache would hold: every track behind its aftercare, in single precision."""
    found: dict[int, Samples] = {}
    end = max(len(x) for x in sources.values())  # type: ignore[arg-type]
    for i in sources:
        name = f"{plan.sound(i)} {end}"
        if name not in _treated:
            made = list(render(plan, sources, (i, Tap.BEHIND), 0, end))
            _treated[name] = np.concatenate(made).astype(np.float32)
        found[i] = _treated[name]
    return found


def hear(engine: Engine, count: int) -> Floats:
    return np.concatenate([engine.render().samples for _ in range(count)]).astype(np.float64)


def song(rate: int, frames: int, made: Sequence[Strip] | None = None) -> Engine:
    plan = compile(named(strips() if made is None else made, frames), sample_rate=rate)
    return Engine(plan, sounds(frames))
