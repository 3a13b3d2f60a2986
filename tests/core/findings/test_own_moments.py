"""What the other tracks of a song say of which moments of a track are its own."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import numpy.typing as npt
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import butter, sosfilt

from mivlo.core import cents_between, treat
from mivlo.core.findings import Finding, Search
from mivlo.core.findings.own_moments import LEAST_HIDDEN, LEAST_S, OwnMoments, own_moments
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.roles import Role
from mivlo.core.units import Floats, octaves_to_q
from tests.core.rooms import RATE, in_room, players

RATES = st.sampled_from([8_000, 16_000, 22_050])
SEEDS = st.integers(0, 2**31)
STROKE_S = 1.5
LENGTH_S = 24.0
WINDOW_S = 0.34


@lru_cache(maxsize=32)
def _strokes(seed: int, rate: int) -> Floats:
    """(n, 1) strokes of noise of a colour of their own, each as long as the rest behind it."""
    random = np.random.default_rng(seed)
    low = 10.0 ** random.uniform(np.log10(100.0), np.log10(600.0))
    sos = butter(1, (low, min(8.0 * low, 0.45 * rate)), btype="bandpass", fs=rate, output="sos")
    at = np.arange(round(LENGTH_S * rate)) / rate % (2.0 * STROKE_S)
    return np.asarray(sosfilt(sos, random.standard_normal(len(at))) * (at < STROKE_S) * np.exp(-2.0 * at))[:, None]


def _spilled(seed: int, rate: int, count: int, under_db: float) -> tuple[Floats, Floats, list[Floats]]:
    """(own, left in it, the others' tracks)."""
    own, others = _strokes(seed, rate), players(LENGTH_S, seed, rate)[:count]
    left = in_room(others, [], seed, rate)[:, :1]
    return own, left * (np.std(own) / np.std(left) * 10.0 ** (-under_db / 20.0)), others


def _windows(moments: OwnMoments) -> tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_], npt.NDArray[np.bool_]]:
    """Of windows every 50 ms: which are the track's own, which lie in strokes, which in rests."""
    times = np.arange(WINDOW_S, LENGTH_S - WINDOW_S, 0.05)
    at = times % (2.0 * STROKE_S)
    rests = (at > STROKE_S + WINDOW_S / 2.0) & (at < 2.0 * STROKE_S - WINDOW_S / 2.0)
    return moments.among(times, WINDOW_S), (at > 0.05) & (at < 0.5), rests


@settings(max_examples=10)
@given(SEEDS, RATES, st.integers(1, 3), st.floats(18.0, 30.0))
def test_strokes_are_a_tracks_own_and_the_rests_between_are_the_others(
    seed: int, rate: int, count: int, under_db: float
) -> None:
    own, left, others = _spilled(seed, rate, count, under_db)
    moments = own_moments(own + left, others, sample_rate=rate)
    assert moments is not None
    assert moments.hidden > 0.1
    is_own, strokes, rests = _windows(moments)
    assert np.mean(is_own[strokes]) > 0.9
    assert np.mean(is_own[rests]) < 0.3


@settings(max_examples=8)
@given(SEEDS, RATES, st.permutations([0, 1, 2]), st.floats(-40.0, 40.0), st.floats(-40.0, 40.0))
def test_neither_order_nor_level_of_the_tracks_counts(
    seed: int, rate: int, order: list[int], own_db: float, others_db: float
) -> None:
    own, left, others = _spilled(seed, rate, 3, 24.0)
    first = own_moments(own + left, others, sample_rate=rate)
    louder, theirs = 10.0 ** (own_db / 20.0), 10.0 ** (others_db / 20.0)
    other = own_moments(louder * (own + left), [theirs * others[k] for k in order], sample_rate=rate)
    assert first is not None
    assert other is not None
    np.testing.assert_allclose(other.own, first.own, atol=0.1)
    assert abs(other.hidden - first.hidden) < 0.02


@settings(max_examples=10)
@given(SEEDS, RATES, st.floats(-20.0, 20.0), st.integers(0, 200), st.floats(150.0, 2_000.0), st.integers(0, 2))
def test_a_further_microphone_of_the_same_thing_takes_nothing_from_it(
    seed: int, rate: int, gain_db: float, later: int, hz: float, count: int
) -> None:
    own, left, others = _spilled(seed, rate, 2, 30.0)
    coloured = treat(own, [StaticMove(Shape.BELL, hz, q=1.0, gain_db=8.0)], sample_rate=rate)
    twin = 10.0 ** (gain_db / 20.0) * np.roll(coloured, later, axis=0)
    with_twin = own_moments(own + left, [*others[:count], twin], sample_rate=rate)
    without = own_moments(own + left, others[:count], sample_rate=rate)
    if without is None:
        assert with_twin is None
    else:
        assert with_twin is not None
        np.testing.assert_array_equal(with_twin.own, without.own)


