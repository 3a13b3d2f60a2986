"""Dynamic moves against their definition: static curve, times, detector, key, look-ahead, stability."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from mivlo.core.moves import DynamicMove, Key, KeyShape, Shape, StaticMove, move_sections
from mivlo.core.processors import DynamicProcessor, StaticProcessor, Step
from mivlo.core.processors.dynamic_kernel import CELL
from mivlo.core.processors.listening import band_sections, rise_s
from mivlo.core.processors.moving import moving_table
from mivlo.core.units import Floats

RATE = 48_000


def _sine(hz: float, db: float | Floats, seconds: float = 2.0) -> Floats:
    t = np.arange(round(seconds * RATE)) / RATE
    return np.asarray((10.0 ** (np.asarray(db) / 20.0) * np.sin(2 * np.pi * hz * t))[:, None])


def _through(move: DynamicMove, x: Floats, keys: dict[int, Floats] | None = None, *, block: int = 4096) -> Floats:
    processor = DynamicProcessor(RATE, x.shape[1], [Step(1, move)])
    parts = [
        processor.process(x[i : i + block], {k: v[i : i + block] for k, v in (keys or {}).items()})
        for i in range(0, len(x), block)
    ]
    return np.concatenate(parts)


def _gain_trace(move: DynamicMove, x: Floats) -> Floats:
    """Gain in dB at the start of every cell."""
    rows = DynamicProcessor(RATE, x.shape[1], [Step(1, move)]).trace(x)[0]
    return np.asarray(rows[:, 0, 1])


def _amplitude(x: Floats, hz: float) -> float:
    t = np.arange(len(x)) / RATE
    return float(2.0 * abs(np.exp(-2j * np.pi * hz * t) @ x[:, 0]) / len(x))


# --- level and static curve ---------------------------------------------------------------------------


@pytest.mark.parametrize("detector", ["rms", "peak"])
@pytest.mark.parametrize("ratio", [1.5, 4.0, 100.0])
@pytest.mark.parametrize("acts", ["above", "below"])
def test_the_static_curve_is_the_definition(detector: str, ratio: float, acts: str) -> None:
    # target = min((1 - 1/ratio) excess, |range|), quadratic knee centred on the threshold, before the limit
    threshold, knee, range_db = -30.0, 8.0, -15.0
    move = DynamicMove(
        Shape.BELL, 1_000.0, threshold, range_db, q=2.0, ratio=ratio, knee_db=knee, acts=acts, detector=detector
    )
    for level in (-50.0, -36.0, -33.0, -30.0, -27.0, -20.0, -3.0):
        excess = level - threshold if acts == "above" else threshold - level
        if abs(excess) < knee / 2:
            excess = (excess + knee / 2) ** 2 / (2 * knee)
        wanted = -min((1 - 1 / ratio) * max(excess, 0.0), -range_db)
        out = _through(move, _sine(1_000.0, level))[RATE:]
        assert 20 * math.log10(_amplitude(out, 1_000.0)) - level == pytest.approx(wanted, abs=0.1)


@pytest.mark.parametrize("shape", [Shape.BELL, Shape.LOW_SHELF, Shape.HIGH_SHELF])
@pytest.mark.parametrize("gain", [-18.0, -0.05, 6.0])
def test_at_rest_it_is_the_static_move_of_its_static_part(shape: Shape, gain: float) -> None:
    x = np.random.default_rng(0).standard_normal((6_000, 2)) * 0.1
    static = StaticProcessor(RATE, 2, [Step(1, StaticMove(shape, 9_000.0, gain_db=gain, q=1.3))]).process(x)
    move = DynamicMove(shape, 9_000.0, 24.0, -6.0, gain_db=gain, q=1.3)
    assert np.max(np.abs(_through(move, x) - static)) < 1e-4


def test_the_whole_gain_is_the_sum_of_both_parts_in_db() -> None:
    move = DynamicMove(Shape.BELL, 500.0, -60.0, -8.0, gain_db=3.0, q=1.0, ratio=100.0, release_ms=1_000.0)
    x = _sine(500.0, -12.0)
    assert 20 * math.log10(_amplitude(_through(move, x)[RATE:], 500.0)) + 12.0 == pytest.approx(-5.0, abs=0.05)


def test_a_band_that_is_turned_is_x_plus_its_share_of_the_band() -> None:
    move = DynamicMove(Shape.BAND_PASS, 800.0, -80.0, -9.0, q=3.0, ratio=100.0, attack_ms=0.1, release_ms=5_000.0)
    x = np.random.default_rng(1).standard_normal((2 * RATE, 1)) * 0.2
    band = signal.sosfilt(move_sections(StaticMove(Shape.BAND_PASS, 800.0, q=3.0), sample_rate=RATE), x, axis=0)
    wanted = x + (10 ** (-9.0 / 20) - 1) * band
    assert np.max(np.abs(_through(move, x)[RATE:] - wanted[RATE:])) < 1e-3


@pytest.mark.parametrize("detector", ["rms", "peak"])
@pytest.mark.parametrize("hz", [100.0, 331.0, 1_000.0, 5_000.0])
def test_a_steady_tone_is_not_distorted(detector: str, hz: float) -> None:
    move = DynamicMove(
        Shape.BELL, hz, -20.0, -24.0, q=2.0, ratio=4.0, attack_ms=10.0, release_ms=100.0, detector=detector
    )
    out = _through(move, _sine(hz, -8.0))[RATE:]
    harmonics = [_amplitude(out, k * hz) for k in range(2, 9) if k * hz < RATE / 2]
    assert math.sqrt(sum(a * a for a in harmonics)) / _amplitude(out, hz) < 0.003


# --- times --------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("attack", "release", "hold"), [(10.0, 120.0, 0.0), (1.0, 50.0, 30.0), (50.0, 300.0, 200.0)])
def test_attack_release_and_hold_are_what_they_say(attack: float, release: float, hold: float) -> None:
    level = np.full(3 * RATE, -70.0)
    level[RATE // 2 : 2 * RATE] = -10.0
    move = DynamicMove(Shape.BELL, 2_000.0, -30.0, -24.0, q=1.0, attack_ms=attack, release_ms=release, hold_ms=hold)
    gain = -_gain_trace(move, _sine(2_000.0, level, 3.0))
    times = np.arange(len(gain)) * CELL / RATE
    full = gain[times < 2.0][-1]
    assert full == pytest.approx(10.0, abs=0.05)
    share = 1 - math.exp(-1)
    rise = times[np.argmax(gain > share * full)] - 0.5
    fall = times[np.argmax((times > 2.0) & (gain < (1 - share) * full))] - 2.0
    slack = rise_s(move) + 0.0012  # the band's own rise, and the average of the level
    assert attack / 1e3 - 0.0005 < rise < attack / 1e3 + slack
    assert (hold + 0.97 * release) / 1e3 - 0.001 < fall < (hold + release) / 1e3 + 0.03 * release / 1e3 + 4 * slack


def test_with_look_ahead_a_burst_is_down_before_it_starts() -> None:
    level = np.full(RATE, -100.0)
    level[RATE // 2 :] = -6.0
    x = _sine(1_000.0, level, 1.0)
    static = StaticProcessor(RATE, 1, [Step(1, StaticMove(Shape.BELL, 1_000.0, gain_db=-12.0, q=1.0))]).process(x)
    first = slice(RATE // 2, RATE // 2 + 48)  # the first period
    whole = np.max(np.abs(x[first])) - np.max(np.abs(static[first]))
    for ahead, least, most in ((0.0, 0.0, 0.2), (20.0, 0.98, 1.02)):
        move = DynamicMove(Shape.BELL, 1_000.0, -40.0, -12.0, q=1.0, ratio=100.0, attack_ms=2.0, lookahead_ms=ahead)
        processor = DynamicProcessor(RATE, 1, [Step(1, move)])
        assert processor.latency == round(ahead * RATE / 1e3)
        out = processor.process(np.concatenate([x, np.zeros((processor.latency, 1))]))[processor.latency :]
        down = np.max(np.abs(x[first])) - np.max(np.abs(out[first]))
        assert least <= down / whole <= most  # of what a bell takes that is down already


# --- keys ---------------------------------------------------------------------------------------------


def test_nothing_changes_while_another_tracks_key_is_silent() -> None:
    x = np.random.default_rng(2).standard_normal((RATE, 2)) * 0.3
    move = DynamicMove(Shape.BELL, 400.0, -60.0, -12.0, key=Key(source=7))
    for keys in ({}, {7: np.zeros((RATE, 1))}):
        assert 20 * np.log10(np.max(np.abs(_through(move, x, keys) - x)) + 1e-15) < -100.0
    loud = np.random.default_rng(3).standard_normal((RATE, 1)) * 0.3
    assert np.max(np.abs(_through(move, x, {7: loud}) - x)) > 0.01


@pytest.mark.parametrize(
    ("shape", "hz", "q", "centre", "slope"),
    [
        (KeyShape.BAND, 1_000.0, 2.0, 1_000.0, None),
        (Shape.LOW_SHELF, 800.0, 1.0, 200.0, 12.0),
        (Shape.HIGH_SHELF, 800.0, 1.0, 3_200.0, -12.0),
        (KeyShape.LOW, 500.0, 1.0, 125.0, 24.0),
        (KeyShape.HIGH, 500.0, 1.0, 2_000.0, -24.0),
    ],
)
def test_a_keys_band_has_unit_gain_at_its_centre_and_the_slopes_it_says(
    shape: KeyShape | Shape, hz: float, q: float, centre: float, slope: float | None
) -> None:
    sections, found = band_sections(shape, hz, q, float(RATE))
    sos = np.insert(sections, 3, 1.0, axis=1)
    assert found == centre
    level = lambda at: 20 * np.log10(abs(signal.sosfreqz(sos, [at], fs=RATE)[1][0]))  # noqa: E731
    assert level(centre) == pytest.approx(0.0, abs=1e-6)
    if slope is None:
        assert level(hz * 2 ** (1 / 2)) == pytest.approx(-10 * math.log10(1 + (q * (2**0.5 - 2**-0.5)) ** 2), abs=0.1)
    else:
        far = hz * 8 if slope > 0 else hz / 8
        further = far * 2 if slope > 0 else far / 2
        assert level(far) - level(further) == pytest.approx(abs(slope), abs=0.6)


def test_a_threshold_of_the_strip_treats_verse_and_chorus_alike() -> None:
    t = np.arange(2 * RATE) / RATE
    x = 0.1 * (np.sin(2 * np.pi * 300 * t) + np.sin(2 * np.pi * 3_000 * t))[:, None]
    move = DynamicMove(Shape.BELL, 3_000.0, -12.0, -6.0, q=1.0, threshold_of="strip")
    soft, loud = (_gain_trace(move, g * x)[-1] for g in (0.05, 3.0))
    assert soft == pytest.approx(loud, abs=0.02)
    assert -5.0 < loud < -3.5  # the band is 3 dB under all, 9 over the threshold; half of it at 2:1
    assert np.max(np.abs(_gain_trace(move, np.zeros((RATE, 1))))) == 0.0


def test_stereo_link_goes_from_each_for_itself_to_the_louder_one() -> None:
    x = np.concatenate([_sine(1_000.0, -10.0), _sine(1_000.0, -30.0)], axis=1)
    for link, quiet in ((0.0, 5.0), (1.0, 15.0), (0.5, 10.0)):
        move = DynamicMove(Shape.BELL, 1_000.0, -40.0, -30.0, q=1.0, stereo_link=link)
        rows = DynamicProcessor(RATE, 2, [Step(1, move)]).trace(x)[0]
        assert -rows[-1, 0, 1] == pytest.approx(15.0, abs=0.05)
        assert -rows[-1, 1, 1] == pytest.approx(quiet, abs=0.05)


# --- stability and streams ----------------------------------------------------------------------------


@settings(max_examples=30)
@given(
    st.sampled_from([Shape.BELL, Shape.LOW_SHELF, Shape.HIGH_SHELF, Shape.BAND_PASS]),
    st.floats(20.0, 23_000.0), st.floats(0.1, 100.0), st.floats(-30.0, 30.0), st.floats(-36.0, 36.0),
    st.integers(0, 2**32 - 1),
)  # fmt: skip
def test_however_its_gain_moves_the_energy_of_its_memory_does_not_grow(
    shape: Shape, hz: float, q: float, gain: float, range_db: float, seed: int
) -> None:
    # the map of a step must not stretch any state, also straight between two places of the table
    table = moving_table(DynamicMove(shape, hz, 0.0, range_db, gain_db=gain, q=q), float(RATE))
    assert np.isfinite(table).all()
    random = np.random.default_rng(seed)
    i, j = random.integers(0, len(table), (2, 50))
    t = random.uniform(0.0, 1.0, (50, 1))
    a, b, c = (table[i] + t * (table[j] - table[i]))[:, :3].T
    steps = np.moveaxis(np.array([[a, -b], [b, 1 - c]]), 2, 0)
    assert np.max(np.linalg.norm(steps, ord=2, axis=(1, 2))) <= 1.0 + 1e-9


@settings(max_examples=20)
@given(st.lists(st.integers(1, 3_000), min_size=1, max_size=30), st.sampled_from([0.0, 3.0]), st.booleans())
def test_blocks_of_any_size_give_the_same(sizes: list[int], ahead: float, stereo: bool) -> None:
    count = sum(sizes)
    x = np.random.default_rng(4).standard_normal((count, 2 if stereo else 1)) * 0.3
    key = np.random.default_rng(5).standard_normal((count, 2)) * 0.3
    move = DynamicMove(
        Shape.BELL, 900.0, -40.0, -9.0, key=Key(source=3, frequency_hz=200.0, shape=KeyShape.LOW), lookahead_ms=ahead
    )
    whole = _through(move, x, {3: key}, block=count)
    processor = DynamicProcessor(RATE, x.shape[1], [Step(1, move)])
    parts, at = [], 0
    for size in sizes:
        parts.append(processor.process(x[at : at + size], {3: key[at : at + size]}))
        at += size
        processor.restore(processor.state())
    assert np.array_equal(np.concatenate(parts), whole)


_MOVES = st.builds(
    DynamicMove,
    st.sampled_from([Shape.BELL, Shape.LOW_SHELF, Shape.HIGH_SHELF, Shape.BAND_PASS]),
    st.floats(60.0, 18_000.0),
    st.floats(-60.0, -10.0),
    st.floats(-18.0, 12.0),
    gain_db=st.floats(-6.0, 6.0),
    q=st.floats(0.3, 12.0),
    ratio=st.floats(1.1, 50.0),
    knee_db=st.sampled_from([0.0, 6.0]),
    attack_ms=st.floats(0.1, 50.0),
    release_ms=st.floats(5.0, 200.0),
    hold_ms=st.sampled_from([0.0, 7.0]),
    acts=st.sampled_from(["above", "below"]),
    detector=st.sampled_from(["rms", "peak"]),
    stereo_link=st.sampled_from([0.0, 0.4, 1.0]),
    key=st.sampled_from(
        [Key(), Key(source=3), Key(source=5, frequency_hz=300.0), Key(frequency_hz=900.0, shape=KeyShape.HIGH)]
    ),
    threshold_of=st.sampled_from(["full_scale", "strip"]),
)


@given(st.lists(_MOVES, min_size=1, max_size=9), st.integers(1, 900), st.integers(0, 40), st.booleans())
@settings(max_examples=60)
def test_moves_at_work_together_do_what_they_do_one_behind_the_other(
    moves: list[DynamicMove], count: int, before: int, stereo: bool
) -> None:
    random = np.random.default_rng(count)
    x, key = (random.standard_normal((before + 2 * count, 2 if stereo else 1)) * 0.2 for _ in range(2))
    keys = {3: key, 5: np.roll(key, 100, axis=0)}
    steps = [Step(i, move) for i, move in enumerate(moves)]
    changed = [Step(i, replace(move, gain_db=move.gain_db - 1.0)) if i % 2 else Step(i, move, False) for i, move in
               enumerate(moves)]  # fmt: skip

    def through(processor: DynamicProcessor, steps: list[Step], y: Floats) -> Floats:
        cuts = (slice(0, before), slice(before, before + count), slice(before + count, None))
        out = []
        for part, values in zip(cuts, ([], [], steps), strict=True):
            if values:
                processor.aim(values)
            out.append(processor.process(y[part], {k: v[part] for k, v in keys.items()}))
        return np.concatenate(out)

    together = through(DynamicProcessor(RATE, x.shape[1], steps), changed, x)
    one_by_one = x
    for step, other in zip(steps, changed, strict=True):
        one_by_one = through(DynamicProcessor(RATE, x.shape[1], [step]), [other], one_by_one)
    assert np.array_equal(together, one_by_one)


@given(st.lists(_MOVES, min_size=1, max_size=5), st.integers(1, 2_000), st.booleans())
@settings(max_examples=40)
def test_a_processor_without_wide_vectors_gives_the_same(moves: list[DynamicMove], count: int, stereo: bool) -> None:
    x = np.random.default_rng(count).standard_normal((count, 2 if stereo else 1)) * 0.2
    steps = [Step(i, replace(move, key=Key())) for i, move in enumerate(moves)]
    wide = DynamicProcessor(RATE, x.shape[1], steps)
    plain = DynamicProcessor(RATE, x.shape[1], steps)
    plain.wide = False
    assert np.allclose(plain.process(x), wide.process(x), rtol=0.0, atol=1e-9)


def test_one_channel_comes_to_rest_while_the_other_rests() -> None:
    # unlinked, with another move at work before it, whose coefficients must not be taken for those of rest
    x = np.zeros((24_000, 2))
    x[:8_000, 1] = _sine(1_000.0, -6.0, 8_000 / RATE)[:, 0]
    busy = DynamicMove(Shape.BELL, 500.0, -120.0, -9.0, gain_db=-6.0, acts="above")
    move = DynamicMove(Shape.BELL, 1_000.0, -40.0, -12.0, stereo_link=0.0, release_ms=5.0, q=2.0)
    x += np.random.default_rng(1).standard_normal(x.shape) * 1e-5
    together = DynamicProcessor(RATE, 2, [Step(0, busy), Step(1, move)]).process(x)
    assert np.array_equal(together, _through(move, _through(busy, x)))


def test_a_changed_value_glides() -> None:
    x = _sine(100.0, -6.0, 0.5)
    one = DynamicMove(Shape.BELL, 2_000.0, 0.0, -12.0, gain_db=-12.0, q=1.0)
    other = DynamicMove(Shape.BELL, 150.0, 0.0, -12.0, gain_db=12.0, q=1.0)
    processor = DynamicProcessor(RATE, 1, [Step(1, one)])
    out = [processor.process(x[:8_000])]
    processor.aim([Step(1, other)])
    assert processor.gliding
    out.append(processor.process(x[8_000:]))
    assert not processor.gliding
    bend = np.abs(np.diff(np.concatenate(out)[:, 0], 2))[2_000:]
    assert np.max(bend) < 4.0 * np.max(bend[-5_000:])  # no click: the bends where cells meet are all there is
    processor.aim([Step(1, other, enabled=False)], glide=False)
    assert np.array_equal(processor.process(x), x)
