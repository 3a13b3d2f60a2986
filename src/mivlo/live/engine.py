"""What is heard: the renderer, steered by a transport; the probe, the comparison, the monitor limiter. No sockets.

The engine is driven from one thread at a time: `render` makes the next block, the other methods change what the
following blocks contain. Values glide; what can't glide is taken over by a second renderer in a short blend.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Mapping
from dataclasses import dataclass
from weakref import WeakKeyDictionary

import numpy as np
import scipy.interpolate  # noqa: F401  (rungs import it when they are first pulled; a gesture must not wait for that)

from mivlo.core.errors import InvalidValue
from mivlo.core.graph import Plan, Point, Renderer, RendererState, Strip, StripKind, Tap
from mivlo.core.graph.glide import RAMP_S, Glide, s_curve
from mivlo.core.graph.streams import Samples
from mivlo.core.moves import Entry, Treatment
from mivlo.core.probe import MonitorLimiter, Probe, ProbeStream
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats, db_to_gain
from mivlo.live.inserts import ProbeInsert
from mivlo.live.keys import heard_key
from mivlo.live.modes import Match, Passage, Scope, Signal
from mivlo.live.monitor import Monitor
from mivlo.live.previews import Preview, only
from mivlo.live.transport import Piece, Transport

BLOCK_FRAMES = 512
MARK_EVERY_S = 10.0
MOST_MARKS = 64
WARM_UP_STRIP_S = 6.0
"""Seconds of sound that may be run over before a seek is heard, added up over the strips that are computed."""
LEAST_WARM_UP_S = 0.25
SETTLED_S = 0.1
"""A change is at rest once nothing new has come for so long; before, nothing is prepared that the next one undoes."""
SOON_S = 0.75
"""What comes at the passage's end is prepared at the latest when it is so near."""
_RAMP = s_curve((np.arange(BLOCK_FRAMES) + 1) / BLOCK_FRAMES)


@dataclass(frozen=True, slots=True)
class Block:
    """One rendered block and what goes with it."""

    samples: Singles  # (BLOCK_FRAMES, 2)
    position: int  # frame of the song at its start
    playing: bool


@dataclass(frozen=True, slots=True)
class _Ready:
    """What takes over at a passage's end, and what it was made for."""

    renderer: Renderer
    loop: Passage
    made_for: int


