"""A plan: strips in an order in which they can be rendered, and a name for everything a sound depends on."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import groupby
from typing import Any

from mivlo.core.errors import InvalidValue, MivloError
from mivlo.core.graph.naming import digest, treatment_facts
from mivlo.core.graph.strips import Strip, StripKind
from mivlo.core.moves import LARGEST_ID, Channels, Entry, FixedMove, Phase, Place, Treatment
from mivlo.core.processors import CareValue, Step
from mivlo.core.processors.phased import taps_for


class CircularRouting(MivloError):
    """Groups that end up inside themselves; the text names the strips."""


@dataclass(frozen=True, slots=True)
class Run:
    """What one processor can do together: neighbours of one mode, on the same channels and stretches."""

    mode: str
    channels: Channels
    stretches: tuple[tuple[float, float], ...]
    fade_ms: float
    structure: tuple[object, ...]
    listens_to: tuple[int, ...]
    steps: tuple[Step, ...]

    @property
    def shape(self) -> tuple[object, ...]:
        """All that can't be changed by gliding."""
        return (self.mode, self.channels, self.stretches, self.fade_ms, self.structure, self.listens_to)


def _key(entry: Entry, stereo: bool) -> tuple[object, ...]:
    fade = entry.fade_ms if entry.stretches else 0.0
    channels = entry.channels if stereo else Channels.ALL
    move = entry.move
    alone = None if move.gathers else entry.id
    return (move.mode, channels, entry.stretches, fade, move.structure, move.listens_to, alone)


def runs_of(
    treatment: Treatment, *, channels: int, sample_rate: int, listening: bool = True, place: Place = Place.BEFORE
) -> tuple[Run, ...]:
    """The runs of a treatment as it acts in one place, for a sound of so many channels.

    The first run is always there, if empty, so that the first move of a strip glides in like any other. `listening`
    False leaves out what listens to other strips: such is a key.
    """
    stereo = channels == 2
    heard = [e for e in treatment.heard() if e.place is place and (listening or not e.move.listens_to)]
    if not stereo:  # a mono sound has no side
        heard = [e for e in heard if e.channels is not Channels.SIDE]
    first: list[Run] = []
    if treatment.phase is not Phase.MINIMUM:
        ahead = [e for e in heard if isinstance(e.move, FixedMove) and not e.stretches]
        heard = [e for e in heard if e not in ahead]
        first = _phased(ahead, str(treatment.phase), stereo, sample_rate)
    runs = []
    for key, entries in groupby(heard, lambda e: _key(e, stereo)):
        mode, on, stretches, fade, structure, listens_to, _ = key
        runs.append(Run(mode, on, stretches, fade, structure, listens_to, _steps(entries)))  # type: ignore[arg-type]
    plain = ("static", Channels.ALL, (), 0.0, (), ())
    if place is Place.BEFORE and treatment.phase is Phase.MINIMUM and (not runs or runs[0].shape != plain):
        runs.insert(0, Run("static", Channels.ALL, (), 0.0, (), (), ()))
    return (*first, *runs)


def _steps(entries: Iterable[Entry]) -> tuple[Step, ...]:
    return tuple(Step(entry.id, entry.move, entry.enabled) for entry in entries)


def care_runs_of(treatment: Treatment, *, channels: int, sample_rate: int) -> tuple[Run, ...]:
    """What comes behind the moves: the aftercare in its order, the moves placed behind it, and the reverb."""
    care = treatment.aftercare
    behind = runs_of(treatment, channels=channels, sample_rate=sample_rate, place=Place.BEHIND)
    parts: list[tuple[str, Sequence[CareValue | None]]] = [
        ("compressors", care.compressors), ("clip", [care.clip]), ("harmonics", [care.warmth, care.air]),
    ]  # fmt: skip
    runs = [run for mode, values in parts if (run := _care_run(mode, values))]
    return (*runs, *behind, *filter(None, [_care_run("reverb", [care.reverb])]))


def _care_run(mode: str, values: Sequence[CareValue | None]) -> Run | None:
    steps = tuple(Step(f"{mode} {i}", value) for i, value in enumerate(values) if value is not None)
    return Run(mode, Channels.ALL, (), 0.0, tuple(s.key for s in steps), (), steps) if steps else None


def _phased(ahead: list[Entry], phase: str, stereo: bool, sample_rate: int) -> list[Run]:
    """Static moves that always act, as one filter for each part of the sound."""
    parts: dict[Channels, list[Entry]] = {}
    for entry in ahead:
        parts.setdefault(entry.channels if stereo else Channels.ALL, []).append(entry)
    out = []
    for on, entries in parts.items():
        length = taps_for([e.move for e in entries], sample_rate) if phase == Phase.LINEAR else 0  # type: ignore[misc]
        out.append(Run(phase, on, (), 0.0, (length,), (), _steps(entries)))
    return out


