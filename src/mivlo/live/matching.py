"""How much louder or softer the treatment made the passage, measured in the background."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from mivlo.core.graph import Plan, Point, Renderer, StripKind, Tap, blocks
from mivlo.core.graph.streams import Samples
from mivlo.core.loudness import SILENCE_LUFS, LoudnessMeter
from mivlo.core.units import db_to_gain
from mivlo.live.modes import Match, Passage, Scope

LONGEST_S = 60.0
CEILING_DB = -0.6
"""Just below the monitor limiter's: rather than turning up beyond it, the louder side is turned down."""
MOST_LIFT_DB = 24.0
_BLOCK = 16_384


@dataclass(frozen=True, slots=True)
class Compared:
    """What is compared over which frames, for one listener."""

    plan: Plan
    sources: Mapping[int, Samples]
    treated: Mapping[int, Samples]
    focus: int | None
    scope: Scope
    placed: bool
    passage: Passage


@dataclass(slots=True)
class _Heard:
    """Loudness and peak of one tap."""

    meter: LoudnessMeter
    peak: float = 0.0


BYPASS_S = 15.0
"""Of the passage, that are compared for a bypass of all treatments: it has to be known at once."""


def measure_bypass(c: Compared) -> float:
    """Gain in dB that makes the mix without any treatment as loud as with all; less where it would be too loud."""
    point = (c.plan.mix, Tap.PLACED)
    short = replace(c, passage=Passage(c.passage.start, min(c.passage.stop, c.passage.start + _frames(c, BYPASS_S))))
    (after,) = _levels(short, (point,))
    (before,) = _levels(replace(short, plan=c.plan.bare(), treated={}), (point,))
    levels = (before.meter.integrated_lufs(), after.meter.integrated_lufs())
    if SILENCE_LUFS in levels:
        return 0.0
    room = CEILING_DB - 20.0 * math.log10(max(before.peak, 1e-9))
    return min(levels[1] - levels[0], max(room, 0.0))


def _frames(c: Compared, seconds: float) -> int:
    return int(seconds * c.plan.sample_rate)


def measure(c: Compared) -> tuple[float, Match]:
    """Gain in LU that makes treated as loud as untreated over the passage (its first minute), and whom to turn.

    With a strip in focus it is the strip's own, before its fader; without one, that of the whole mix.
    """
    lift = 0.0
    if c.focus is not None:
        taps = (Tap.UNTREATED, Tap.TREATED, Tap.REMOVED)
        before, after, removed = _levels(c, tuple((c.focus, tap) for tap in taps))
        lift = _lift(before, removed)
    else:
        point = (c.plan.mix, Tap.PLACED)
        (after,) = _levels(c, (point,))
        (before,) = _levels(c, (point,), untreated=True)
    levels = (before.meter.integrated_lufs(), after.meter.integrated_lufs())
    if SILENCE_LUFS in levels:  # nothing to match
        return 0.0, Match()
    match = levels[0] - levels[1]
    if match > 0.0 and _peak_db(c, after, match) > CEILING_DB:
        return match, Match(untreated_db=-match, removed_db=lift)
    return match, Match(treated_db=match, removed_db=lift)


def _lift(untreated: _Heard, removed: _Heard) -> float:
    """By how much what is removed is turned up: as loud as untreated at the most, and below the limiter."""
    loudness = removed.meter.integrated_lufs()
    if loudness == SILENCE_LUFS:
        return 0.0
    room = CEILING_DB - 20.0 * math.log10(max(removed.peak, 1e-9))
    return max(0.0, min(MOST_LIFT_DB, untreated.meter.integrated_lufs() - loudness, room))


def _peak_db(c: Compared, treated: _Heard, match: float) -> float:
    """The highest peak, at the most, with treated turned up."""
    gain = db_to_gain(match)
    if c.focus is None or (c.scope is Scope.ALONE and not c.placed):
        return 20.0 * math.log10(max(treated.peak * gain, 1e-9))
    mix, strip = _levels(c, ((c.plan.mix, Tap.PLACED), (c.focus, Tap.PLACED)))
    return 20.0 * math.log10(max(mix.peak + (gain - 1.0) * strip.peak, 1e-9))


def _levels(c: Compared, points: tuple[Point, ...], *, untreated: bool = False) -> list[_Heard]:
    rate = c.plan.sample_rate
    stop = min(c.passage.stop, c.passage.start + _frames(c, LONGEST_S))
    known = {} if untreated else {i: x for i, x in c.treated.items() if i != c.focus}
    renderer = Renderer(c.plan, c.sources, at=c.passage.start, treated=known, grid=None, solos=True)
    if untreated:
        for i, strip in c.plan.strips.items():
            if strip.kind is StripKind.TRACK or any(run.steps for run in c.plan.all_runs(i)):
                renderer.listen(i, treated=0.0, untreated=1.0, glide=False)
    renderer.want(*points)
    heard = [_Heard(LoudnessMeter(rate, 2 if p[1] is Tap.PLACED else c.plan.strips[p[0]].channels)) for p in points]
    for made in blocks(renderer, stop, block=_BLOCK):
        for level, point in zip(heard, points, strict=True):
            level.meter.add(made[point])
            level.peak = max(level.peak, float(np.max(np.abs(made[point]), initial=0.0)))
    return heard