class Engine:
    """The player of one listening session.

    Parameters
    ----------
    plan : the song's strips as they are saved.
    sources : the recordings of the tracks.
    treated : sounds behind the aftercare that are known already (the cache).
    """

    def __init__(
        self, plan: Plan, sources: Mapping[int, Samples], treated: Mapping[int, Samples] | None = None
    ) -> None:
        self.sample_rate = plan.sample_rate
        self.transport = Transport(plan.sample_rate, _end(sources))
        self.scope, self.placed = Scope.MIX, False
        self.companions: frozenset[int] = frozenset()
        self.signal = Signal.TREATED
        self.focus: int | None = None
        self.match = Match()
        self.only: frozenset[int] = frozenset()
        self.key_of: int | None = None
        self.key_strip: int | None = None
        self._key_strips: WeakKeyDictionary[Renderer, int | None] = WeakKeyDictionary()
        self.bypassed = False
        self._bypass_db = 0.0
        self.monitor = Monitor(plan.sample_rate)
        self.limiter = MonitorLimiter(plan.sample_rate)
        self.last_untreated: Floats = np.zeros((0, 1))
        self.last_treated: Floats = np.zeros((0, 1))
        self._saved, self._sources = plan, dict(sources)
        self._treated = dict(treated or {})
        self._previews: dict[int, Preview] = {}
        self._probe: Probe | None = None
        self.plan = self._changed = plan
        self._renderer: Renderer | None = None
        self._successor: Renderer | None = None
        self._ready: _Ready | None = None
        self._spare: Renderer | None = None
        self._kept: tuple[int, Passage, RendererState] | None = None
        self._marks: OrderedDict[int, RendererState] = OrderedDict()
        self._version = 0
        self._changed_at = 0
        self._clock = 0
        ramp = round(RAMP_S * plan.sample_rate)
        self._routes = Glide([1.0, 0.0], ramp)  # how much of the mix, and of the strip alone
        self._gains = Glide([1.0, 1.0], ramp)  # on the mix, on the strip alone
        self._master = 0.0

    # --- what is played -------------------------------------------------------------------------

    @property
    def end(self) -> int:
        """Frames of the longest track."""
        return self.transport.end

    @property
    def position(self) -> int:
        return self.transport.position

    @property
    def sources(self) -> Mapping[int, Samples]:
        """The recordings of the tracks."""
        return self._sources

    @property
    def known(self) -> dict[int, Samples]:
        """The treated sounds that need not be computed: not those that are looked at, previewed or compared.

        Nor those that are steered by a strip whose moves are others meanwhile: they were made with the saved ones.
        """
        if self.bypassed or (self.focus is None and self.signal is not Signal.TREATED):
            return {}
        inside = {self.focus, self.key_strip, *self._previews, *self._steered_otherwise()}
        return {i: known for i, known in self._treated.items() if i not in inside and i in self.plan.strips}

    def _steered_otherwise(self) -> set[int]:
        """The strips that listen to one whose moves, or those of what runs into it, are not the saved ones now."""
        plan = self.plan
        if plan is self._saved:
            return set()
        here = [i for i in plan.strips if i in self._saved.strips]
        changed = {i for i in here if plan.strips[i].treatment is not self._saved.strips[i].treatment}
        for i in changed.copy():
            changed.update(plan.above(i))
        return {i for i in here if not changed.isdisjoint(plan.strips[i].treatment.listens_to)}

    @property
    def treated_plan(self) -> Plan:
        """What is heard but for a bypass."""
        return self._changed if self.bypassed else self.plan

    @property
    def playing(self) -> bool:
        return self.transport.playing

    @property
    def passage(self) -> Passage | None:
        return self.transport.passage

    @property
    def probe(self) -> Probe | None:
        return self._probe

    @property
    def resting(self) -> bool:
        """Whether nothing is heard: paused, and faded out."""
        return not self.playing and self._master == 0.0

    @property
    def exact(self) -> bool:
        """Whether what is heard next is what an export of the same state holds, to -120 dB."""
        return self._renderer is None or self._renderer.exact

    @property
    def latency_s(self) -> float:
        """By how much a change of a track is heard later than it is made, for what lies behind it on its way."""
        return 0.0 if self._renderer is None else self._renderer.latency / self.sample_rate

    def strip(self, strip_id: int) -> Strip:
        """A strip with its moves as they are changed; InvalidValue if there is none."""
        if strip_id not in self._changed.strips:
            raise InvalidValue("strip", strip_id, "it is not in this song; choose another one")
        return self._changed.strips[strip_id]

    def set_song(self, plan: Plan, sources: Mapping[int, Samples], treated: Mapping[int, Samples]) -> None:
        """Take over the song's saved state. Previews stay over it; those of strips that are gone, go."""
        self._saved, self._sources, self._treated = plan, dict(sources), dict(treated)
        self._previews = {i: p for i, p in self._previews.items() if i in plan.strips}
        self.companions = frozenset(i for i in self.companions if i in plan.strips)
        self.transport.end = _end(sources)
        if self.focus not in plan.strips:
            self._choose(None)
        self._follow()

    def set_treated(self, treated: Mapping[int, Samples]) -> None:
        """Other treated sounds are known now: what plays need not compute them any more."""
        if self._treated.keys() == treated.keys():
            return
        self._treated = dict(treated)
        self._version += 1
        self._marks.clear()
        if self._renderer is None or self._renderer.known == frozenset(self.known):
            return
        if self.resting:
            self._renderer = self._successor = None
        else:
            self._successor = self._begun(self.transport.position)

    def set_preview(self, strip_id: int, entries: tuple[Entry, ...] | None) -> None:
        """Moves of a strip as they shall sound meanwhile; None ends it.

        Raises
        ------
        InvalidValue : there is no such strip, or the moves can't be those of one.
        """
        self.strip(strip_id)
        preview = None
        if entries is not None:
            Treatment(entries=entries)
            preview = Preview.of(entries, self._saved.strips[strip_id].treatment)
        if preview is None or preview.empty:
            self._previews.pop(strip_id, None)
        else:
            self._previews[strip_id] = preview
        self._follow()

    def set_only(self, ids: frozenset[int]) -> None:
        """Hear some moves of the focused strip alone: the others are off meanwhile; none: hear all.

        Raises
        ------
        InvalidValue : no strip is in focus, or it has no such move.
        """
        if ids:
            if self.focus is None:
                raise InvalidValue("only", sorted(ids), "choose a track first")
            known = {entry.id for entry in self._heard_treatment(self.focus).entries}
            missing = ids - known
            if missing:
                raise InvalidValue("only", min(missing), "the track has no such move any more")
        self.only = ids
        self._follow()

    def set_focus(self, strip_id: int | None) -> None:
        """The strip that is looked at: it is the one that is heard alone, probed and compared."""
        if strip_id is not None:
            self.strip(strip_id)
        if strip_id != self.focus:
            self._choose(strip_id)
            self._follow()

    def _choose(self, strip_id: int | None) -> None:
        self.focus = strip_id
        self.only = frozenset()
        self.key_of = None
        self._probe = None
        self.match = Match()

    def set_scope(self, scope: Scope, *, placed: bool = False) -> None:
        """The focused strip alone, as it is or (`placed`) through its own fader and groups; or the mix."""
        self.scope, self.placed = scope, placed
        self._follow()

    def set_companions(self, strips: frozenset[int]) -> None:
        """The strips that are heard with the focused one where it is heard alone in its place.

        Raises
        ------
        InvalidValue : one is not in this song.
        """
        for strip_id in strips:
            self.strip(strip_id)
        self.companions = strips
        self._follow()

    def set_signal(self, signal: Signal) -> None:
        """What of the treatment is heard."""
        self.signal = signal
        self._follow()

    def set_bypass(self, on: bool, *, gain_db: float = 0.0) -> None:
        """Hear the song as if no strip had any treatment, turned by a gain; or as it is."""
        self.bypassed, self._bypass_db = on, gain_db if on else 0.0
        self._follow()

    def set_match(self, match: Match) -> None:
        """By how much each side of the comparison is turned."""
        self.match = match
        self._follow()

    def set_probe(self, probe: Probe | None) -> None:
        """Hold, move or release the probe on the focused strip.

        Raises
        ------
        InvalidValue : no strip is in focus.
        """
        if probe is not None and self.focus is None:
            raise InvalidValue("probe", probe.frequency_hz, "choose a track first")
        self._probe = probe
        self._follow()

    def set_key_of(self, move_id: int | None) -> None:
        """Hear what a move of the focused strip listens to, and nothing else; None: as before.

        Raises
        ------
        InvalidValue : no strip is in focus, or it has no such move that listens to something that is there.
        """
        if move_id is not None and (self.focus is None or heard_key(self._changed, self.focus, move_id) is None):
            raise InvalidValue("key", move_id, "there is no such move of this track that listens to a track")
        self.key_of = move_id
        self._follow()

    # --- what follows from it -------------------------------------------------------------------

    def _heard_treatment(self, strip_id: int) -> Treatment:
        saved = self._saved.strips[strip_id].treatment
        preview = self._previews.get(strip_id)
        return saved if preview is None else preview.over(saved)

    def _heard_plan(self) -> Plan:
        plan = self._changed = self._changed_plan()
        self.key_strip = None
        if self.bypassed:
            return plan.bare()
        if self.key_of is None or self.focus is None:
            return plan
        found = heard_key(plan, self.focus, self.key_of)
        if found is None:  # it was deleted, or listens no more
            self.key_of = None
            return plan
        self.key_strip, treatments = found
        return plan.with_treatments(treatments)

    def _changed_plan(self) -> Plan:
        """The song with previews, and with the moves alone that are to be heard."""
        changed = {i: self._heard_treatment(i) for i in self._previews}
        if self.only and self.focus is not None:
            here = self._heard_treatment(self.focus)
            self.only &= {entry.id for entry in here.entries}
            if self.only:
                changed[self.focus] = only(here, self.only)
        return self._saved.with_treatments(changed) if changed else self._saved

    def _follow(self) -> None:
        """Something was changed: let what is heard go there."""
        self.plan = self._heard_plan()
        self._version += 1
        self._changed_at = self._clock
        self._marks.clear()
        route, gain = self._route(), self._output_gains()
        now = self._clock if self._master else None
        self._routes.aim(route, now)
        self._gains.aim(gain, now)
        if self._renderer is None:
            return
        if self.resting:
            self._renderer = self._successor = None
        elif self._successor is not None:
            self._successor = self._begun(self.transport.position)
        else:
            self._go_on_with(self._renderer)

    def _go_on_with(self, renderer: Renderer) -> None:
        """Let the renderer that plays go to the values of now; where it can't, another one takes over."""
        if renderer.fits(self.plan) and renderer.known <= self.known.keys():
            renderer.aim(self.plan)
            self._steer(renderer, glide=True)
        else:
            self._successor = self._begun(self.transport.position)

    @property
    def _alone(self) -> bool:
        """Whether the focused strip is heard alone and as it is, without its fader; or what its move listens to."""
        if self.key_strip is not None:
            return True
        return self.scope is Scope.ALONE and self.focus is not None and not self.placed

    def _strip_alone(self, renderer: Renderer) -> int:
        """Whose sound of a renderer is heard where a strip is heard alone: the focused one's, or that of a key."""
        assert self.focus is not None
        key_strip = self._key_strips.get(renderer)
        return self.focus if key_strip is None else key_strip

    def _route(self) -> list[float]:
        return [0.0, 1.0] if self._alone else [1.0, 0.0]

    def _side_db(self) -> float:
        """By how much the side of the comparison that is heard is turned."""
        if self.key_strip is not None or self.bypassed:
            return 0.0
        if self.signal is Signal.TREATED:
            return self.match.treated_db
        return self.match.untreated_db if self.signal is Signal.UNTREATED else self.match.removed_db

    def _output_gains(self) -> list[float]:
        side, whole = db_to_gain(self._side_db()), db_to_gain(self._bypass_db)
        return [(side if self.focus is None else 1.0) * whole, side * whole]

    def _weights(self) -> dict[int, tuple[float, float]]:
        """How much of treated and untreated is heard of each strip that is compared."""
        weights = {Signal.TREATED: (1.0, 0.0), Signal.UNTREATED: (0.0, 1.0), Signal.REMOVED: (-1.0, 1.0)}[self.signal]
        if self.key_strip is not None:
            return {}
        if self.focus is not None:
            return {self.focus: weights}
        if self.signal is not Signal.REMOVED:
            return dict.fromkeys(self.plan.strips, weights)
        # what is taken away of the tracks; groups and the mix let it through as it is
        tracks = {i for i, strip in self.plan.strips.items() if strip.kind is StripKind.TRACK}
        return {i: weights if i in tracks else (0.0, 1.0) for i in self.plan.strips}

    def _heard_strips(self) -> frozenset[int] | None:
        """The strips that are let into their parents, where it is not as mute and solo say."""
        if self.focus is None:
            return None
        if self.scope is Scope.ALONE and self.placed:
            return self._on_their_ways({self.focus, *self.companions})
        if self.signal is Signal.REMOVED:
            return self._on_their_ways({self.focus}) & self.plan.audible(solos=True)
        return None

    def _on_their_ways(self, strips: set[int]) -> frozenset[int]:
        """Strips with all that runs into them and is not muted there, and the groups that they run through."""
        heard = set(strips)
        for i in strips:
            heard.update(self.plan.above(i))
            heard.update(b for b in self.plan.below(i) if not self.plan.strips[b].mute)
        return frozenset(heard)

    def _steer(self, renderer: Renderer, *, glide: bool) -> None:
        """Let a renderer give what this listener wants to hear."""
        weights = self._weights()
        for i in self.plan.strips:
            if i in renderer.known:
                continue
            treated, untreated = weights.get(i, (1.0, 0.0))
            gain = db_to_gain(self._side_db()) if i == self.focus else 1.0
            insert = self._insert(renderer, glide=glide) if i == self.focus else None
            renderer.listen(i, treated=treated, untreated=untreated, gain=gain, insert=insert, glide=glide)
        renderer.hear_only(self._heard_strips(), glide=glide)
        renderer.want(*self._points(renderer))

    def _insert(self, renderer: Renderer, *, glide: bool) -> ProbeInsert | None:
        before = renderer.insert(self.focus) if self.focus is not None else None
        insert = before if isinstance(before, ProbeInsert) else None
        if self._probe is None and (insert is None or not insert.active):
            return None
        if insert is None:
            channels = self.plan.strips[self.focus].channels  # type: ignore[index]
            insert = ProbeInsert(ProbeStream(self.sample_rate, channels), self.sample_rate)
            if self._renderer is not None and self.focus is not None:
                insert.hear_as(self._renderer.insert(self.focus))
        insert.set_probe(self._probe, on_untreated=self.signal is Signal.UNTREATED, glide=glide)
        return insert

    def _points(self, renderer: Renderer) -> tuple[Point, ...]:
        """What is read of a renderer; one that is about to be taken over may not have all of it."""
        points: list[Point] = []
        share = self._routes.over(self._clock, self._clock + 1)[0]
        if share[0] or self._routes.goal[0]:
            points.append((self.plan.mix, Tap.PLACED))
        if self.focus is not None:
            if share[1] or self._routes.goal[1]:
                points.append((self._strip_alone(renderer), Tap.BEHIND))
            if self.focus not in renderer.known:
                points += [(self.focus, Tap.UNTREATED), (self.focus, Tap.TREATED)]
        return tuple(points)

    # --- transport ------------------------------------------------------------------------------

    def play(self) -> None:
        self.transport.play(resting=self.resting)

    def pause(self) -> None:
        """Stop after a short fade."""
        self.transport.pause()

    def seek(self, frame: int) -> None:
        """Go elsewhere: the next block fades out here, the one after it fades in there."""
        self.transport.seek(frame, resting=self.resting)

    def set_passage(self, passage: Passage | None) -> None:
        """The stretch that is looped; None for the whole song."""
        self.transport.set_passage(passage)
        self._ready = None

    def set_loop(self, on: bool) -> None:
        self.transport.looping = on

    # --- renderers ------------------------------------------------------------------------------

    def _new(self, at: int, *, limit: int | None) -> Renderer:
        renderer = Renderer(
            self.plan, self._sources, at=at, treated=self.known, grid=None, solos=True, longest_warm_up=limit
        )
        self._key_strips[renderer] = self.key_strip
        self._steer(renderer, glide=False)
        return renderer

    def _warm_up_limit(self) -> int:
        computing = max(1, len(self.plan.strips) - len(self.known))
        return round(self.sample_rate * max(LEAST_WARM_UP_S, WARM_UP_STRIP_S / computing))

    def _begun(self, at: int) -> Renderer:
        """A renderer that goes on at a frame: exact where that is to be had in time, else after its memory."""
        limit = self._warm_up_limit()
        marks = [frame for frame in self._marks if at - limit <= frame <= at]
        if marks:
            renderer = self._new(max(marks), limit=0)
            renderer.restore(self._marks[max(marks)])
            if renderer.position < at:
                renderer.render(at - renderer.position)
            return renderer
        renderer = self._new(at, limit=limit)
        renderer.warm_up()
        return renderer

    def _mark(self, renderer: Renderer) -> None:
        """Keep how it stands here, so that a seek into what follows is exact at once."""
        every = round(MARK_EVERY_S * self.sample_rate)
        if renderer.position // every == (renderer.position - BLOCK_FRAMES) // every or not renderer.exact:
            return
        if renderer.memory <= self._warm_up_limit():
            return  # a seek is exact without
        self._marks[renderer.position] = renderer.state()
        while len(self._marks) > MOST_MARKS:
            self._marks.popitem(last=False)

    def _prepare(self) -> None:
        """Get what takes over at the passage's end ready, a little with each block."""
        loop = self.transport.loop
        if loop is None or self._successor is not None:
            return
        left = self._blend(loop) - self.transport.position
        if left < 0:
            return  # behind the passage, or turning already
        ready = self._ready
        if ready is not None and (ready.made_for != self._version or ready.loop != loop):
            ready = self._ready = None
        settled = self._clock - self._changed_at >= SETTLED_S * self.sample_rate
        soon = left <= SOON_S * self.sample_rate
        if ready is None and (settled or soon):
            ready = self._ready = _Ready(self._turned(loop, limit=None), loop, self._version)
        if ready is not None:
            blocks = max(1, left // BLOCK_FRAMES)
            ready.renderer.warm_up(min(32_768, max(2_048, -(-ready.renderer.warming_left // blocks))))

    def _turned(self, loop: Passage, *, limit: int | None) -> Renderer:
        """A renderer that stands where the blend at the passage's end begins in what lies before its start."""
        at = loop.start - self.transport.fade
        if self._kept is not None and self._kept[:2] == (self._version, loop):
            spare = self._spare
            if spare is not None and not (spare.fits(self.plan) and spare.known == frozenset(self.known)):
                spare = None
            renderer = spare or self._new(at, limit=0)
            self._spare = None
            renderer.restore(self._kept[2])
            return renderer
        return self._new(at, limit=limit)

    def _turn(self, piece: Piece) -> Renderer:
        """What is blended in at the passage's end."""
        loop = piece.turn
        assert loop is not None
        ready, limit = self._ready, self._warm_up_limit()
        # none, or one that would not be ready in time
        if ready is None or ready.loop != loop or ready.renderer.warming_left > limit:
            ready = _Ready(self._turned(loop, limit=limit), loop, self._version)
        self._ready = ready
        renderer = ready.renderer
        wanted = loop.start - (loop.stop - piece.start)
        if renderer.position <= loop.start - self.transport.fade:
            renderer.warm_up()
            if renderer.exact and ready.made_for == self._version:
                self._kept = (self._version, loop, renderer.state())
        if renderer.position < wanted:
            renderer.render(wanted - renderer.position)
        return renderer

    def _blend(self, loop: Passage) -> int:
        return loop.stop - self.transport.fade

    # --- rendering ------------------------------------------------------------------------------

    def render(self) -> Block:
        """The next BLOCK_FRAMES frames."""
        transport = self.transport
        if self.resting or not self.end:
            return Block(np.zeros((BLOCK_FRAMES, 2), dtype=np.float32), transport.position, False)
        if self._master == 0.0 and transport.target is not None:
            transport.jump(transport.target)
        position = transport.position
        goal = 1.0 if transport.playing and transport.target is None else 0.0
        out = self._play()
        if goal != self._master:
            out *= (self._master + (goal - self._master) * _RAMP)[:, None]
        self._master = goal
        if goal == 0.0:
            self._ready = None  # it may stand in the middle of a turn
            self._faded_out()
        elif not transport.playing:  # the song has ended
            self._master = 0.0
            self._renderer = self._successor = self._ready = None
        return Block(self.limiter.process(self.monitor.process(out)), position, True)

    def _faded_out(self) -> None:
        if self.transport.target is not None:
            self.transport.jump(self.transport.target)
        if self._renderer is not None and self._renderer.position != self.transport.position:
            self._renderer = self._ready = None

    def _play(self) -> Floats:
        """What is heard of the next block, before the fades of play and pause."""
        renderer = self._renderer
        if renderer is None or renderer.position != self.transport.position:
            self._renderer = self._begun(self.transport.position)
            self._successor = None
        self._prepare()
        out = np.zeros((BLOCK_FRAMES, 2))
        filled = 0
        seen: list[tuple[Floats, Floats]] = []
        for piece in self.transport.take(BLOCK_FRAMES):
            out[filled : filled + piece.count] = self._heard(piece, seen)
            filled += piece.count
            self._clock += piece.count
        self._clock += BLOCK_FRAMES - filled
        if seen:
            self.last_untreated = np.concatenate([x for x, _ in seen])
            self.last_treated = np.concatenate([y for _, y in seen])
        if self._renderer is not None:
            self._mark(self._renderer)
        return out

    def _heard(self, piece: Piece, seen: list[tuple[Floats, Floats]]) -> Floats:
        assert self._renderer is not None
        here = self._routed(self._renderer, piece.count, seen)
        if self._successor is not None and piece.turn is None:
            here = self._taken_over(here, piece.count)
        if piece.turn is None:
            return here
        coming = self._turn(piece)
        there = self._routed(coming, piece.count, None)
        share = self._share(piece)
        mixed = here * (1.0 - share) + there * share
        if piece.stop == piece.turn.stop:
            made_for = self._ready.made_for if self._ready is not None else self._version
            self._spare, self._renderer = self._renderer, coming
            self._ready = self._successor = None
            if made_for != self._version:  # changed while it turned
                self._go_on_with(coming)
        return mixed

    def _share(self, piece: Piece) -> Floats:
        """How much of what comes is heard over a piece of the blend: (n, 1)."""
        assert piece.turn is not None
        fade = self.transport.fade
        at = np.arange(piece.start, piece.stop) - (piece.turn.stop - fade)
        return np.asarray(((at + 0.5) / fade)[:, None])

    def _taken_over(self, here: Floats, count: int) -> Floats:
        """Blend into the renderer that takes over at the same frame."""
        assert self._successor is not None
        successor, self._successor = self._successor, None
        there = self._routed(successor, count, None)
        fade = min(self.transport.fade, count)
        share = np.minimum(1.0, (np.arange(count) + 0.5) / fade)[:, None]
        self._renderer = successor
        self._ready = self._spare = None
        return np.asarray(here * (1.0 - share) + there * share)

    def _routed(self, renderer: Renderer, count: int, seen: list[tuple[Floats, Floats]] | None) -> Floats:
        """What a renderer gives, as the mix or the strip alone: (count, 2)."""
        points = self._points(renderer)
        if renderer.wanted != points:
            renderer.want(*points)
        made = renderer.render(count)
        routes = self._routes.over(self._clock, self._clock + count)
        gains = self._gains.over(self._clock, self._clock + count)
        weights = routes * gains
        mix = made.get((self.plan.mix, Tap.PLACED))
        alone = made.get((self._strip_alone(renderer), Tap.BEHIND)) if self.focus is not None else None
        out = _weighted(mix, weights[:, :1], alone, weights[:, 1:], count)
        if seen is not None and self.focus is not None and (self.focus, Tap.TREATED) in made:
            seen.append((made[self.focus, Tap.UNTREATED], made[self.focus, Tap.TREATED]))
        return out

    # --- meters ---------------------------------------------------------------------------------

    @property
    def probe_held_back_db(self) -> float:
        if self._renderer is None or self.focus is None:
            return 0.0
        insert = self._renderer.insert(self.focus)
        return insert.held_back_db if isinstance(insert, ProbeInsert) else 0.0

    def peaks(self) -> dict[int, float]:
        """Largest sample of each strip in the last block, behind its fader."""
        if self._renderer is None or self.resting:
            return dict.fromkeys(self.plan.strips, 0.0)
        return self._renderer.peaks()

    def moving(self) -> dict[int | str, float]:
        """Gain in dB by which each move of the focused strip moves at present."""
        if self._renderer is None or self.resting or self.focus is None:
            return {}
        return {key: gain for (strip, key), gain in self._renderer.report().items() if strip == self.focus}


def _weighted(mix: Floats | None, of_mix: Floats, alone: Floats | None, of_alone: Floats, count: int) -> Floats:
    """The mix and a strip alone, each by its weights (1 or count, 1): (count, 2), not to be changed."""
    if mix is not None and alone is None and len(of_mix) == 1 and of_mix[0, 0] == 1.0:
        return mix
    out = np.zeros((count, 2))
    if mix is not None:
        out += mix * of_mix
    if alone is not None:
        out += alone * of_alone
    return out


def _end(sources: Mapping[int, Samples]) -> int:
    return max((int(samples.shape[0]) for samples in sources.values()), default=0)