@dataclass(frozen=True)
class Plan:
    """Strips that fit together. Made by `compile`; two plans with the same `structure` can glide into each other."""

    strips: Mapping[int, Strip]
    children: Mapping[int, tuple[int, ...]]
    mix: int
    order: tuple[int, ...]
    sample_rate: int

    def audible(self, *, solos: bool) -> frozenset[int]:
        """The strips that reach the mix: not muted, nor within a muted group; `solos` heeds who is soloed.

        A soloed group is heard with all that it holds, a soloed strip with the groups it runs through.
        """
        heard = set()
        soloed = {i for i, strip in self.strips.items() if strip.solo and i != self.mix} if solos else set()
        for i in reversed(self.order):
            strip = self.strips[i]
            if i == self.mix or (not strip.mute and self.parent(i) in heard):
                heard.add(i)
        if not soloed:
            return frozenset(heard)
        wanted = {self.mix}
        for i in soloed:
            wanted |= {i, *self.above(i), *self.below(i)}
        return frozenset(heard & wanted)

    def parent(self, strip_id: int) -> int:
        """The strip that another one is routed into."""
        parent = self.strips[strip_id].parent
        return self.mix if parent is None else parent

    def above(self, strip_id: int) -> tuple[int, ...]:
        """The groups and the mix that a strip runs through, nearest first."""
        path = []
        while strip_id != self.mix:
            strip_id = self.parent(strip_id)
            path.append(strip_id)
        return tuple(path)

    def below(self, strip_id: int) -> tuple[int, ...]:
        """All that is routed into a strip, directly or not."""
        direct = self.children[strip_id]
        return (*direct, *(i for child in direct for i in self.below(child)))

    def runs(self, strip_id: int) -> tuple[Run, ...]:
        """What processors a strip's treatment takes."""
        return self._runs[strip_id]

    @cached_property
    def _runs(self) -> dict[int, tuple[Run, ...]]:
        return {i: self._runs_of(i) for i in self.strips}

    def care_runs(self, strip_id: int) -> tuple[Run, ...]:
        """What processors the rest takes that comes behind a strip's moves."""
        return self._care_runs[strip_id]

    @cached_property
    def _care_runs(self) -> dict[int, tuple[Run, ...]]:
        return {
            i: care_runs_of(strip.treatment, channels=strip.channels, sample_rate=self.sample_rate)
            for i, strip in self.strips.items()
        }

    def with_treatments(self, treatments: Mapping[int, Treatment]) -> Plan:
        """The same strips, some of them with other treatments."""
        strips = [replace(s, treatment=treatments.get(i, s.treatment)) for i, s in self.strips.items()]
        return compile(strips, sample_rate=self.sample_rate)

    def all_runs(self, strip_id: int) -> tuple[Run, ...]:
        """All processors of a strip, in their order."""
        return (*self.runs(strip_id), *self.care_runs(strip_id))

    def key_runs(self, strip_id: int) -> tuple[Run, ...]:
        """Those that are heard by who listens to a strip."""
        return self._runs_of(strip_id, listening=False)

    def _runs_of(self, strip_id: int, **how: Any) -> tuple[Run, ...]:
        strip = self.strips[strip_id]
        return runs_of(strip.treatment, channels=strip.channels, sample_rate=self.sample_rate, **how)

    def listens(self, strip_id: int) -> bool:
        """Whether a strip, or what is routed into it, has moves that listen to other strips."""
        here = any(run.listens_to for run in self.all_runs(strip_id))
        return here or any(self.listens(child) for child in self.children[strip_id])

    def recordings_of(self, strip_id: int) -> frozenset[int]:
        """The tracks whose recordings a strip's sound is made of, or is steered by."""
        return self._recordings(strip_id, listening=True)

    def _recordings(self, strip_id: int, *, listening: bool) -> frozenset[int]:
        strip = self.strips[strip_id]
        found = {strip_id} if strip.kind is StripKind.TRACK else set()
        for child in self.children[strip_id]:
            found |= self._recordings(child, listening=listening)
        for key in strip.treatment.listens_to if listening else ():
            if key in self.strips:  # a key is behind those moves that listen to nobody
                found |= self._recordings(key, listening=False)
        return frozenset(found)

    @cached_property
    def structure(self) -> tuple[object, ...]:
        """All that can't be changed by gliding: two renderers of different structure blend instead."""
        return tuple(
            (i, self.strips[i].kind, self.parent(i), self.strips[i].channels, self.strips[i].source,
             self.strips[i].treatment.phase, tuple(run.shape for run in self.all_runs(i)), self._sequence(i))
            for i in self.order
        )  # fmt: skip

    def _sequence(self, strip_id: int) -> tuple[tuple[int | str, ...], ...]:
        # later runs are told apart by what they hold: an entry that changes its run is a change of structure
        first = 1 if self.strips[strip_id].treatment.phase is Phase.MINIMUM else 0
        return tuple(tuple(step.key for step in run.steps) for run in self.all_runs(strip_id)[first:])

    # --- names ----------------------------------------------------------------------------------

    def bare(self) -> Plan:
        """The same strips without any treatment."""
        return self.with_treatments(dict.fromkeys(self.strips, Treatment()))

    def sound(self, strip_id: int) -> str:
        """Names all that a strip's sound behind its aftercare depends on."""
        return self._sound(strip_id, listening=True)

    def arriving(self, strip_id: int) -> str:
        """Names all that the sound depends on that reaches a strip's moves."""
        return digest("arriving", self.sample_rate, self._content(strip_id, listening=True))

    def place(self, strip_id: int) -> str:
        """Names all that a strip's part in the mix depends on: its sound, its fader, and the groups above."""
        path = (strip_id, *self.above(strip_id))
        return digest("place", self.sound(strip_id), [self._routing(i) for i in path])

    @cached_property
    def _names(self) -> dict[tuple[int, bool], str]:
        """Those that were asked for so far."""
        return {}

    def _sound(self, strip_id: int, *, listening: bool) -> str:
        """With what listens to other strips, or without it: such is a key."""
        known = self._names.get((strip_id, listening))
        if known is not None:
            return known
        strip = self.strips[strip_id]
        content = self._content(strip_id, listening=listening)
        facts = treatment_facts(strip.treatment, channels=strip.channels, listening=listening)
        heard = strip.treatment.listens_to if listening else ()
        keys = [self._sound(i, listening=False) if i in self.strips else None for i in heard]
        name = self._names[strip_id, listening] = digest("sound", self.sample_rate, content, facts, keys)
        return name

    def _content(self, strip_id: int, *, listening: bool) -> object:
        strip = self.strips[strip_id]
        if strip.kind is StripKind.TRACK:
            return (strip.source, strip.channels)
        return [(self._sound(i, listening=listening), self._routing(i)) for i in self.children[strip_id]]

    def _routing(self, strip_id: int) -> tuple[float, float, bool]:
        strip = self.strips[strip_id]
        return (strip.fader_db, strip.pan, strip.mute)


