"""The passage in which a finding is listened to, as rules that hold for any sound."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivlo.core.findings.loops import LONGEST_S, LOOP_S, loop_around, onsets_s

RATE = 8_000


def _strokes(times: list[float], length_s: float, fall_s: float) -> np.ndarray:  # type: ignore[type-arg]
    t = np.arange(round(length_s * RATE)) / RATE
    out = np.zeros(len(t))
    for at in times:
        after = t >= at
        out[after] += np.exp(-6.91 * (t[after] - at) / fall_s) * np.sin(2 * np.pi * 437.0 * (t[after] - at))
    return out


def test_onsets_are_where_strokes_are() -> None:
    times = [0.5, 1.7, 2.3, 6.0]
    found = onsets_s(_strokes(times, 8.0, 0.3), sample_rate=RATE)
    assert len(found) == 4
    assert np.max(np.abs(found - times)) < 0.03


@given(
    times=st.lists(st.floats(0.0, 11.5), max_size=12),
    length=st.floats(0.06, 12.0),
    at=st.floats(-1.0, 13.0),
    until=st.floats(-1.0, 13.0),
    ring=st.floats(0.0, 30.0),
)
def test_a_loop_holds_its_place_and_lies_within_the_sound(
    times: list[float], length: float, at: float, until: float, ring: float
) -> None:
    x = _strokes(times, length, 0.4)
    seconds = len(x) / RATE
    a, b = loop_around(x, sample_rate=RATE, at_s=at, until_s=until, ring_s=ring)
    place = min(max(at, 0.0), seconds)
    assert 0.0 <= a <= place <= b + 1e-9
    assert b <= seconds + 1e-9
    assert min(LOOP_S, seconds) - 1e-6 <= b - a <= LONGEST_S + 1e-6


def test_a_loop_begins_at_the_stroke_and_holds_the_tail() -> None:
    x = _strokes([1.0, 3.0, 9.0], 14.0, 4.0)
    a, b = loop_around(x, sample_rate=RATE, at_s=5.5, ring_s=2.5)
    assert a == pytest.approx(3.0, abs=0.06)
    assert b >= 8.0


def test_a_loop_ends_before_the_next_stroke_where_that_is_near() -> None:
    x = _strokes([1.0, 5.3], 12.0, 0.8)
    a, b = loop_around(x, sample_rate=RATE, at_s=1.2)
    assert a == pytest.approx(1.0, abs=0.06)
    assert b == pytest.approx(5.3, abs=0.06)
