"""The renderer: the only place where strips become sound. It serves the ear, the file and the looks."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np

from mivlo.core.errors import BadAudio, InvalidValue
from mivlo.core.graph.glide import RAMP_S
from mivlo.core.graph.plan import Plan, Run
from mivlo.core.graph.streams import (
    Behind,
    Clock,
    Fader,
    Heard,
    Insert,
    KnownFader,
    Removed,
    Samples,
    Source,
    Stream,
    Sum,
    Treated,
)
from mivlo.core.graph.strips import Strip, StripKind
from mivlo.core.processors import PROCESSORS, Processor, Step
from mivlo.core.units import Floats, db_to_gain

OFFLINE_GRID = 65_536
"""Files, caches and looks are made in cells of so many frames, so that their bits are the same whoever asks."""
_STEP = 4096


class Tap(StrEnum):
    """A place on a strip's way at which it can be listened to. All taps meet on the same frame."""

    UNTREATED = "untreated"  # what reaches the moves
    KEY = "key"  # behind those moves that listen to no other strip
    TREATED = "treated"  # behind the moves before the aftercare
    REMOVED = "removed"  # untreated minus treated
    BEHIND = "behind"  # behind the aftercare and the moves behind that: what files, caches and the fader get
    PLACED = "placed"  # behind the fader


Point = tuple[int, Tap]
"""A tap of a strip."""


@dataclass(frozen=True, slots=True)
class RendererState:
    """An exact copy of a renderer's memory, to be restored into one of the same plan."""

    position: int
    structure: tuple[object, ...]
    streams: tuple[Any, ...]


