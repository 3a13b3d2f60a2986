"""What is heard: comparisons, the probe, the match, the mixer; without clicks."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from mivlo.core.errors import InvalidValue
from mivlo.core.graph import Strip, compile, pan_gains, treat
from mivlo.core.loudness import gated_loudness
from mivlo.core.moves import Entry, Shape, StaticMove, Treatment
from mivlo.core.probe import Probe
from mivlo.core.units import Floats, db_to_gain
from mivlo.live.engine import BLOCK_FRAMES, Engine
from mivlo.live.matching import Compared, measure
from mivlo.live.modes import Match, Passage, Scope, Signal
from tests.live.listening import hear

RATE = 48_000
CUT = StaticMove(Shape.BELL, 412.0, q=2.0, gain_db=-9.0)
BOOST = StaticMove(Shape.HIGH_SHELF, 1_000.0, gain_db=9.0)


def _tone(hz: float, seconds: float = 4.0, level: float = 0.2, channels: int = 1) -> Floats:
    t = np.arange(int(seconds * RATE)) / RATE
    return np.tile(level * np.sin(2 * np.pi * hz * t)[:, None], (1, channels))


def _strip(i: int, x: Floats, moves: Sequence[StaticMove], on: Sequence[bool] | None = None) -> Strip:
    entries = tuple(Entry(id=k, move=m, enabled=on is None or on[k]) for k, m in enumerate(moves))
    return Strip(id=i, channels=1 if x.shape[1] == 1 else 2, treatment=Treatment(entries=entries))


def _engine(*sounds: Floats, moves: Sequence[StaticMove] = (), on: Sequence[bool] | None = None) -> Engine:
    strips = [_strip(i, x, moves, on) for i, x in enumerate(sounds)]
    return Engine(compile(strips, sample_rate=RATE), {i: x.astype(np.float32) for i, x in enumerate(sounds)})


def _alone(*sounds: Floats, moves: Sequence[StaticMove] = (), on: Sequence[bool] | None = None) -> Engine:
    engine = _engine(*sounds, moves=moves, on=on)
    engine.set_focus(0)
    engine.set_scope(Scope.ALONE)
    return engine


def _save(engine: Engine, **changes: dict[int, dict[str, object]]) -> None:
    strips = [replace(s, **changes["strips"].get(i, {})) for i, s in engine.plan.strips.items()]  # type: ignore[arg-type]
    engine.set_song(compile(strips, sample_rate=RATE), engine.sources, {})


def _click_db(heard: Floats, above_hz: float = 6_000.0) -> float:
    """Loudest sample far above the tones that play: a click reaches up there, a fade does not."""
    sos = signal.butter(8, above_hz, "highpass", fs=RATE, output="sos")
    far = signal.sosfilt(sos, heard, axis=0)[2_000:]  # without the filter's own beginning
    return float(20 * np.log10(np.max(np.abs(far)) + 1e-12))


def test_alone_and_untreated_plays_the_samples_themselves() -> None:
    x = np.random.default_rng(0).standard_normal((RATE, 1)) * 0.1
    engine = _alone(x, moves=(CUT,))
    engine.set_signal(Signal.UNTREATED)
    engine.play()
    engine.render()
    heard = hear(engine, 10)
    wanted = x[BLOCK_FRAMES : 11 * BLOCK_FRAMES].astype(np.float32)
    assert np.array_equal(heard.astype(np.float32), np.tile(wanted, (1, 2)))


def test_removed_only_is_what_treated_lacks() -> None:
    x = np.random.default_rng(0).standard_normal((RATE, 2)) * 0.05
    heard = {}
    for which in Signal:
        engine = _alone(x, moves=(CUT,))
        engine.set_signal(which)
        engine.play()
        engine.render()
        heard[which] = hear(engine, 20)
    difference = heard[Signal.UNTREATED] - heard[Signal.TREATED] - heard[Signal.REMOVED]
    assert np.max(np.abs(heard[Signal.REMOVED])) > 0.01
    assert np.max(np.abs(difference)) < 1e-6


def test_the_passage_loops_without_a_gap_or_a_click() -> None:
    # the passage holds no whole number of periods: a plain jump would click
    engine = _alone(_tone(440.0))
    engine.set_passage(Passage(24_000, 24_000 + 10_007))
    engine.seek(24_000)
    engine.play()
    heard = hear(engine, 100)
    assert 24_000 <= engine.position < 34_007
    inside = heard[BLOCK_FRAMES:]
    level = np.sqrt(np.convolve(inside[:, 0] ** 2, np.ones(480) / 480, "valid"))
    assert level.min() > 0.2 / np.sqrt(2) * 0.6
    assert _click_db(inside) < -72


def test_a_jump_without_the_loops_fade_would_click() -> None:
    # the measure itself: the same loop, cut hard
    x = _tone(440.0)
    hard = np.tile(x[24_000 : 24_000 + 10_007], (5, 2))
    assert _click_db(hard) > -50


CHANGES = ["signal", "scope", "placed", "pause", "seek", "move", "only", "fader", "probe", "channels", "focus"]


@pytest.mark.parametrize("change", CHANGES)
def test_no_switch_clicks(change: str) -> None:
    engine = _engine(_tone(440.0), _tone(150.0), moves=(CUT, StaticMove(Shape.BELL, 300.0, q=1.0, gain_db=6.0)))
    engine.set_focus(0)
    engine.set_passage(Passage(0, RATE * 4))
    engine.play()
    heard = [hear(engine, 40)]
    entries = engine.strip(0).treatment.entries
    match change:
        case "signal":
            engine.set_signal(Signal.UNTREATED)
        case "scope":
            engine.set_scope(Scope.ALONE)
        case "placed":
            engine.set_scope(Scope.ALONE, placed=True)
        case "pause":
            engine.pause()
        case "seek":
            engine.seek(100_003)
        case "move":
            engine.set_preview(0, (replace(entries[0], move=StaticMove(Shape.BELL, 500.0, q=4.0, gain_db=6.0)),))
        case "only":
            engine.set_only(frozenset({1}))
        case "fader":
            _save(engine, strips={0: {"fader_db": -12.0}, 1: {"mute": True}})
        case "channels":  # what can't glide is taken over by a second renderer
            engine.set_preview(0, (replace(entries[0], stretches=((0.0, 0.1),)), entries[1]))
        case "focus":
            engine.set_focus(1)
        case "probe":
            engine.set_probe(Probe(440.0))
    heard.append(hear(engine, 40))
    # the probe is held to its margin within a sample, which is heard a little
    bound = -60 if change == "probe" else -70
    assert _click_db(np.concatenate(heard)[BLOCK_FRAMES:]) < bound


def test_switching_keeps_the_place() -> None:
    engine = _alone(_tone(440.0), _tone(150.0), moves=(CUT,))
    engine.play()
    for step in range(30):
        engine.set_signal(list(Signal)[step % 3])
        engine.set_scope(list(Scope)[step % 2], placed=step % 4 > 1)
        assert engine.render().position == step * BLOCK_FRAMES


def test_solo_mute_fader_and_pan_make_the_mix() -> None:
    x = _tone(440.0)
    engine = _engine(x, x)
    engine.play()
    engine.render()
    # constant power: -3 dB in the middle; two of the same sum to +3 dB
    assert np.max(np.abs(hear(engine, 20))) == pytest.approx(0.2 * 2 * np.sqrt(0.5), rel=0.01)
    _save(engine, strips={0: {"solo": True, "fader_db": -6.0206, "pan": -1.0}})
    hear(engine, 3)
    left, right = np.max(np.abs(hear(engine, 20)), axis=0)
    assert left == pytest.approx(0.1, rel=0.01)
    assert right < 1e-6
    _save(engine, strips={0: {"mute": True}})
    hear(engine, 3)
    assert np.max(np.abs(hear(engine, 5))) < 1e-6


def test_alone_plays_as_it_is_or_at_its_own_fader() -> None:
    engine = _alone(_tone(440.0), _tone(150.0))
    _save(engine, strips={0: {"fader_db": -12.0, "mute": True}})
    engine.play()
    engine.render()
    assert np.max(np.abs(hear(engine, 10))) == pytest.approx(0.2, rel=0.01)
    engine.set_scope(Scope.ALONE, placed=True)
    hear(engine, 3)
    # a muted strip is heard when it is asked for alone
    assert np.max(np.abs(hear(engine, 10))) == pytest.approx(0.2 * np.sqrt(0.5) * db_to_gain(-12.0), rel=0.01)


def test_pan_keeps_the_power_of_mono_and_balances_stereo() -> None:
    for pan in np.linspace(-1, 1, 9):
        left, right = pan_gains(float(pan), 1)
        assert left**2 + right**2 == pytest.approx(1.0)
    assert pan_gains(0.0, 2) == (1.0, 1.0)
    assert pan_gains(0.5, 2) == (0.5, 1.0)


def test_hearing_one_move_alone_switches_the_others_off() -> None:
    x = np.random.default_rng(1).standard_normal((RATE * 2, 1)) * 0.1
    cut = StaticMove(Shape.LOW_CUT, 500.0, slope_db_per_octave=24)
    engine = _alone(x, moves=(CUT, cut), on=(True, False))
    engine.set_only(frozenset({1}))
    engine.play()
    engine.render()
    heard = hear(engine, 40)[:, :1]
    only = treat(x, [cut], sample_rate=RATE)
    assert np.max(np.abs(heard - only[BLOCK_FRAMES : 41 * BLOCK_FRAMES])) < 1e-5
    engine.set_only(frozenset())
    assert [e.enabled for e in engine.strip(0).treatment.entries] == [True, False]


def _compared(engine: Engine, passage: Passage, focus: int | None = 0) -> Compared:
    return Compared(engine.plan, engine.sources, {}, focus, engine.scope, engine.placed, passage)


def test_the_level_match_makes_both_equally_loud() -> None:
    x = np.random.default_rng(2).standard_normal((RATE * 4, 1)) * 0.05
    engine = _alone(x, moves=(BOOST,))
    lufs, match = measure(_compared(engine, Passage(0, RATE * 4)))
    assert lufs < -3
    assert (match.treated_db, match.untreated_db) == (lufs, 0.0)
    engine.set_match(match)
    loudness = {}
    for which in (Signal.TREATED, Signal.UNTREATED):
        engine.set_signal(which)
        engine.seek(0)
        engine.play()
        hear(engine, 3)
        loudness[which] = gated_loudness(hear(engine, 300), sample_rate=RATE)
    assert loudness[Signal.TREATED] == pytest.approx(loudness[Signal.UNTREATED], abs=0.1)


def test_in_the_mix_the_match_stands_on_the_strip_alone() -> None:
    x = np.random.default_rng(2).standard_normal((RATE * 2, 1)) * 0.05
    strips = [_strip(0, x, (BOOST,)), _strip(1, x, ())]
    engine = Engine(compile(strips, sample_rate=RATE), {0: x.astype(np.float32), 1: (x[::-1] * 3).astype(np.float32)})
    engine.set_focus(0)
    lufs, match = measure(_compared(engine, Passage(0, RATE * 2)))
    engine.set_scope(Scope.ALONE)
    assert measure(_compared(engine, Passage(0, RATE * 2))) == (lufs, match)
    engine.set_scope(Scope.MIX)
    engine.set_match(match)
    engine.play()
    hear(engine, 1)
    heard = hear(engine, 40)
    pan = np.sqrt(0.5)
    other = (x[::-1] * 3)[BLOCK_FRAMES : 41 * BLOCK_FRAMES] * pan
    own = treat(x, [BOOST], sample_rate=RATE)[BLOCK_FRAMES : 41 * BLOCK_FRAMES] * pan * db_to_gain(lufs)
    assert np.max(np.abs(heard - np.tile(other + own, (1, 2)))) < 2e-6


def test_without_a_focus_the_whole_mix_is_matched() -> None:
    x = np.random.default_rng(2).standard_normal((RATE * 2, 1)) * 0.05
    engine = _engine(x, x[::-1], moves=(BOOST,))
    lufs, match = measure(_compared(engine, Passage(0, RATE * 2), None))
    assert lufs < -3
    assert match.treated_db == lufs


def test_where_turning_up_would_reach_the_limiter_the_louder_side_is_turned_down() -> None:
    x = np.random.default_rng(2).standard_normal((RATE * 2, 1)) * 0.2
    engine = _alone(x, moves=(StaticMove(Shape.HIGH_SHELF, 1_000.0, gain_db=-12.0),))
    lufs, match = measure(_compared(engine, Passage(0, RATE * 2)))
    assert lufs > 3
    assert (match.treated_db, match.untreated_db) == (0.0, -lufs)
    engine.set_match(match)
    engine.set_signal(Signal.UNTREATED)
    engine.play()
    engine.render()
    heard = hear(engine, 20)[:, :1]
    assert np.max(np.abs(heard - x[BLOCK_FRAMES : 21 * BLOCK_FRAMES] * db_to_gain(-lufs))) < 1e-6
    assert engine.limiter.held_back_db == 0.0


def test_silence_is_not_matched() -> None:
    engine = _alone(np.zeros((RATE, 1)), moves=(CUT,))
    assert measure(_compared(engine, Passage(0, RATE))) == (0.0, Match())


def test_the_probe_is_heard_on_treated_and_untreated_and_ends() -> None:
    x = np.random.default_rng(3).standard_normal((RATE * 4, 1)) * 0.02
    for which in (Signal.TREATED, Signal.UNTREATED):
        engine = _alone(x, moves=(CUT,))
        engine.set_signal(which)
        engine.play()
        hear(engine, 20)
        engine.set_probe(Probe(3_000.0, 0.2, 24.0, margin_db=24.0))
        hear(engine, 10)
        probed = hear(engine, 60)
        sos = signal.butter(4, (2_800, 3_200), "bandpass", fs=RATE, output="sos")
        engine.set_probe(None)
        hear(engine, 40)
        after = hear(engine, 60)
        rise = np.std(signal.sosfilt(sos, probed[:, 0])) / np.std(signal.sosfilt(sos, after[:, 0]))
        assert rise > 3


def test_the_probe_goes_on_ringing_over_the_loops_turn() -> None:
    engine = _alone(_tone(1_000.0, level=0.02))
    engine.set_passage(Passage(48_000, 48_000 + 9_600))  # whole periods
    engine.play()
    engine.set_probe(Probe(1_000.0, 0.05, 18.0, margin_db=24.0))
    hear(engine, 60)  # over three turns
    heard = hear(engine, 60)
    level = np.sqrt(np.convolve(heard[:, 0] ** 2, np.ones(480) / 480, "valid"))
    assert level.min() > 0.8 * level.max()  # it does not begin anew at each turn


def test_a_probe_needs_a_track() -> None:
    engine = _engine(_tone(440.0))
    with pytest.raises(InvalidValue, match="choose a track first"):
        engine.set_probe(Probe(440.0))


def test_play_begins_in_the_passage_unless_the_playhead_was_placed() -> None:
    engine = _alone(_tone(440.0))
    engine.set_passage(Passage(48_000, 96_000))
    engine.play()
    assert engine.position == 48_000
    engine.pause()
    hear(engine, 2)
    engine.seek(1_000)
    engine.play()
    assert engine.render().position == 1_000


def test_an_empty_song_plays_nothing() -> None:
    engine = Engine(compile([], sample_rate=RATE), {})
    engine.play()
    assert not engine.playing
    assert np.max(np.abs(engine.render().samples)) == 0


def test_nothing_heard_is_above_full_scale() -> None:
    engine = _engine(*(_tone(100.0 * k, level=0.9) for k in range(1, 6)))
    engine.play()
    assert np.max(np.abs(hear(engine, 50))) <= 1.0
    assert engine.limiter.held_back_db < -3


@given(st.floats(-24.0, 12.0), st.floats(60.0, 12_000.0), st.floats(0.3, 20.0), st.floats(0.001, 0.9))
@settings(max_examples=25)
def test_what_is_removed_is_lifted_but_never_above_untreated_nor_into_the_limiter(
    gain_db: float, hz: float, q: float, level: float
) -> None:
    x = np.random.default_rng(3).standard_normal((RATE, 1)) * level / 5.0
    engine = _alone(x, moves=(StaticMove(Shape.BELL, hz, q=q, gain_db=gain_db),))
    _, match = measure(_compared(engine, Passage(0, RATE)))
    assert 0.0 <= match.removed_db <= 24.0
    engine.set_match(match)
    engine.set_signal(Signal.REMOVED)
    engine.set_loop(False)
    engine.play()
    heard = hear(engine, RATE // BLOCK_FRAMES)
    removed = x - treat(x, [StaticMove(Shape.BELL, hz, q=q, gain_db=gain_db)], sample_rate=RATE)
    if np.max(np.abs(removed)) > db_to_gain(-0.5):  # a boost of a loud sound: over the ceiling without any lift
        assert match.removed_db == 0.0
        return
    assert engine.limiter.held_back_db == 0.0
    assert (
        np.max(np.abs(heard[BLOCK_FRAMES:, :1] - (removed * db_to_gain(match.removed_db))[BLOCK_FRAMES : len(heard)]))
        < 1e-5
    )
    loudness = gated_loudness(removed * db_to_gain(match.removed_db), sample_rate=RATE)
    if match.removed_db:
        assert loudness <= gated_loudness(x, sample_rate=RATE) + 0.1
        assert np.max(np.abs(removed)) * db_to_gain(match.removed_db) < db_to_gain(-0.5)
