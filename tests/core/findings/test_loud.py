"""What is loud is read by itself: what others leave between strokes hides nothing of it."""

from __future__ import annotations

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from mivlo.core.findings.closer import closer_contours, look_closer
from mivlo.core.findings.contours import GATE_DB, LOUD_GATE_DB, all_contours, contour_of
from mivlo.core.findings.frames import finding_grid, frame_levels, make_parts
from mivlo.core.findings.network import HEAR_ALL, read_contours, shipped_model
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats

RATES = st.sampled_from([44_100, 48_000, 96_000])


def _strokes(seed: int, rate: int) -> tuple[Floats, Floats]:
    """(n,) bursts of noise of 1.5 s with as long rests between them, and noise in the rests alone, as loud."""
    random = np.random.default_rng(seed)
    n = 9 * rate
    plays = (np.arange(n) // (3 * rate // 2)) % 2 == 0
    own, other = 0.1 * random.standard_normal((2, n))
    return np.where(plays, own, 0.0), np.where(plays, 0.0, other)


def _contours(x: Floats, rate: int) -> tuple[Singles, Singles]:
    """Of all that is no rest, and of what is loud."""
    parts = make_parts(rate)
    levels = [frame_levels([x[:, None].astype(np.float32)], part) for part in parts]
    return all_contours(levels, parts), all_contours(levels, parts, LOUD_GATE_DB)


@settings(max_examples=8)
@given(st.integers(0, 2**31), RATES, st.floats(26.0, 40.0))
def test_what_is_heard_between_strokes_is_not_read_with_what_is_loud(seed: int, rate: int, under_db: float) -> None:
    own, other = _strokes(seed, rate)
    spilled = own + 10.0 ** (-under_db / 20.0) * other
    (all_alone, alone), (all_beside, beside) = (_contours(x, rate) for x in (own, spilled))

    def apart_db(one: Singles, other: Singles, name: str) -> float:
        return float(np.median(np.abs(contour_of(other, name) - contour_of(one, name))))

    for name in ("mean", "quantile_0.5", "valley", "long_median"):
        assert apart_db(alone, beside, name) < 0.5
    # all that is no rest has them: half of the time they are all that there is
    assert apart_db(all_alone, all_beside, "quantile_0.3") > 5.0


@settings(max_examples=8)
@given(st.integers(0, 2**31), RATES)
def test_a_closer_look_is_taken_once_for_both(seed: int, rate: int) -> None:
    own, other = _strokes(seed, rate)
    x = (own + 0.02 * other).astype(np.float32)
    view = look_closer(x, sample_rate=rate)
    np.testing.assert_array_equal(view.contours(), closer_contours(x, sample_rate=rate))
    usual, loud = (view.contours(gate)[1] for gate in (GATE_DB, LOUD_GATE_DB))
    assert np.median(loud - usual) > 5.0  # the mean of what is loud lies over that of all


@settings(max_examples=20)
@given(st.integers(0, 2**31))
def test_some_networks_say_what_is_narrow_from_what_is_loud(seed: int) -> None:
    random = np.random.default_rng(seed)
    everything, loud = random.normal(-60.0, 8.0, (2, 27, len(finding_grid()))).astype(np.float32)
    of_all, of_loud = read_contours(everything), read_contours(loud)
    both = read_contours(everything, near=loud)
    assert 0 < HEAR_ALL < len(shipped_model().networks)
    np.testing.assert_array_equal(both.each_centre[:HEAR_ALL], of_all.each_centre[:HEAR_ALL])
    np.testing.assert_array_equal(both.each_centre[HEAR_ALL:], of_loud.each_centre[HEAR_ALL:])
    # what is broad is told by all of it
    np.testing.assert_array_equal(both.each_hump_centre, of_all.each_hump_centre)
    np.testing.assert_array_equal(both.hump_db, of_all.hump_db)