def compile(strips: Iterable[Strip], *, sample_rate: int) -> Plan:
    """Check that strips fit together, and put them into an order: what is routed into a strip before it.

    Strips without a parent run into the mix, which is added where none is given.

    Raises
    ------
    InvalidValue : two strips share an id, two are a mix, a parent is not there or is a track.
    CircularRouting : a group is inside itself.
    """
    known: dict[int, Strip] = {}
    for strip in strips:
        if strip.id in known:
            raise InvalidValue("id", strip.id, "each strip needs one of its own")
        known[strip.id] = strip
    mixes = [i for i, strip in known.items() if strip.kind is StripKind.MIX]
    if len(mixes) > 1:
        raise InvalidValue("kind", "mix", "a song has one mix")
    if not mixes:
        mixes = [next(i for i in range(LARGEST_ID, -1, -1) if i not in known)]
        known[mixes[0]] = Strip(id=mixes[0], kind=StripKind.MIX, name="mix")
    mix = mixes[0]
    known = {i: s if s.kind is StripKind.TRACK else replace(s, channels=2, source="") for i, s in known.items()}
    children: dict[int, list[int]] = {i: [] for i in known}
    for i, strip in known.items():
        if i != mix:
            children[_parent_of(strip, known, mix)].append(i)
    order: list[int] = []
    _visit(mix, children, order)
    if len(order) < len(known):
        raise CircularRouting(_circle(known, set(known) - set(order)))
    frozen = {i: tuple(below) for i, below in children.items()}
    return Plan(known, frozen, mix, tuple(order), sample_rate)


def _parent_of(strip: Strip, known: Mapping[int, Strip], mix: int) -> int:
    if strip.parent is None:
        return mix
    parent = known.get(strip.parent)
    if parent is None:
        raise InvalidValue("parent", strip.parent, f"there is no such strip to route {strip.name or strip.id} into")
    if parent.kind is StripKind.TRACK:
        raise InvalidValue("parent", parent.name or parent.id, "a strip is routed into a group or the mix, not a track")
    return parent.id


def _visit(strip_id: int, children: Mapping[int, list[int]], order: list[int]) -> None:
    for child in children[strip_id]:
        _visit(child, children, order)
    order.append(strip_id)


def _circle(known: Mapping[int, Strip], lost: set[int]) -> str:
    at = min(i for i in lost if known[i].kind is StripKind.GROUP)
    path: list[int] = []
    while at not in path:
        path.append(at)
        at = known[at].parent or 0
    names = [known[i].name or f"group {i}" for i in path[path.index(at) :]]
    if len(names) == 1:
        return f"{names[0]} can't be routed into itself. Choose another group for it, or the mix."
    return f"{' into '.join([*names, names[0]])}: a group can't end up inside itself. Route one of them into the mix."
