"""What contours take of many frames. Oracles: numpy and scipy, which do the same more slowly."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as arrays
from scipy.ndimage import maximum_filter1d, minimum_filter1d

from mivlo.core.findings.ranks import greatest_near, least_near, quantiles_of
from mivlo.core.spectra import Singles

LEVELS = arrays.arrays(
    np.float32,
    st.tuples(st.integers(1, 30), st.integers(1, 40)),
    elements=st.floats(-140.0, 20.0, width=32),
)


@given(LEVELS, st.lists(st.floats(0.0, 1.0), min_size=1, max_size=6))
def test_quantiles_are_those_of_numpy(levels: Singles, shares: list[float]) -> None:
    assert quantiles_of(levels, shares) == pytest.approx(np.quantile(levels, shares, axis=0), abs=1e-4)


@given(LEVELS, st.integers(1, 12))
def test_what_is_near_is_told_as_scipy_tells_it(levels: Singles, points: int) -> None:
    """At the ends scipy mirrors what is inside, which changes neither the least nor the greatest."""
    assert np.array_equal(least_near(levels, points), minimum_filter1d(levels, 2 * points + 1, axis=1))
    assert np.array_equal(greatest_near(levels, points), maximum_filter1d(levels, 2 * points + 1, axis=1))
