"""What is heard: scopes, signals, loops, seeks, without clicks."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import signal

from mivlo.core.graph import treat
from mivlo.core.loudness import gated_loudness
from mivlo.core.moves import Move, StaticMove, Shape
from mivlo.core.probe import Probe
from mivlo.core.units import Floats
from mivlo.live.engine import BLOCK_FRAMES, Engine, EngineTrack, pan_gains
from mivlo.live.matching import match_of
from mivlo.live.modes import Passage, Scope, Signal

RATE = 48_000
CUT = StaticMove(Shape.BELL, 412.0, q=2.0, gain_db=-9.0)


def _tone(hz: float, seconds: float = 4.0, level: float = 0.2, channels: int = 1) -> Floats:
    t = np.arange(int(seconds * RATE)) / RATE
    return np.tile(level * np.sin(2 * np.pi * hz * t)[:, None], (1, channels))


def _engine(*samples: Floats, moves: tuple[Move, ...] = (), **values: object) -> Engine:
    tracks = [
        EngineTrack(i, x.astype(np.float32), keys=tuple(str(k) for k in range(len(moves))), moves=moves, **values)  # type: ignore[arg-type]
        for i, x in enumerate(samples)
    ]
    return Engine(RATE, tracks)


def _alone(*samples: Floats, moves: tuple[Move, ...] = ()) -> Engine:
    engine = _engine(*samples, moves=moves)
    engine.set_focus(0)
    engine.scope = Scope.ALONE
    return engine


def _hear(engine: Engine, blocks: int) -> Floats:
    return np.concatenate([engine.render().samples for _ in range(blocks)]).astype(np.float64)


def _click_db(heard: Floats, above_hz: float = 6_000.0) -> float:
    """Loudest sample far above the tones that play: a click reaches up there, a fade does not."""
    sos = signal.butter(8, above_hz, "highpass", fs=RATE, output="sos")
    far = signal.sosfilt(sos, heard, axis=0)[2_000:]  # without the filter's own beginning
    return float(20 * np.log10(np.max(np.abs(far)) + 1e-12))


def test_alone_and_untreated_plays_the_samples_themselves() -> None:
    x = np.random.default_rng(0).standard_normal((RATE, 1)) * 0.1
    engine = _alone(x, moves=(CUT,))
    engine.signal = Signal.UNTREATED
    engine.play()
    engine.render()
    heard = _hear(engine, 10)
    wanted = x[BLOCK_FRAMES : 11 * BLOCK_FRAMES].astype(np.float32)
    assert np.array_equal(heard.astype(np.float32), np.tile(wanted, (1, 2)))


def test_removed_only_is_what_treated_lacks() -> None:
    x = np.random.default_rng(0).standard_normal((RATE, 2)) * 0.05
    heard = {}
    for which in Signal:
        engine = _alone(x, moves=(CUT,))
        engine.signal = which
        engine.play()
        engine.render()
        heard[which] = _hear(engine, 20)
    difference = heard[Signal.UNTREATED] - heard[Signal.TREATED] - heard[Signal.REMOVED]
    assert np.max(np.abs(heard[Signal.REMOVED])) > 0.01
    assert np.max(np.abs(difference)) < 1e-6


def test_the_passage_loops_without_a_gap_or_a_click() -> None:
    # the passage holds no whole number of periods: a plain jump would click
    engine = _alone(_tone(440.0))
    engine.set_passage(Passage(24_000, 24_000 + 10_007))
    engine.seek(24_000)
    engine.play()
    heard = _hear(engine, 100)
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


def test_the_whole_song_loops_too_or_ends() -> None:
    engine = _alone(_tone(440.0, 0.5))
    engine.play()
    _hear(engine, 60)
    assert engine.playing
    engine.looping = False
    engine.set_passage(None)
    _hear(engine, 60)
    assert not engine.playing


@pytest.mark.parametrize("change", ["signal", "scope", "pause", "seek", "move", "audition", "fader", "probe"])
def test_no_switch_clicks(change: str) -> None:
    engine = _engine(_tone(440.0), _tone(150.0), moves=(CUT, StaticMove(Shape.BELL, 300.0, q=1.0, gain_db=6.0)))
    engine.set_focus(0)
    engine.set_passage(Passage(0, RATE * 4))
    engine.play()
    heard = [_hear(engine, 40)]
    if change == "signal":
        engine.signal = Signal.UNTREATED
    elif change == "scope":
        engine.scope = Scope.ALONE
    elif change == "pause":
        engine.pause()
    elif change == "seek":
        engine.seek(100_003)
    elif change == "move":
        engine.set_moves(0, ("0",), (StaticMove(Shape.BELL, 500.0, q=4.0, gain_db=6.0),))
    elif change == "audition":
        engine.set_audition("1")
    elif change == "fader":
        engine.set_tracks([EngineTrack(t.id, t.samples, fader_db=-12.0, mute=t.id == 1) for t in engine.tracks])
    else:
        engine.set_probe(Probe(440.0))
    heard.append(_hear(engine, 40))
    # the probe is held to its margin within a sample, which is heard a little
    bound = -60 if change == "probe" else -70
    assert _click_db(np.concatenate(heard)[BLOCK_FRAMES:]) < bound


def test_switching_keeps_the_place() -> None:
    engine = _alone(_tone(440.0), _tone(150.0), moves=(CUT,))
    engine.play()
    for step in range(30):
        engine.signal = list(Signal)[step % 3]
        engine.scope = list(Scope)[step % 2]
        assert engine.render().position == step * BLOCK_FRAMES


def test_solo_mute_fader_and_pan_make_the_mix() -> None:
    x = _tone(440.0)
    engine = _engine(x, x)
    engine.play()
    engine.render()
    both = np.max(np.abs(_hear(engine, 20)))
    # constant power: -3 dB in the middle; two of the same sum to +3 dB
    assert both == pytest.approx(0.2 * 2 * np.sqrt(0.5), rel=0.01)
    tracks = engine.tracks
    tracks[0].solo = True
    tracks[0].fader_db, tracks[0].pan = -6.0206, -1.0
    engine.set_tracks(tracks)
    engine.render()
    left, right = np.max(np.abs(_hear(engine, 20)), axis=0)
    assert left == pytest.approx(0.1, rel=0.01)
    assert right < 1e-6
    tracks[0].mute = True
    engine.render()
    assert np.max(np.abs(_hear(engine, 5))) < 1e-6


def test_pan_keeps_the_power_of_mono_and_balances_stereo() -> None:
    for pan in np.linspace(-1, 1, 9):
        left, right = pan_gains(float(pan), 1)
        assert left**2 + right**2 == pytest.approx(1.0)
    assert pan_gains(0.0, 2) == (1.0, 1.0)
    assert pan_gains(0.5, 2) == (0.5, 1.0)


def test_hearing_one_move_alone_switches_the_others_off() -> None:
    x = np.random.default_rng(1).standard_normal((RATE * 2, 1)) * 0.1
    moves = (CUT, StaticMove(Shape.LOW_CUT, 500.0, slope_db_per_octave=24, enabled=False))
    engine = _alone(x, moves=moves)
    engine.set_audition("1")
    engine.play()
    engine.render()
    heard = _hear(engine, 40)[:, :1]
    only = treat(x, [StaticMove(Shape.LOW_CUT, 500.0, slope_db_per_octave=24)], sample_rate=RATE)
    assert np.max(np.abs(heard - only[BLOCK_FRAMES : 41 * BLOCK_FRAMES])) < 1e-5
    engine.set_audition(None)
    assert engine.heard_moves(engine.tracks[0]) == list(moves)


def test_the_level_match_makes_both_equally_loud() -> None:
    x = np.random.default_rng(2).standard_normal((RATE * 4, 1)) * 0.05
    boost = (StaticMove(Shape.HIGH_SHELF, 1_000.0, gain_db=9.0),)
    engine = _alone(x, moves=boost)
    passage = Passage(0, RATE * 4)
    engine.match_db = match_of(engine.tracks, 0, Scope.ALONE, passage, RATE)
    assert engine.match_db < -3
    loudness = {}
    for which in (Signal.TREATED, Signal.UNTREATED):
        engine.signal = which
        engine.seek(0)
        engine.play()
        engine.render()
        loudness[which] = gated_loudness(_hear(engine, 300), sample_rate=RATE)
    assert loudness[Signal.TREATED] == pytest.approx(loudness[Signal.UNTREATED], abs=0.1)


def test_in_the_mix_the_match_is_that_of_the_mix() -> None:
    x = np.random.default_rng(2).standard_normal((RATE * 2, 1)) * 0.05
    engine = _engine(x, x[::-1] * 3, moves=(StaticMove(Shape.HIGH_SHELF, 1_000.0, gain_db=9.0),))
    engine.tracks[1].moves, engine.tracks[1].keys = (), ()
    alone = match_of(engine.tracks, 0, Scope.ALONE, Passage(0, RATE * 2), RATE)
    mixed = match_of(engine.tracks, 0, Scope.MIX, Passage(0, RATE * 2), RATE)
    assert alone < mixed < -0.1


def test_the_probe_is_heard_on_treated_and_untreated_and_ends() -> None:
    x = np.random.default_rng(3).standard_normal((RATE * 4, 1)) * 0.02
    for which in (Signal.TREATED, Signal.UNTREATED):
        engine = _alone(x, moves=(CUT,))
        engine.signal = which
        engine.play()
        _hear(engine, 20)
        engine.set_probe(Probe(3_000.0, 0.2, 24.0, margin_db=24.0))
        _hear(engine, 10)
        probed = _hear(engine, 60)
        sos = signal.butter(4, (2_800, 3_200), "bandpass", fs=RATE, output="sos")
        engine.set_probe(None)
        _hear(engine, 40)
        after = _hear(engine, 60)
        rise = np.std(signal.sosfilt(sos, probed[:, 0])) / np.std(signal.sosfilt(sos, after[:, 0]))
        assert rise > 3


def test_play_begins_in_the_passage_unless_the_playhead_was_placed() -> None:
    engine = _alone(_tone(440.0))
    engine.set_passage(Passage(48_000, 96_000))
    engine.play()
    assert engine.position == 48_000
    engine.pause()
    _hear(engine, 2)
    engine.seek(1_000)
    engine.play()
    assert engine.render().position == 1_000


def test_an_empty_song_plays_nothing() -> None:
    engine = Engine(RATE, [])
    engine.play()
    assert not engine.playing
    assert np.max(np.abs(engine.render().samples)) == 0


def test_nothing_heard_is_above_full_scale() -> None:
    engine = _engine(*(_tone(100.0 * k, level=0.9) for k in range(1, 6)))
    engine.play()
    assert np.max(np.abs(_hear(engine, 50))) <= 1.0
    assert engine.limiter.held_back_db < -3
