"""Ranges that must stay."""

from __future__ import annotations

from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivlo.core.errors import InvalidValue
from mivlo.core.kept import is_kept, kept_ranges

_hz = st.floats(10.0, 24_000.0)
_ranges = st.lists(st.tuples(_hz, _hz).filter(lambda r: r[0] < r[1]), max_size=12)


@given(_ranges, _hz)
def test_what_lies_in_any_of_them_stays_in_whatever_order_they_are_given(
    given_: list[tuple[float, float]], hz: float
) -> None:
    found = kept_ranges(given_)
    assert is_kept(hz, found) == any(low <= hz <= high for low, high in given_)
    assert kept_ranges(reversed(given_)) == found == kept_ranges(found)
    assert all(a[1] < b[0] for a, b in pairwise(found))


@pytest.mark.parametrize("bad", [(200.0, 100.0), (100.0, 100.0), (5.0, 100.0), (100.0, 30_000.0)])
def test_what_is_no_range_is_refused(bad: tuple[float, float]) -> None:
    with pytest.raises(InvalidValue):
        kept_ranges([bad])


def test_there_are_not_too_many() -> None:
    with pytest.raises(InvalidValue):
        kept_ranges([(100.0 + 10 * i, 105.0 + 10 * i) for i in range(33)])
