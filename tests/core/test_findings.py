"""The first version of find: it must see a planted ring and stay quiet on noise."""

from __future__ import annotations

import numpy as np
import pytest

from mivlo.core.chain import treat
from mivlo.core.findings import find
from mivlo.core.moves import Move, Shape
from mivlo.core.units import Floats, cents_between


@pytest.mark.parametrize("hz", [180.0, 412.0, 2_400.0])
def test_a_planted_ring_is_the_first_finding(noise: Floats, hz: float) -> None:
    damaged = treat(noise, [Move(Shape.BELL, hz, q=14.4, gain_db=15.0)], sample_rate=48_000)
    first = find(damaged, sample_rate=48_000)[0]
    assert abs(cents_between(hz, first.frequency_hz)) < 60
    assert first.excess_db > 5
    assert first.move.gain_db < -4
    assert 0 <= first.confidence <= 0.5


def test_plain_noise_has_no_strong_finding(noise: Floats) -> None:
    assert all(f.excess_db < 7 for f in find(np.tile(noise, (4, 1)), sample_rate=48_000))


def test_silence_and_nothing_have_no_findings() -> None:
    assert find(np.zeros((48_000, 1)), sample_rate=48_000) == []
    assert find(np.zeros((0, 1)), sample_rate=48_000) == []