@settings(max_examples=10)
@given(SEEDS, RATES, st.integers(1, 3))
def test_in_a_track_that_nobody_else_is_heard_in_hardly_anything_is_theirs(seed: int, rate: int, count: int) -> None:
    own, _, others = _spilled(seed, rate, count, 24.0)
    hiss = 1e-4 * np.std(own) * np.random.default_rng(seed).standard_normal(own.shape)
    moments = own_moments(own + hiss, others, sample_rate=rate)
    assert moments is None or moments.hidden < 2.0 * LEAST_HIDDEN


@settings(max_examples=10)
@given(SEEDS, RATES, st.lists(st.sampled_from(["silent", "empty", "short", "long", "faint"]), max_size=3))
def test_other_tracks_may_be_of_any_length_or_silent(seed: int, rate: int, odd: list[str]) -> None:
    own, left, others = _spilled(seed, rate, 1, 24.0)
    more = {
        "silent": np.zeros_like(own), "empty": np.zeros((0, 1)), "short": others[0][: rate // 3],
        "long": np.concatenate([np.zeros_like(own), others[0]]), "faint": np.repeat(1e-30 * others[0], 2, axis=1),
    }  # fmt: skip
    moments = own_moments(own + left, [*others, *(more[name] for name in odd)], sample_rate=rate)
    assert moments is not None
    assert np.all(np.isfinite(moments.own))
    assert np.all(np.isfinite(moments.left))


@settings(max_examples=6)
@given(SEEDS, st.floats(0.0, LEAST_S - 0.1))
def test_of_a_short_passage_or_a_track_by_itself_nothing_is_said(seed: int, length_s: float) -> None:
    own, left, others = _spilled(seed, 16_000, 1, 24.0)
    assert own_moments(own + left, [], sample_rate=16_000) is None
    assert own_moments(own + left, others, sample_rate=16_000, stop=round(length_s * 16_000)) is None


@settings(max_examples=6)
@given(SEEDS, RATES, st.integers(0, 3 * 22_050))
def test_times_are_those_of_the_whole_track_wherever_it_is_looked_at(seed: int, rate: int, start: int) -> None:
    own, left, others = _spilled(seed, rate, 1, 22.0)
    start = min(start, 3 * rate)
    moments = own_moments(own + left, others, sample_rate=rate, start=start)
    assert moments is not None
    assert start / rate <= moments.times_s[0] <= start / rate + 0.1
    assert np.all(np.diff(moments.times_s) > 0.0)
    assert moments.times_s[-1] <= LENGTH_S
    is_own, strokes, rests = _windows(moments)
    assert np.mean(is_own[strokes][10:]) > 0.9
    assert np.mean(is_own[rests][10:]) < 0.4


RING_HZ, THEIRS_HZ = 700.0, 1_510.0


def _song(seed: int) -> tuple[Floats, list[Floats]]:
    """(track, others) strokes whose body rings, with others 22 dB below in a room that rings at a place of its own."""
    own, others = _strokes(seed, RATE), players(LENGTH_S, seed)[:2]
    rung = treat(own, [StaticMove(Shape.BELL, RING_HZ, q=octaves_to_q(0.1), gain_db=13.0)], sample_rate=RATE)
    left = in_room(others, [(THEIRS_HZ, octaves_to_q(0.08), 14.0)], seed)[:, :1]
    return rung + left * (np.std(own) / np.std(left) * 10.0 ** (-22.0 / 20.0)), others


def _near(found: list[Finding], hz: float) -> float:
    """The most certain of what is told within a quarter tone of a place."""
    return max((f.confidence for f in found if abs(cents_between(hz, f.frequency_hz)) < 50.0), default=0.0)


def test_a_ring_is_told_more_surely_by_a_tracks_own_moments_and_says_so() -> None:
    surer = []
    for seed in range(2):
        track, others = _song(seed)
        alone = Search(track, sample_rate=RATE, role=Role.PERCUSSION).findings()
        found = Search(track, sample_rate=RATE, role=Role.PERCUSSION, others=others).findings()
        surer.append(_near(found, RING_HZ) - _near(alone, RING_HZ))
        assert _near(found, RING_HZ) > 0.8
        assert _near(found, THEIRS_HZ) < 0.1
        told = next(f for f in found if abs(cents_between(RING_HZ, f.frequency_hz)) < 50.0)
        assert "of its time in which this track is heard over the others" in told.says
        assert all("over the others" not in f.says for f in alone)
    assert np.mean(surer) > 0.02
