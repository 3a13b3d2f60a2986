"""From a reading to bells: fitted together they follow what is wanted, and a broad one is what two looks say."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivlo.core.findings.cuts import Spot, as_cut, bell_db, between, fit_together, seen_twice
from mivlo.core.findings.frames import finding_grid
from mivlo.core.findings.network import Reading, read_contours
from mivlo.core.moves import treatment_db
from mivlo.core.units import Floats

AT = np.log2(finding_grid())
bells = st.builds(
    Spot,
    frequency_hz=st.floats(150.0, 6_000.0),
    octaves=st.floats(0.06, 0.35),
    gain_db=st.floats(4.0, 15.0),
    score=st.just(1.0),
    broad=st.just(False),
)


def _sum(spots: list[Spot]) -> Floats:
    return sum((bell_db(AT, np.log2(s.frequency_hz), s.octaves, s.gain_db) for s in spots), np.zeros_like(AT))


def _apart(spots: list[Spot]) -> bool:
    places = sorted(np.log2(s.frequency_hz) for s in spots)
    return bool(np.all(np.diff(places) > 0.2))


@settings(max_examples=30)
@given(st.lists(bells, min_size=1, max_size=8).filter(_apart), st.integers(0, 1_000))
def test_bells_that_are_a_little_off_come_to_where_the_wanted_ones_are(real: list[Spot], seed: int) -> None:
    """However they overlap: twice as near to the curve at least, and heights within a decibel."""
    random = np.random.default_rng(seed)
    off = [
        replace(s, octaves=s.octaves * 2 ** random.uniform(-0.3, 0.3), gain_db=s.gain_db + random.uniform(-2, 2))
        for s in real
    ]
    wanted = _sum(real)
    found = fit_together(off, wanted)
    before, after = (float(np.sqrt(np.mean((_sum(x) - wanted) ** 2))) for x in (off, found))
    assert after <= 0.5 * before + 0.02
    assert max(abs(a.gain_db - b.gain_db) for a, b in zip(found, real, strict=True)) < 1.0


@settings(max_examples=30)
@given(bells, bells)
def test_a_ring_stands_where_it_fits_and_is_as_high_and_wide_as_both_say(said: Spot, fitted: Spot) -> None:
    found = between(said, fitted)
    assert found.frequency_hz == fitted.frequency_hz
    assert found.gain_db - said.gain_db == pytest.approx(fitted.gain_db - found.gain_db)
    assert found.octaves / said.octaves == pytest.approx(fitted.octaves / found.octaves)


def test_nothing_to_fit() -> None:
    assert fit_together([], np.zeros_like(AT)) == []


@lru_cache(maxsize=1)
def _of_nothing() -> Reading:
    return read_contours(np.zeros((27, len(AT)), np.float32))


def _said(spot: Spot, certain: float) -> Reading:
    """A reading that sees one broad spot."""
    at = int(np.argmin(np.abs(AT - np.log2(spot.frequency_hz))))
    flat = np.ones_like(AT)
    return replace(
        _of_nothing(), hump_centre=certain * (np.arange(len(AT)) == at), hump_octaves=spot.octaves * flat,
        hump_gain_db=spot.gain_db * flat, hump_offset_oct=(np.log2(spot.frequency_hz) - AT[at]) * flat,
    )  # fmt: skip


@settings(max_examples=30)
@given(st.floats(200.0, 900.0), st.floats(0.6, 1.5), st.floats(3.0, 10.0), st.floats(0.5, 2.0), st.floats(-0.15, 0.15))
def test_a_broad_spot_is_what_two_looks_say(hz: float, octaves: float, gain_db: float, too: float, off: float) -> None:
    """Whatever the first look said of its height, what is left and what was taken is the whole of it."""
    first = Spot(hz * 2**off, octaves, gain_db * too, 0.5, True)
    made = as_cut(first, 0.5, deepest_db=6.0)
    left = Spot(hz, octaves, gain_db + made.gain_db, 0.5, True)
    seen = seen_twice(first, _said(left, 0.6), made)
    assert seen.gain_db == pytest.approx((first.gain_db + gain_db) / 2.0)
    assert np.log2(seen.frequency_hz / hz) == pytest.approx(off / 2.0, abs=1e-6)
    # nothing is left, or it is narrow: as it was
    assert seen_twice(first, _said(left, 0.1), made) == first
    assert seen_twice(replace(first, broad=False), _said(left, 0.6), made) == replace(first, broad=False)


@given(st.floats(100.0, 8_000.0), st.floats(0.05, 1.5), st.floats(-15.0, 15.0))
def test_a_bell_is_the_move_that_is_made_of_it(hz: float, octaves: float, gain_db: float) -> None:
    """Against the filter that is rendered, at a rate at which it is as good as analogue."""
    move = as_cut(Spot(hz, octaves, gain_db, 1.0, False), 1.0, deepest_db=15.0)
    made = treatment_db([move], finding_grid(), sample_rate=768_000)
    assert np.max(np.abs(made - bell_db(AT, np.log2(hz), octaves, -gain_db))) < 0.1
