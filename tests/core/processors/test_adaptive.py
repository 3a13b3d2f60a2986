"""The adaptive cut: it gives back what it leaves alone, spares tones under a smooth envelope, and finds what stands out."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivlo.core.moves import AdaptiveMove, Key, Shape, StaticMove
from mivlo.core.processors import AdaptiveProcessor, StaticProcessor, Step
from mivlo.core.processors.adaptive import window_frames
from mivlo.core.units import Floats

RATE = 48_000
START = AdaptiveMove(200.0, 12_000.0, release_ms=80.0)


def _through(move: AdaptiveMove, x: Floats, keys: dict[int, Floats] | None = None) -> Floats:
    """Aligned with the input."""
    processor = AdaptiveProcessor(RATE, x.shape[1], [Step(1, move)])
    late = processor.latency
    longer = {k: np.concatenate([v, np.zeros((late, v.shape[1]))]) for k, v in (keys or {}).items()}
    return processor.process(np.concatenate([x, np.zeros((late, x.shape[1]))]), longer)[late:]


@cache
def _glide(seconds: float = 4.0) -> Floats:
    """A voice of 200 partials that glides from 90 to 400 Hz under a smooth envelope with two humps."""
    t = np.arange(round(seconds * RATE)) / RATE
    f0 = 90.0 * (400.0 / 90.0) ** (t / seconds)
    phase = 2 * np.pi * np.cumsum(f0) / RATE
    x = np.zeros_like(t)
    for k in range(1, 200):
        f, octave = k * f0, np.log2(k * f0)
        humps = [a * np.exp(-(((octave - np.log2(at)) / 0.5) ** 2)) for a, at in ((12.0, 700.0), (10.0, 2_500.0))]
        x += 10 ** ((-6 * np.log2(f / 100) + sum(humps)) / 20) * (f < 18_000) * np.sin(k * phase + k * k)
    return np.asarray((x / np.max(np.abs(x)) * 0.5)[:, None])


@cache
def _chord(seconds: float = 3.0) -> Floats:
    t = np.arange(round(seconds * RATE)) / RATE
    notes = [(f, k) for f in (130.8, 164.8, 196.0, 261.6) for k in range(1, 60) if k * f < 18_000]
    x = sum(np.sin(2 * np.pi * k * f * t + k * k * f) / k for f, k in notes)
    return np.asarray((x / np.max(np.abs(x)) * 0.5)[:, None])


def _noise(seed: int = 0, channels: int = 1, seconds: float = 3.0) -> Floats:
    return np.random.default_rng(seed).standard_normal((round(seconds * RATE), channels)) * 0.1


def _thirds(x: Floats) -> Floats:
    """Level of each third octave in dB, 125 Hz to 12.5 kHz."""
    power, hz = np.abs(np.fft.rfft(x[:, 0])) ** 2, np.fft.rfftfreq(len(x), 1 / RATE)
    centres = 1_000.0 * 2.0 ** (np.arange(-9, 12) / 3)
    bands = [(hz >= c * 2 ** (-1 / 6)) & (hz < c * 2 ** (1 / 6)) for c in centres]
    return np.array([10 * np.log10(np.sum(power[b])) for b in bands])


@pytest.mark.parametrize("channels", [1, 2])
def test_when_it_takes_nothing_it_gives_back_its_input(channels: int) -> None:
    x = _noise(1, channels)
    for move in (AdaptiveMove(200.0, 12_000.0, share=0.0), AdaptiveMove(200.0, 12_000.0, most_db=0.0)):
        assert 20 * np.log10(np.max(np.abs(_through(move, x) - x))) < -110.0


@pytest.mark.parametrize("play", [_glide, _chord, _noise], ids=["a gliding voice", "a chord", "noise"])
def test_partials_under_a_smooth_envelope_do_not_stand_out(play: Callable[[], Floats]) -> None:
    sound = play()
    assert np.max(np.abs(_thirds(_through(START, sound)) - _thirds(sound))) < 0.5


@pytest.mark.parametrize(("hz", "q"), [(1_000.0, 10.0), (3_000.0, 10.0), (3_000.0, 20.0), (6_000.0, 15.0)])
def test_a_resonance_in_noise_loses_at_least_half_of_what_the_share_asks(hz: float, q: float) -> None:
    x = StaticProcessor(RATE, 1, [Step(1, StaticMove(Shape.BELL, hz, q=q, gain_db=10.0))]).process(_noise())
    y = _through(START, x)
    at = np.fft.rfftfreq(len(x), 1 / RATE)
    centre = np.abs(np.log2(np.maximum(at, 1.0) / hz)) < 0.3 / q
    lost = [np.sum(np.abs(np.fft.rfft(s[:, 0])[centre]) ** 2) for s in (x, y)]
    assert 10 * np.log10(lost[0] / lost[1]) > 0.5 * START.share * 10.0


def _taken_db(x: Floats, hz: float, q: float = 10.0) -> float:
    """By how much a resonance of 10 dB that is planted in x loses of what sounds at its centre, in dB."""
    planted = StaticProcessor(RATE, 1, [Step(1, StaticMove(Shape.BELL, hz, q=q, gain_db=10.0))]).process(x.copy())
    treated = _through(START, planted)
    at = np.fft.rfftfreq(len(x), 1 / RATE)
    centre = np.abs(np.log2(np.maximum(at, 1.0) / hz)) < 0.03
    power = [np.sum(np.abs(np.fft.rfft(s[:, 0])[centre]) ** 2) for s in (planted, treated)]
    return float(10 * np.log10(power[0] / power[1]))


@pytest.mark.parametrize("hz", [500.0, 600.0, 850.0, 1_000.0, 1_200.0, 1_400.0, 1_700.0, 2_500.0, 3_000.0, 5_000.0])
def test_a_resonance_in_a_gliding_voice_loses_at_least_half_of_what_the_share_asks(hz: float) -> None:
    # at 1 kHz and below only few partials pass it, one at a time: each is compared with itself
    assert _taken_db(_glide(), hz) > 0.5 * START.share * 10.0


@pytest.mark.parametrize("hz", [329.6, 392.0, 654.0, 784.0, 980.0, 1_046.4, 1_308.0, 1_820.0, 2_877.6, 3_920.0])
def test_a_resonance_on_partials_of_a_chord_loses_at_least_half_of_what_the_share_asks(hz: float) -> None:
    # partials that lie below the envelope through the others stand out by less than 10 dB, and lose less
    assert _taken_db(_chord(), hz) > 0.5 * START.share * 10.0


def test_it_stays_within_its_range_its_depth_and_its_weights() -> None:
    moves = [StaticMove(Shape.BELL, f, q=12.0, gain_db=18.0) for f in (1_000.0, 4_000.0)]
    x = StaticProcessor(RATE, 1, [Step(i, m) for i, m in enumerate(moves)]).process(_noise())

    def deepest(move: AdaptiveMove, hz: float) -> float:
        grid, gains = AdaptiveProcessor(RATE, 1, [Step(1, move)]).trace(x)
        near = np.abs(np.log2(grid / hz)) < 0.1
        return float(np.median(np.min(gains[50:, near], axis=1)))

    assert deepest(AdaptiveMove(2_000.0, 8_000.0, share=1.0, most_db=-36.0), 1_000.0) == 0.0
    full = deepest(AdaptiveMove(500.0, 8_000.0, share=1.0, most_db=-36.0), 4_000.0)
    assert full < -9.0
    assert deepest(AdaptiveMove(500.0, 8_000.0, share=1.0, most_db=-4.0), 4_000.0) == pytest.approx(-4.0, abs=0.1)
    half = AdaptiveMove(500.0, 8_000.0, share=1.0, most_db=-36.0, weights=((2_000.0, 1.0), (4_000.0, 0.5)))
    assert deepest(half, 4_000.0) == pytest.approx(full / 2, rel=0.1)


def test_what_stands_out_in_another_track_is_cut_here() -> None:
    x, plain = _noise(2), _noise(3)
    ringing = StaticProcessor(RATE, 1, [Step(1, StaticMove(Shape.BELL, 2_000.0, q=12.0, gain_db=15.0))]).process(plain)
    move = AdaptiveMove(500.0, 8_000.0, share=1.0, most_db=-12.0, key=Key(source=5))
    assert np.max(np.abs(_through(move, x, {5: plain * 0.0}) - x)) < 1e-9
    change = _thirds(_through(move, x, {5: ringing})) - _thirds(x)
    assert np.argmin(change) == 12  # the third octave at 2 kHz
    assert change[12] < -2.0


def test_both_channels_are_turned_down_alike() -> None:
    x = _noise(4, 2)
    x[:, 0] = StaticProcessor(RATE, 1, [Step(1, StaticMove(Shape.BELL, 2_000.0, q=12.0, gain_db=15.0))]).process(
        x[:, :1]
    )[:, 0]
    change = [_thirds(_through(START, x)[:, [c]]) - _thirds(x[:, [c]]) for c in (0, 1)]
    assert change[1][12] < -0.3


@settings(max_examples=10)
@given(st.lists(st.integers(1, 5_000), min_size=1, max_size=12))
def test_blocks_of_any_size_give_the_same(sizes: list[int]) -> None:
    x = np.concatenate([_noise(5, 2), _noise(6, 2)])[: sum(sizes)]
    whole = AdaptiveProcessor(RATE, 2, [Step(1, START)]).process(x)
    processor = AdaptiveProcessor(RATE, 2, [Step(1, START)])
    parts, at = [], 0
    for size in sizes:
        parts.append(processor.process(x[at : at + size]))
        processor.restore(processor.state())
        at += size
    assert np.max(np.abs(np.concatenate(parts) - whole)) < 1e-9


@pytest.mark.parametrize("rate", [8_000, 44_100, 96_000, 192_000])
def test_windows_are_as_long_at_any_rate(rate: int) -> None:
    assert 0.03 < window_frames(rate) / rate < 0.07
    x = _noise(7, 1)[:20_000]
    processor = AdaptiveProcessor(rate, 1, [Step(1, START)])
    assert np.isfinite(processor.process(x)).all()
