"""The rules of listening as properties: whatever is asked in whatever order, what is heard is what is exported."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from mivlo.core.errors import InvalidValue, MivloError
from mivlo.core.graph import Tap, TreatedSound, compile, treat
from mivlo.core.moves import DynamicMove, Entry, Key, KeyShape, Shape, StaticMove, Treatment
from mivlo.core.probe import Probe, ProbeMode
from mivlo.live.engine import BLOCK_FRAMES, Engine
from mivlo.live.modes import Match, Passage, Scope, Signal
from tests.live.listening import (
    GROUP,
    INAUDIBLE,
    LISTENING,
    MIX,
    Playhead,
    bell,
    file_of,
    hear,
    named,
    song,
    sounds,
    strips,
    treated_of,
    treatment,
)

RATES = (8_000, 11_025, 48_000)

_commands = st.one_of(
    st.tuples(st.just("play")),
    st.tuples(st.just("play")),
    st.tuples(st.just("pause")),
    st.tuples(st.just("seek"), st.integers(0, 20_000)),
    st.tuples(st.just("passage"), st.none() | st.tuples(st.integers(0, 15_000), st.integers(160, 6_000))),
    st.tuples(st.just("passage"), st.tuples(st.integers(0, 20).map(lambda n: n * BLOCK_FRAMES), st.integers(2, 8).map(lambda n: n * BLOCK_FRAMES))),
    st.tuples(st.just("loop"), st.booleans()),
    st.tuples(st.just("focus"), st.sampled_from([None, 1, 2, 3, GROUP, MIX])),
    st.tuples(st.just("scope"), st.sampled_from(list(Scope)), st.booleans()),
    st.tuples(st.just("companions"), st.frozensets(st.sampled_from([1, 2, 3, 8, 77]), max_size=3)),
    st.tuples(st.just("signal"), st.sampled_from(list(Signal))),
    st.tuples(st.just("preview"), st.sampled_from([1, 2, GROUP]), st.none() | st.floats(-12, 12)),
    st.tuples(st.just("only"), st.sampled_from([1, 2, 77])),
    st.tuples(st.just("key"), st.sampled_from([None, 1, 2, 77])),
    st.tuples(st.just("save"), st.sampled_from([1, 2, 3]), st.floats(-12, 12)),
    st.tuples(st.just("listens"), st.sampled_from([1, 2, 3, GROUP]), st.integers(0, len(LISTENING) - 1)),
    st.tuples(st.just("listens"), st.sampled_from([1, 2, 3, GROUP]), st.integers(0, len(LISTENING) - 1)),
    st.tuples(st.just("mute"), st.sampled_from([1, 2, 3, GROUP]), st.booleans()),
    st.tuples(st.just("route"), st.sampled_from([1, 2, 3]), st.sampled_from([None, GROUP])),
    st.tuples(st.just("probe"), st.none() | st.tuples(st.floats(40.0, 3_500.0), st.floats(0.05, 2.0), st.sampled_from(list(ProbeMode)))),
    st.tuples(st.just("probe"), st.none()),
    st.tuples(st.just("match"), st.sampled_from([0.0, 0.0, -3.0, 4.0])),
    st.tuples(st.just("bypass"), st.booleans()),
    st.tuples(st.just("monitor"), st.booleans(), st.booleans()),
    st.tuples(st.just("forget")),
    st.tuples(st.just("wait"), st.integers(1, 60)),
    st.tuples(st.just("wait"), st.integers(10, 60)),
)  # fmt: skip


class Listener:
    """An engine, what it should do, and a check of every block."""

    def __init__(self, rate: int, frames: int, *, cached: bool = False) -> None:
        self.saved = {s.id: s for s in named(strips(), frames)}
        self.engine = song(rate, frames)
        self.cached = cached
        if cached:
            self.engine.set_treated(treated_of(self.engine.plan, self.engine.sources))
        self.head = Playhead(rate, self.engine.end)
        self.quiet_since = 0
        self.pending: int | None = None
        self.compared = 0

    def save(self) -> None:
        plan = compile(self.saved.values(), sample_rate=self.engine.sample_rate)
        known = treated_of(plan, self.engine.sources) if self.cached else {}
        self.engine.set_song(plan, self.engine.sources, known)

    def do(self, name: str, *values: Any) -> None:
        engine = self.engine
        changes = True
        match name, values:
            case "play", ():
                engine.play()
                changes = False
            case "pause", ():
                engine.pause()
                changes = False
            case "seek", (at,):
                engine.seek(at)
                changes = False
            case "passage", (None,):
                engine.set_passage(None)
                changes = False
            case "passage", ((start, length),):
                engine.set_passage(Passage(start, start + length))
                changes = False
            case "loop", (on,):
                engine.set_loop(on)
                changes = False
            case "focus", (strip,):
                engine.set_focus(strip)
            case "scope", (scope, placed):
                engine.set_scope(scope, placed=placed)
            case "companions", (strips,):
                engine.set_companions(strips)
            case "signal", (signal,):
                engine.set_signal(signal)
            case "preview", (strip, None):
                engine.set_preview(strip, None)
            case "preview", (strip, gain):
                saved = self.saved[strip].treatment.entries
                engine.set_preview(strip, (replace(saved[0], move=bell(gain)), Entry(id=50, move=bell(-gain, 3_000.0))))
            case "probe", (None,):
                engine.set_probe(None)
            case "probe", ((hz, octaves, mode),):
                engine.set_probe(Probe(hz, octaves=octaves, mode=mode))
            case "match", (gain,):
                engine.set_match(Match(treated_db=gain, removed_db=max(0.0, gain)))
            case "bypass", (on,):
                engine.set_bypass(on)
            case "monitor", (mono, dim):
                engine.monitor.set(mono=mono, dim=dim)
            case "only", (move,):
                engine.set_only(frozenset({move}))
            case "key", (move,):
                engine.set_key_of(move)
            case "save", (strip, gain):
                self.saved[strip] = replace(self.saved[strip], treatment=treatment(bell(gain), bell(2.0, 2_500.0)))
                self.save()
            case "listens", (strip, number):
                self.saved[strip] = replace(self.saved[strip], treatment=LISTENING[number])
                self.save()
            case "forget", ():  # the cache was tidied, or a sound was made meanwhile
                engine.set_treated({} if engine.known else treated_of(engine._saved, engine.sources))
            case "mute", (strip, on):
                self.saved[strip] = replace(self.saved[strip], mute=on)
                self.save()
            case "route", (strip, parent):
                self.saved[strip] = replace(self.saved[strip], parent=parent)
                self.save()
        if changes:
            self.quiet_since = 0

    def block(self) -> None:
        engine, head = self.engine, self.head
        if engine.resting:
            block = engine.render()
            assert not block.playing
            assert not block.samples.any()
            head.position = engine.position
            head.turning = None
            return
        before = engine._master
        if before == 0.0:
            head.position, head.turning = (
                engine.transport.target if engine.transport.target is not None else engine.position,
                None,
            )
        target = engine.transport.target if before else None
        steady = before == 1.0 and engine.playing and target is None
        block = engine.render()
        assert block.position == head.position
        frames, blended, _ = head.block(engine.passage, engine.transport.looping)
        if target is not None:
            head.position, head.turning = target, None
        assert engine.position == head.position
        self.quiet_since += 1
        # a change glides over about 20 ms, and its old values are forgotten after the plan's memory: `exact`
        settled = self.quiet_since * BLOCK_FRAMES > 0.06 * engine.sample_rate + 2 * BLOCK_FRAMES
        plain = engine.probe is None and engine.match == Match() and engine.limiter.held_back_db == 0.0
        if not (steady and settled and engine.exact and plain):
            return
        wanted = np.zeros((BLOCK_FRAMES, 2))
        wanted[: len(frames)] = file_of(engine)[frames]
        if engine.monitor.mono:
            wanted = np.mean(wanted, axis=1, keepdims=True) * np.ones((1, 2))
        if engine.monitor.dim:
            wanted *= 0.1
        kept = np.ones(BLOCK_FRAMES, dtype=bool)
        kept[: len(blended)] = ~np.array(blended, dtype=bool)
        difference = np.max(np.abs(block.samples - wanted)[kept], initial=0.0)
        assert difference < INAUDIBLE, (difference, block.position, engine.scope, engine.signal, engine.focus)
        self.compared += 1


@given(
    rate=st.sampled_from(RATES),
    phase=st.integers(0, BLOCK_FRAMES),
    story=st.lists(_commands, min_size=3, max_size=14),
    cached=st.booleans(),
)
# a known sound that is steered by a strip whose moves are tried out meanwhile is another sound
@example(rate=8_000, phase=0, story=[("play",), ("preview", 1, 0.0), ("listens", 2, 1)], cached=True)
# what a filter of linear phase has read ahead is read here, too, once the untreated is heard
@example(rate=8_000, phase=0, story=[("play",), ("listens", 8, 6), ("signal", Signal.UNTREATED)], cached=False)
# a seek that is asked for while the song's last block plays is carried out
@example(rate=8_000, phase=0, story=[("play",), ("wait", 37), ("passage", (0, 1_024)), ("seek", 1)], cached=False)
# a group that is heard alone in its place leaves out what is muted in it
@example(rate=8_000, phase=0, story=[("focus", GROUP), ("scope", Scope.ALONE, True), ("mute", 2, True)], cached=False)
@settings(max_examples=80)
def test_every_block_is_what_an_export_holds_there(
    rate: int, phase: int, story: list[tuple[Any, ...]], cached: bool
) -> None:
    listener = Listener(rate, 20_000 + phase, cached=cached)
    listener.do("play")
    for name, *values in story:
        if name == "wait":
            for _ in range(values[0]):
                listener.block()
            continue
        before = (listener.engine.position, listener.engine.passage, listener.engine.plan)
        try:
            listener.do(name, *values)
        except MivloError:  # what is impossible changes nothing
            assert (listener.engine.position, listener.engine.passage, listener.engine.plan) == before
        listener.block()
    for _ in range(12):
        listener.block()


def test_the_check_of_every_block_does_compare() -> None:
    listener = Listener(8_000, 20_000)
    listener.do("play")
    for _ in range(60):
        listener.block()
    assert listener.compared > 40
    listener.engine.set_preview(1, (Entry(id=50, move=bell(-0.5)),))
    listener.engine.render = _spoiled(listener.engine.render)  # type: ignore[method-assign]
    with pytest.raises(AssertionError):
        _listen(listener, 60)


def _listen(listener: Listener, blocks: int) -> None:
    for _ in range(blocks):
        listener.block()


def _spoiled(render: Any) -> Any:
    def spoiled() -> Any:
        block = render()
        block.samples[100] += 1e-5
        return block

    return spoiled


@given(
    rate=st.sampled_from(RATES),
    start=st.integers(0, 9_000),
    length=st.integers(160, 5_000) | st.integers(1, 9).map(lambda n: n * BLOCK_FRAMES),
    at=st.integers(0, 9_000),
)
@settings(max_examples=50)
def test_a_loop_never_leaves_its_passage_and_has_exactly_its_period(
    rate: int, start: int, length: int, at: int
) -> None:
    engine = song(rate, 20_000)
    passage = Passage(start, start + length)
    if length < round(0.02 * rate):
        with pytest.raises(InvalidValue, match=r"it must last 0\.02 s"):
            engine.set_passage(passage)
        return
    engine.set_passage(passage)
    engine.seek(start + at % length)
    engine.play()
    hear(engine, 1)
    passes = []
    for _ in range(3 * length // BLOCK_FRAMES + 4):
        assert passage.start <= engine.position < passage.stop
        passes.append(engine.render().samples)
    heard = np.concatenate(passes)
    # one pass sounds as the one before, blend and all: nothing drifts
    late = heard[length : len(heard) // length * length]
    if len(late) >= length:
        assert np.max(np.abs(late[-length:] - heard[len(late) - length : len(late)])) < INAUDIBLE


@pytest.mark.parametrize("seconds", [1.0, 2.0])
def test_a_passage_of_whole_seconds_keeps_looping(seconds: float) -> None:
    # 1 s at 48 kHz is 93.75 blocks, 2 s are 187.5: a block ends exactly on the stop now and then
    engine = song(48_000, 200_000)
    engine.set_passage(Passage(48_000, 48_000 + int(seconds * 48_000)))
    engine.play()
    outside = 0
    for _ in range(469):
        engine.render()
        outside += not 48_000 <= engine.position < 48_000 + seconds * 48_000
    assert outside == 0


def test_the_start_of_every_pass_is_what_the_export_holds_there() -> None:
    engine = song(8_000, 20_000)
    file = file_of(engine)
    start, length = 3_001, 2_345
    engine.set_passage(Passage(start, start + length))
    engine.play()
    heard = hear(engine, 40)
    fade = round(0.005 * 8_000)
    for turn in range(1, 7):
        at = turn * length
        assert np.max(np.abs(heard[at : at + length - fade] - file[start : start + length - fade])) < INAUDIBLE
        into = heard[at - fade : at]
        lead, tail = file[start - fade : start], file[start + length - fade : start + length]
        share = ((np.arange(fade) + 0.5) / fade)[:, None]
        assert np.max(np.abs(into - (tail * (1 - share) + lead * share))) < INAUDIBLE


def test_at_the_songs_start_silence_fades_in() -> None:
    engine = song(8_000, 20_000)
    file = file_of(engine)
    engine.set_passage(Passage(0, 1_000))
    engine.play()
    heard = hear(engine, 6)
    share = ((np.arange(40) + 0.5) / 40)[:, None]
    assert np.max(np.abs(heard[960:1_000] - file[960:1_000] * (1 - share))) < INAUDIBLE


@given(st.lists(st.sampled_from(["play", "pause", "seek"]), min_size=1, max_size=8), st.integers(0, 10))
@settings(max_examples=40)
def test_the_last_seek_wins_whatever_play_or_pause_comes_with_it(order: list[str], blocks_before: int) -> None:
    engine = song(8_000, 20_000)
    engine.play()
    hear(engine, blocks_before + 1)
    engine.play()
    last = None
    for i, name in enumerate(order):
        if name == "seek":
            last = 500 + 1_000 * i
            engine.seek(last)
        else:
            getattr(engine, name)()
    engine.play()
    positions = [engine.render().position for _ in range(3)]
    if last is not None:
        assert last in positions


def test_with_loop_off_the_song_plays_to_its_end_and_stops() -> None:
    engine = song(8_000, 20_000)
    engine.set_passage(Passage(2_000, 6_000))
    engine.set_loop(False)
    engine.seek(1_000)
    engine.play()
    positions = []
    while engine.playing:
        positions.append(engine.render().position)
    assert positions == [1_000 + BLOCK_FRAMES * i for i in range(len(positions))]
    assert positions[-1] > 20_000 - BLOCK_FRAMES - 1
    assert engine.resting


def test_previews_outlive_other_news_and_end_when_their_owner_says_so() -> None:
    engine = song(8_000, 20_000)
    saved = {s.id: s for s in named(strips(), 20_000)}
    mine = (
        replace(saved[1].treatment.entries[0], move=bell(-11.0)),
        saved[1].treatment.entries[1],
        Entry(id=50, move=bell(1.0)),
    )
    engine.set_preview(1, mine)
    saved[2] = replace(saved[2], treatment=treatment(bell(5.0)))
    saved[1] = replace(
        saved[1], treatment=Treatment(entries=(*saved[1].treatment.entries, Entry(id=9, move=bell(2.0, 99.0))))
    )
    engine.set_song(compile(saved.values(), sample_rate=8_000), engine.sources, {})
    heard = engine.strip(1).treatment.entries
    # what somebody else added is heard as well; what was dragged here stays dragged
    assert [e.id for e in heard] == [1, 2, 9, 50]
    assert heard[0].move.gain_db == -11.0
    engine.set_focus(2)  # another strip: the preview stays on the one it was made on
    assert engine.strip(1).treatment.entries == heard
    engine.set_preview(1, None)
    assert engine.strip(1).treatment == saved[1].treatment


def test_a_preview_that_is_the_saved_state_is_none() -> None:
    engine = song(8_000, 20_000)
    engine.set_preview(1, strips()[0].treatment.entries)
    saved = [replace(s, treatment=treatment(bell(7.0))) if s.id == 1 else s for s in named(strips(), 20_000)]
    engine.set_song(compile(saved, sample_rate=8_000), engine.sources, {})
    assert engine.strip(1).treatment == saved[0].treatment


def test_when_the_only_move_disappears_all_are_heard_again() -> None:
    engine = song(8_000, 20_000)
    engine.set_focus(1)
    engine.set_only(frozenset({2}))
    assert [e.enabled for e in engine.strip(1).treatment.entries] == [False, True]
    saved = [replace(s, treatment=treatment(bell(7.0))) if s.id == 1 else s for s in named(strips(), 20_000)]
    engine.set_song(compile(saved, sample_rate=8_000), engine.sources, {})
    assert engine.only == frozenset()
    assert [e.enabled for e in engine.strip(1).treatment.entries] == [True]


def test_a_seek_into_a_plan_with_a_long_memory_says_that_it_is_not_exact_and_when_it_is() -> None:
    rate = 8_000
    deep = [
        replace(s, treatment=treatment(bell(20.0, 20.0, 60.0))) if s.id == 1 else s for s in named(strips(), 20_000)
    ]
    engine = Engine(compile(deep, sample_rate=rate), sounds(60 * rate))
    engine.seek(40 * rate)
    engine.play()
    engine.render()
    assert not engine.exact
    while not engine.exact:
        engine.render()
    # Q 60 with 20 dB at 20 Hz: the poles' quality is Q A, A = 10^(20/40); twice its ring time of 2.2 Q A / f
    reach = 2 * 2.2 * 60 * 10**0.5 / 20
    assert engine.position / rate - 40 < reach
    at = engine.position
    assert np.max(np.abs(engine.render().samples - file_of(engine)[at : at + BLOCK_FRAMES])) < INAUDIBLE


def test_a_seek_near_to_what_was_played_is_exact_at_once_whatever_the_memory() -> None:
    rate = 8_000
    deep = [
        replace(s, treatment=treatment(bell(20.0, 20.0, 60.0))) if s.id == 1 else s for s in named(strips(), 20_000)
    ]
    engine = Engine(compile(deep, sample_rate=rate), sounds(60 * rate))
    engine.play()
    while engine.position < 31 * rate:
        engine.render()
    engine.seek(20 * rate + 1_111)
    engine.render()
    engine.render()
    assert engine.exact
    at = engine.position
    assert np.max(np.abs(engine.render().samples - file_of(engine)[at : at + BLOCK_FRAMES])) < INAUDIBLE


@pytest.mark.parametrize(
    ("key", "source"),
    [(Key(source=2), 2), (Key(source=2, frequency_hz=400.0, q=3.0, shape=KeyShape.BAND), 2), (Key(), 1)],
)
def test_what_a_move_listens_to_is_heard_as_it_reads_it(key: Key, source: int) -> None:
    # against the tap that moves listen to, behind the band that the move reads
    engine = song(8_000, 20_000)
    first = StaticMove(Shape.BELL, 900.0, q=1.0, gain_db=-9.0)
    move = DynamicMove(Shape.BELL, 700.0, -30.0, -6.0, q=2.0, key=key)
    saved = {s.id: s for s in named(strips(), 20_000)}
    saved[1] = replace(saved[1], treatment=treatment(first, move))
    boost = StaticMove(Shape.BELL, 500.0, gain_db=6.0)
    saved[2] = replace(saved[2], fader_db=-20.0, mute=True, treatment=treatment(boost))
    plan = compile(list(saved.values()), sample_rate=8_000)
    engine.set_song(plan, engine.sources, {})
    engine.set_focus(1)
    engine.set_key_of(2)
    assert engine.key_strip == source
    engine.play()
    heard = np.concatenate([engine.render().samples for _ in range(12)])
    if source == 1:  # what reaches the move: behind the one before it
        x = treat(engine.sources[1][0 : engine.end], [first], sample_rate=8_000)
    else:
        x = TreatedSound(plan, engine.sources, (2, Tap.KEY), engine.end)[0 : engine.end]
    band = StaticMove(Shape.BAND_PASS, key.frequency_hz or 700.0, q=key.q or 2.0)
    wanted = treat(x, [band], sample_rate=8_000)[BLOCK_FRAMES : len(heard)]
    assert np.max(np.abs(wanted)) > 0.001
    assert np.max(np.abs(heard[BLOCK_FRAMES:] - wanted)) < INAUDIBLE
    engine.set_key_of(None)
    assert engine.key_strip is None


def test_a_key_is_heard_of_a_move_that_listens_only() -> None:
    engine = song(8_000, 20_000)
    engine.set_focus(1)
    for move in (1, 99):
        with pytest.raises(InvalidValue, match="no such move"):
            engine.set_key_of(move)
    engine.set_focus(None)
    with pytest.raises(InvalidValue):
        engine.set_key_of(1)
