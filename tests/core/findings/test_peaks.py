"""Peaks are those of scipy."""

from __future__ import annotations

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from mivlo.core.findings.peaks import find_peaks


@given(
    st.lists(st.integers(0, 6), max_size=80) | st.lists(st.floats(-5, 5), max_size=80),
    st.floats(-5, 5),
    st.integers(1, 12),
)
@settings(max_examples=300)
def test_any_curve_has_the_peaks_that_scipy_finds(values: list[float], height: float, distance: int) -> None:
    x = np.array(values, dtype=np.float64)
    ours = find_peaks(x, height=height, distance=distance)
    theirs = signal.find_peaks(x, height=height, distance=distance)[0]
    unequal = len({x[i] for i in signal.find_peaks(x, height=height)[0]}) == len(signal.find_peaks(x, height=height)[0])
    if unequal or distance == 1:  # which of two equally high neighbours is kept is nobody's promise
        assert ours.tolist() == theirs.tolist()
    else:
        assert len(ours) == 0 or np.min(np.diff(ours), initial=distance) >= distance


def test_curves_that_are_too_short_have_none() -> None:
    assert find_peaks([], height=0.0, distance=1).tolist() == []
    assert find_peaks([1.0, 2.0], height=0.0, distance=1).tolist() == []