class Renderer:
    """Makes the sound of a plan, from any frame on, in blocks of any size.

    Parameters
    ----------
    plan : what is rendered.
    sources : the recordings of the tracks: (frames, channels) each; a track without one is silent.
    at : the first frame that is wanted.
    treated : sounds behind the aftercare that are known already (a cache), by strip.
    grid : make everything in whole cells of so many frames, so that the bits do not depend on who asks;
        None for listening, where a change shall be heard at once.
    solos : whether soloed strips silence the others, as in listening.
    longest_warm_up : frames; where the plan's memory reaches further back than this, the sound is not exact until
        `exact_from`. None: as far as it takes.
    """

    def __init__(
        self,
        plan: Plan,
        sources: Mapping[int, Samples],
        *,
        at: int = 0,
        treated: Mapping[int, Samples] | None = None,
        grid: int | None = OFFLINE_GRID,
        solos: bool = False,
        longest_warm_up: int | None = None,
    ) -> None:
        self.plan, self.position = plan, at
        self.exact_from = at
        self.longest_warm_up = longest_warm_up
        self._rate = plan.sample_rate
        self._ramp = max(1, round(RAMP_S * plan.sample_rate))
        self._grid, self._solos = grid, solos
        self._only: frozenset[int] | None = None
        self._let_in: frozenset[int] = frozenset()
        self._clock = Clock()
        self._streams: list[Stream] = []
        self._points: dict[Point, Stream] = {}
        self._treated: dict[int, list[Treated]] = {}
        self._keyed: dict[int, list[Treated]] = {}
        self._heard: dict[int, Heard] = {}
        self._behind: dict[int, list[Behind]] = {}
        self._faders: dict[int, Fader] = {}
        self._key_faders: dict[int, Fader] = {}
        self._known = frozenset(treated or ())
        self._unsure = True
        self._listener_gain: dict[int, float] = {}
        self._warmed_to = at
        self._build(sources, treated or {})
        self._lead: dict[Stream, int] = {}
        self._wanted: tuple[Point, ...] = ()
        self._aim(plan, glide=False)

    # --- building -------------------------------------------------------------------------------

    def _add(self, stream: Any) -> Any:
        stream.grid, stream.clock = self._grid, self._clock
        self._streams.append(stream)
        return stream

    def _build(self, sources: Mapping[int, Samples], known: Mapping[int, Samples]) -> None:
        plan = self.plan
        self._sources = {
            i: self._add(Source(sources.get(i, np.zeros((0, strip.channels)))))
            for i, strip in plan.strips.items()
            if strip.kind is StripKind.TRACK
        }
        for i, source in self._sources.items():
            if source.channels != plan.strips[i].channels:
                raise BadAudio(f"The recording of strip {i} has {source.channels} channels, not as the strip says.")
        keys = {i: self._key_of(i) for i in self._listened_to()}
        for i in plan.order:
            self._build_strip(plan.strips[i], keys, known.get(i))

    def _listened_to(self) -> tuple[int, ...]:
        found = (k for i in self.plan.order for run in self.plan.all_runs(i) for k in run.listens_to)
        return tuple(dict.fromkeys(k for k in found if k in self.plan.strips))

    def _key_of(self, strip_id: int) -> Stream:
        """What others listen to: a strip behind those of its moves that listen to nobody."""
        if (strip_id, Tap.KEY) not in self._points:
            strip = self.plan.strips[strip_id]
            before: Stream
            if strip.kind is StripKind.TRACK:
                before = self._sources[strip_id]
            else:
                before = self._add(Sum([self._key_fader(child) for child in self.plan.children[strip_id]]))
            self._points[strip_id, Tap.KEY] = self._chain(
                before, self.plan.key_runs(strip_id), {}, self._keyed.setdefault(strip_id, [])
            )
        return self._points[strip_id, Tap.KEY]

    def _key_fader(self, strip_id: int) -> Fader:
        if strip_id not in self._key_faders:
            self._key_faders[strip_id] = self._add(Fader(self._key_of(strip_id), ramp=self._ramp))
        return self._key_faders[strip_id]

    def _chain(self, before: Stream, runs: Sequence[Run], keys: Mapping[int, Stream], into: list[Treated]) -> Stream:
        for run in runs:
            listened = {k: keys[k] for k in run.listens_to if k in keys}
            stream = self._add(
                Treated(
                    before,
                    _maker(run.mode, self._rate),
                    run.steps,
                    listened,
                    channels=run.channels,
                    stretches=run.stretches,
                    fade_ms=run.fade_ms,
                    sample_rate=self._rate,
                )
            )
            into.append(stream)
            before = stream
        return before

    def _build_strip(self, strip: Strip, keys: Mapping[int, Stream], known: Samples | None) -> None:
        i, points = strip.id, self._points
        if known is not None:
            source = points[i, Tap.BEHIND] = self._add(Source(known))
            fader: Fader = self._add(KnownFader(source, ramp=self._ramp))
        else:
            self._build_treatment(strip, keys)
            fader = self._add(Fader(points[i, Tap.BEHIND], ramp=self._ramp))
        self._faders[i] = points[i, Tap.PLACED] = fader

    def _build_treatment(self, strip: Strip, keys: Mapping[int, Stream]) -> None:
        i, points = strip.id, self._points
        untreated: Stream
        if strip.kind is StripKind.TRACK:
            untreated = self._sources[i]
        else:
            untreated = self._add(Sum([self._faders[child] for child in self.plan.children[i]]))
        treated = self._chain(untreated, self.plan.runs(i), keys, self._treated.setdefault(i, []))
        if (i, Tap.KEY) not in points and not self.plan.listens(i):
            points[i, Tap.KEY] = treated
        cared = self._chain(treated, self.plan.care_runs(i), keys, self._treated[i])
        heard: Heard = self._add(Heard(untreated, treated, cared, ramp=self._ramp))
        behind: Behind = self._add(Behind(heard, ramp=self._ramp))
        self._heard[i] = heard
        self._behind.setdefault(i, []).append(behind)
        points[i, Tap.UNTREATED], points[i, Tap.TREATED], points[i, Tap.BEHIND] = untreated, treated, behind
        points[i, Tap.REMOVED] = self._add(Removed(untreated, treated))

    # --- values ---------------------------------------------------------------------------------

    def fits(self, plan: Plan) -> bool:
        """Whether `aim` can take this plan; else another renderer must take over."""
        same = plan.structure == self.plan.structure
        return same and all(plan.sound(i) == self.plan.sound(i) for i in self._known)

    def aim(self, plan: Plan, *, glide: bool = True) -> None:
        """Take the values of a plan of the same structure; they glide there.

        Raises
        ------
        InvalidValue : the plan has another structure.
        """
        if not self.fits(plan):
            raise InvalidValue("plan", "another structure", "a renderer of its own must take over")
        memory = self.memory
        self.plan = plan
        self._aim(plan, glide=glide)
        if glide:
            self.exact_from = max(self.exact_from, self.position + self._settling + max(memory, self.memory))
        self._unsure = True

    @property
    def _settling(self) -> int:
        return max(self._ramp, round(0.03 * self._rate))

    def _aim(self, plan: Plan, *, glide: bool) -> None:
        now = self.position
        for i in plan.order:
            strip = plan.strips[i]
            for stream, run in zip(self._treated.get(i, ()), plan.all_runs(i), strict=i in self._treated):
                stream.aim(run.steps, glide=glide)
            if i in self._keyed:
                for stream, run in zip(self._keyed[i], plan.key_runs(i), strict=True):
                    stream.aim(run.steps, glide=glide)
            output = db_to_gain(strip.treatment.aftercare.output_db)
            for behind in self._behind.get(i, ()):
                behind.aim([output], now=now, glide=glide)
        self._aim_faders(glide=glide)

    def _aim_faders(self, *, glide: bool) -> None:
        plan, now = self.plan, self.position
        self._let_in = plan.audible(solos=self._solos) if self._only is None else self._only
        for i in self._faders:
            self._aim_fader(i, glide=glide)
        for i, fader in self._key_faders.items():
            strip = plan.strips[i]
            fader.aim([0.0, 0.0] if strip.mute else strip.gains, now=now, glide=glide)

    def _aim_fader(self, strip_id: int, *, glide: bool) -> None:
        own = self._listener_gain.get(strip_id, 1.0) if strip_id in self._let_in else 0.0
        gains = [g * own for g in self.plan.strips[strip_id].gains]
        self._faders[strip_id].aim(gains, now=self.position, glide=glide)

    # --- what a listener does to it; never part of an export -------------------------------------

    def listen(
        self,
        strip_id: int,
        *,
        treated: float = 1.0,
        untreated: float = 0.0,
        gain: float = 1.0,
        insert: Insert | None = None,
        glide: bool = True,
    ) -> None:
        """Hear a strip as a mixture of its treated and untreated sound, turned by `gain` before its fader.

        What is subtracted (`treated` below 0) is what the moves make, without what comes behind them.
        """
        heard = self._heard[strip_id]
        heard.aim([max(treated, 0.0), min(treated, 0.0), untreated], now=self.position, glide=glide)
        heard.insert = insert
        self._listener_gain[strip_id] = gain
        self._aim_fader(strip_id, glide=glide)
        self._unsure = True

    def insert(self, strip_id: int) -> Insert | None:
        """What a listener has put behind a strip's moves."""
        heard = self._heard.get(strip_id)
        return None if heard is None else heard.insert

    @property
    def known(self) -> frozenset[int]:
        """Strips whose treated sound was given."""
        return self._known

    def hear_only(self, strips: frozenset[int] | None, *, glide: bool = True) -> None:
        """Let only these strips into their parents; None: as mute and solo say."""
        self._only = strips
        self._aim_faders(glide=glide)
        self._unsure = True

    # --- reading --------------------------------------------------------------------------------

    def want(self, *points: Point) -> None:
        """Choose the taps that `render` gives; the others are not computed.

        Raises
        ------
        InvalidValue : there is no such tap.
        """
        for point in points:
            strip_id, tap = point
            if strip_id not in self.plan.strips:
                raise InvalidValue("strip", strip_id, "it is not in this song")
            if tap is Tap.KEY and point not in self._points:
                self._key_of(strip_id)
                self._aim(self.plan, glide=False)
            if point not in self._points:
                raise InvalidValue("tap", str(tap), "a strip whose treated sound is given has none of what lies before")
        self._wanted = points
        self._unsure = True

    @property
    def wanted(self) -> tuple[Point, ...]:
        """The taps that `render` gives."""
        return self._wanted

    @property
    def _sinks(self) -> list[Stream]:
        return [self._points[point] for point in self._wanted]

    def _plan_reading(self) -> None:
        """How far ahead each stream is read by those who read it, at the most and at the least."""
        lead: dict[Stream, int] = {sink: 0 for sink in self._sinks}
        least = dict(lead)
        for stream in reversed(self._streams):
            if stream not in lead:
                continue
            for source in stream.active():
                ahead = lead[stream] + stream.latency
                behind = least[stream] + (0 if stream.also_reads_here else stream.latency)
                lead[source] = max(lead.get(source, ahead), ahead)
                least[source] = min(least.get(source, behind), behind)
        self._lead = lead
        for stream in self._streams:
            if stream in lead:
                stream.least = least[stream]
            else:
                stream.awake = False

    @property
    def memory(self) -> int:
        """Frames after which the past is forgotten to -120 dB in all that is wanted, along every way there."""
        reach: dict[Stream, int] = {sink: 0 for sink in self._sinks}
        longest = 0
        for stream in reversed(self._streams):
            if stream in reach:
                total = reach[stream] + stream.memory
                longest = max(longest, total)
                for source in stream.active():
                    reach[source] = max(reach.get(source, 0), total)
        return longest

    @property
    def latency(self) -> int:
        """Frames by which the recordings are read ahead of what is heard."""
        if self._unsure:
            self._plan_reading()
        return max(self._lead.values(), default=0)

    def _wake(self) -> None:
        """Wake what sleeps, early enough to know its past when `position` is reached."""
        needed: dict[Stream, int] = {}
        wished: dict[Stream, int] = {}
        for sink in self._sinks:
            needed[sink] = wished[sink] = self.position
        short = 0
        first = self.position
        for stream in reversed(self._streams):
            if stream not in needed:
                continue
            at, exactly = needed[stream], wished[stream]
            if stream.can_read(at):
                begins = begins_exactly = stream.position if stream.awake else at
            else:
                begins_exactly = exactly - stream.memory
                begins = max(at - stream.memory, self._earliest(stream))
                begins = stream.wake(min(begins, at))
                short = max(short, min(begins, at) - max(begins_exactly, stream.begin))
                first = min(first, begins - self._lead[stream])
            ahead = 0 if stream.also_reads_here else stream.latency
            for source in stream.active():
                needed[source] = min(needed.get(source, begins + ahead), begins + ahead)
                exactly = begins_exactly + ahead
                wished[source] = min(wished.get(source, exactly), exactly)
        if short > 0:
            self.exact_from = max(self.exact_from, self.position + short)
        self._warmed_to = first

    def _earliest(self, stream: Stream) -> int:
        if self.longest_warm_up is None:
            return stream.begin
        return self.position + self._lead[stream] - self.longest_warm_up

    @property
    def _asleep(self) -> bool:
        """Whether something that is wanted has to be woken first.

        Also what is awake, but was read ahead so far, and has forgotten the frame that somebody reads of it now.
        """
        if any(not sink.can_read(self.position) for sink in self._sinks):
            return True
        return any(
            not source.can_read(stream.position + (0 if stream.also_reads_here else stream.latency))
            for stream in self._lead
            for source in stream.active()
        )

    def warm_up(self, most: int | None = None) -> bool:
        """Run over what comes before `position`, at most `most` frames of it now; whether it is done."""
        if self._unsure:
            self._plan_reading()
            if self._asleep:
                self._wake()
            self._unsure = False
        end = self.position
        budget = most
        while self._warmed_to < end:
            if budget is not None and budget <= 0:
                return False
            stop = min(end, self._cell_end(self._warmed_to))
            if budget is not None:
                stop = min(stop, self._warmed_to + budget)
            self._advance(self._warmed_to, stop)
            if budget is not None:
                budget -= stop - self._warmed_to
            self._warmed_to = stop
        return True

    @property
    def warming_left(self) -> int:
        """Frames that `warm_up` still has to run over."""
        if self._unsure:
            self.warm_up(0)
        return self.position - self._warmed_to

    def _advance(self, start: int, stop: int) -> None:
        """Make what all streams that are awake make in a step of the song, inputs before what reads them."""
        self._clock.frame = start
        for stream in self._streams:
            lead = self._lead.get(stream)
            if lead is None or not stream.awake:
                continue
            end = stop + lead
            if end > stream.position:
                stream.read(max(start + lead, min(stream.position, end - 1)), end)

    def render(self, count: int) -> dict[Point, Floats]:
        """The next `count` frames of every tap that is wanted: (count, channels) each, not to be changed."""
        self.warm_up()
        parts = []
        end = self.position + count
        while True:
            start, stop = self.position, min(end, self._cell_end(self.position))
            self._clock.frame = start
            parts.append({point: self._points[point].read(start, stop) for point in self._wanted})
            self.position = self._warmed_to = stop
            if stop == end:
                break
        if len(parts) == 1:
            return parts[0]
        return {point: np.concatenate([part[point] for part in parts]) for point in self._wanted}

    def _cell_end(self, frame: int) -> int:
        """Where the piece ends that all streams make before the next one: none gets further ahead of the others."""
        size = self._grid or _STEP
        return frame + size - frame % size

    @property
    def exact(self) -> bool:
        """Whether what comes next is what a renderer gives that began at the song's first frame, to -120 dB."""
        return self.position >= self.exact_from

    def peaks(self) -> dict[int, float]:
        """Largest sample of each strip behind its fader, in what was made last."""
        return {i: fader.peak() for i, fader in self._faders.items()}

    def report(self) -> dict[tuple[int, int | str], float]:
        """Gain in dB of every moving move at present, by strip and move."""
        return {
            (i, key): gain
            for i, streams in self._treated.items()
            for stream in streams
            if stream.awake
            for key, gain in stream.processor.report().items()
        }

    # --- memory ---------------------------------------------------------------------------------

    @property
    def _shape(self) -> tuple[object, ...]:
        """What two renderers must share for one to go on from the other's memory."""
        return (self.plan.structure, self._known)

    def state(self) -> RendererState:
        """An exact copy of its memory."""
        return RendererState(self.position, self._shape, tuple(stream.state() for stream in self._streams))

    def restore(self, state: RendererState) -> None:
        """Go on from a copy that was taken of a renderer of the same plan.

        Raises
        ------
        InvalidValue : the copy is of a plan of another structure.
        """
        if state.structure != self._shape or len(state.streams) != len(self._streams):
            raise InvalidValue("state", "of another plan", "it can't be gone on from")
        for stream, known in zip(self._streams, state.streams, strict=True):
            stream.restore(known)
        self.position = self.exact_from = self._warmed_to = state.position
        self._unsure = True
        self._aim_faders(glide=False)


def _maker(mode: str, rate: int) -> Callable[[int, Sequence[Step]], Processor]:
    make = PROCESSORS[mode]
    return lambda channels, steps: make(float(rate), channels, steps)


def blocks(renderer: Renderer, stop: int, *, block: int = OFFLINE_GRID) -> Iterator[dict[Point, Floats]]:
    """What a renderer gives up to frame `stop`, in blocks."""
    while renderer.position < stop:
        yield renderer.render(min(block, stop - renderer.position))
