"""Moves on another take: where a known resonance stands there. The damage is done here, so the true place is known."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from scipy.signal import lfilter

from mivlo.core.findings.closer import ALL_CONTOURS, closer_contours, closer_grid, rows_of
from mivlo.core.findings.place import REACH, find_place, likeliest
from mivlo.core.findings.search import Search
from mivlo.core.graph import treat
from mivlo.core.moves import DynamicMove, Move, Shape, StaticMove
from mivlo.core.retuning import REACH_OCT, can_be_retuned, retune
from mivlo.core.units import Floats, cents_between, octaves_to_q

RATES = (44_100, 48_000, 96_000)


def _noise(seed: int, rate: float, seconds: float = 5.0) -> Floats:
    """Noise that falls by 3 to 6 dB per octave: something to ring at any place."""
    x = np.random.default_rng(seed).standard_normal(round(seconds * rate))
    pole = 1.0 - 2.0 * np.pi * 300.0 / rate
    return np.asarray(0.05 * lfilter([1.0 - pole], [1.0, -pole], x) + 0.002 * x)


def _rung(x: Floats, hz: float, octaves: float, gain_db: float, rate: float) -> Floats:
    bell = StaticMove(Shape.BELL, hz, q=octaves_to_q(octaves), gain_db=gain_db)
    return treat(x[:, None], [bell], sample_rate=rate).astype(np.float32)


@settings(max_examples=12)
@given(
    hz=st.floats(250.0, 4_000.0),
    moved=st.floats(-0.25, 0.25),
    octaves=st.floats(0.07, 0.25),
    gain_db=st.floats(10.0, 16.0),
    rate=st.sampled_from(RATES),
    with_first=st.booleans(),
    seed=st.integers(0, 99),
)
def test_a_cut_follows_its_ring_to_another_take(
    hz: float, moved: float, octaves: float, gain_db: float, rate: int, with_first: bool, seed: int
) -> None:
    there = hz * 2.0**moved
    before = Search(_rung(_noise(seed, rate), hz, octaves, gain_db, rate), sample_rate=rate)
    after = Search(_rung(_noise(seed + 100, rate), there, octaves, gain_db, rate), sample_rate=rate)
    cut = StaticMove(Shape.BELL, hz, q=octaves_to_q(octaves), gain_db=-gain_db)
    made = retune(cut, after, original=before if with_first else None)
    assert isinstance(made.move, StaticMove), made
    assert abs(cents_between(made.move.frequency_hz, there)) < max(25.0, 200.0 * octaves)
    assert made.move.q == cut.q
    assert -1.6 * gain_db <= made.move.gain_db < 0.0


@pytest.mark.parametrize("level_db", [-40.0, 12.0])
def test_how_loud_a_take_is_does_not_matter(level_db: float) -> None:
    x = _rung(_noise(3, 48_000), 700.0, 0.1, 14.0, 48_000)
    cut = StaticMove(Shape.BELL, 640.0, q=octaves_to_q(0.1), gain_db=-14.0)
    plain, other = (retune(cut, Search(g * x, sample_rate=48_000)).move for g in (1.0, 10.0 ** (level_db / 20.0)))
    assert isinstance(plain, StaticMove)
    assert isinstance(other, StaticMove)
    assert abs(cents_between(plain.frequency_hz, other.frequency_hz)) < 1.0


def test_what_does_not_ring_has_no_counterpart() -> None:
    made = retune(
        StaticMove(Shape.BELL, 700.0, q=octaves_to_q(0.1), gain_db=-14.0),
        Search(_noise(5, 48_000)[:, None].astype(np.float32), sample_rate=48_000),
    )
    assert made.move is None
    assert "stands out" in str(made.left_out)
    silent = retune(
        StaticMove(Shape.NOTCH, 700.0, q=10.0), Search(np.zeros((96_000, 1), np.float32), sample_rate=48_000)
    )
    assert silent.left_out == "there is nothing to be heard"


@pytest.mark.parametrize(
    "move",
    [
        StaticMove(Shape.LOW_CUT, 80.0, slope_db_per_octave=24),
        StaticMove(Shape.BELL, 700.0, q=8.0, gain_db=3.0),
        StaticMove(Shape.BELL, 700.0, q=0.7, gain_db=-6.0),
        StaticMove(Shape.HIGH_SHELF, 5_000.0, gain_db=-3.0),
    ],
)
def test_what_is_for_no_resonance_stays(move: Move) -> None:
    assert not can_be_retuned(move)
    take = Search(_noise(7, 48_000)[:, None].astype(np.float32), sample_rate=48_000)
    assert retune(move, take).move is move


def test_what_acts_by_level_keeps_how_it_shares_its_depth() -> None:
    rung = Search(_rung(_noise(9, 48_000), 750.0, 0.1, 14.0, 48_000), sample_rate=48_000)
    move = DynamicMove(Shape.BELL, 700.0, q=octaves_to_q(0.1), gain_db=-2.0, range_db=-6.0, threshold_db=-40.0)
    made = retune(move, rung).move
    assert isinstance(made, DynamicMove)
    assert abs(cents_between(made.frequency_hz, 750.0)) < 25.0
    assert made.range_db / made.gain_db == pytest.approx(3.0, rel=0.02)


@settings(max_examples=30)
@given(
    places=st.lists(st.floats(0.0, 1.0), min_size=2 * REACH + 1, max_size=2 * REACH + 1).filter(lambda p: sum(p) > 0.1)
)
def test_the_likeliest_place_lies_within_reach(places: list[float]) -> None:
    share = np.array(places) / sum(places)
    best, certainty = likeliest(share)
    assert -REACH <= best <= REACH
    assert 0.0 <= certainty <= 1.0


def test_no_place_is_further_than_a_third_octave_off() -> None:
    rows = rows_of(closer_contours(_noise(1, 48_000).astype(np.float32), sample_rate=48_000))
    for hz in (46.0, 200.0, 14_000.0):
        found = find_place(rows, octaves=0.1, gain_db=14.0, hz=hz)
        assert abs(np.log2(found.frequency_hz / hz)) < REACH_OCT + 0.02


def test_a_closer_look_reads_levels() -> None:
    """Twice the sound is 6.02 dB more in every contour that is a level, and the same sound reads the same at any rate."""
    t = np.arange(5 * 48_000) / 48_000
    x = (_noise(2, 48_000) + 0.2 * np.sin(2 * np.pi * 1_000.0 * t)).astype(np.float32)
    once, twice = (closer_contours(g * x, sample_rate=48_000) for g in (np.float32(1.0), np.float32(2.0)))
    levels = [i for i, name in enumerate(ALL_CONTOURS) if not name.endswith("peak_share")]
    assert np.allclose((twice - once)[levels], 20.0 * np.log10(2.0), atol=0.01)
    at = int(np.argmax(once[0] - np.median(once[0])))
    assert closer_grid()[at] == pytest.approx(1_000.0, rel=0.004)


@lru_cache
def _take_at(rate: int) -> Search:
    return Search(_rung(_noise(11, rate), 700.0, 0.1, 14.0, rate), sample_rate=rate)


@settings(max_examples=40)
@example(hz=20_500.0, q=30.0, gain_db=-8.0, first=True)
@example(hz=21.0, q=4.0, gain_db=-8.0, first=False)
@given(hz=st.floats(20.0, 21_000.0), q=st.floats(0.5, 60.0), gain_db=st.floats(-24.0, -0.1), first=st.booleans())
def test_wherever_a_move_lies_it_is_retuned_stays_or_is_left_out(
    hz: float, q: float, gain_db: float, first: bool
) -> None:
    low, high = _take_at(22_050), _take_at(48_000)
    made = retune(StaticMove(Shape.BELL, hz, q=q, gain_db=gain_db), low, original=high if first else None)
    if made.move is None:
        assert made.left_out
        return
    assert isinstance(made.move, StaticMove)
    assert abs(np.log2(made.move.frequency_hz / hz)) < 1 / 3 + 1e-3
    assert -24.0 * 1.5 - 0.01 <= made.move.gain_db <= 0.0
    if not 45.0 <= hz <= low.highest_hz:
        assert made.move.frequency_hz == hz, "nobody can look there"
