"""The closer look as networks read it: its grid, its inputs, and what one says of a ring."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivlo.core.findings.closer import ALL_CONTOURS, LEVELS, closer_contours, closer_grid
from mivlo.core.findings.closer_reading import (
    CHANNELS,
    HARMONICS,
    closer_input,
    closer_input_of_boost,
    on_finding_grid,
    read_closer,
    with_harmonics,
)
from mivlo.core.findings.cuts import bell_db
from mivlo.core.findings.frames import finding_grid
from mivlo.core.findings.network import CLOSER_SHARE, HEADS, read_contours, shipped_model
from mivlo.core.graph import treat
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.roles import Role
from mivlo.core.spectra import Singles, nearest_point
from mivlo.core.units import Floats, octaves_to_q

RATE = 48_000.0
POINTS = len(closer_grid())


def _contours(seed: int) -> Singles:
    levels = np.random.default_rng(seed).normal(-60.0, 8.0, (len(ALL_CONTOURS), POINTS))
    return levels.astype(np.float32)


def _noise(seconds: float) -> Floats:
    return np.random.default_rng(5).normal(0.0, 0.05, round(seconds * RATE))


def test_each_second_point_is_one_of_the_findings_grid() -> None:
    np.testing.assert_allclose(closer_grid()[1::2], finding_grid())


@settings(max_examples=40)
@given(st.integers(0, 2**31), st.floats(-40.0, 40.0))
def test_a_louder_track_is_the_same_track(seed: int, gain_db: float) -> None:
    contours = _contours(seed)
    louder = contours.copy()
    louder[list(LEVELS)] += np.float32(gain_db)
    np.testing.assert_allclose(closer_input(louder), closer_input(contours), atol=1e-4)


@settings(max_examples=40)
@given(st.integers(0, 2**31), st.floats(6.0, 13.5), st.floats(0.03, 1.5), st.floats(-18.0, 18.0))
def test_a_boost_over_all_of_it_adds_what_is_said(seed: int, at_oct: float, octaves: float, gain_db: float) -> None:
    contours = _contours(seed)
    boost = bell_db(np.log2(closer_grid()), at_oct, octaves, gain_db)
    boosted = contours.copy()
    boosted[list(LEVELS)] += boost.astype(np.float32)
    added = closer_input(boosted) - closer_input(contours)
    np.testing.assert_allclose(added, closer_input_of_boost(boost), atol=1e-3)


@settings(max_examples=60)
@given(st.integers(0, POINTS - 1), st.sampled_from(range(len(HARMONICS))))
def test_a_point_sees_what_stands_at_its_harmonics(at: int, which: int) -> None:
    """The grid is laid by ratios: two partials of a note lie equally far apart wherever the note is."""
    alone = np.zeros((CHANNELS, POINTS), dtype=np.float32)
    alone[0, at] = 1.0  # the mean power
    said, told = with_harmonics(alone), 11
    np.testing.assert_array_equal(said[: CHANNELS - told], alone[:-told])
    np.testing.assert_array_equal(said[-told:], alone[-told:])
    rows = said[CHANNELS - told : -told].reshape(len(HARMONICS), -1, POINTS)
    sees = closer_grid()[at] / HARMONICS[which]
    seen = np.flatnonzero(rows[which, 0])
    if not closer_grid()[0] * 1.01 < sees < closer_grid()[-1] / 1.01:
        assert len(seen) <= 1
        return
    assert rows[which, 0].sum() == 1.0
    assert abs(np.log2(closer_grid()[seen[0]] / sees)) <= 0.51 / 96.0
    assert not np.any(rows[:, 1:])


@settings(max_examples=40)
@given(st.integers(0, POINTS - 1))
def test_a_centre_between_the_points_is_not_lost(at: int) -> None:
    raw = np.full((len(HEADS), POINTS), -4.0, dtype=np.float32)
    raw[HEADS.index("centre"), at] = 3.0
    on_grid = on_finding_grid(raw)[HEADS.index("centre")]
    found = np.flatnonzero(on_grid == 3.0)
    assert 1 <= len(found) <= 2
    assert np.all(np.abs(np.log2(finding_grid()[found] / closer_grid()[at])) <= 1.001 / 96.0)


@settings(max_examples=40)
@given(st.integers(0, 2**31), st.integers(1, 3))
def test_the_closer_look_counts_the_same_however_many_networks_read_it(seed: int, networks: int) -> None:
    contours = np.random.default_rng(seed).normal(-60.0, 8.0, (27, len(finding_grid()))).astype(np.float32)
    usual = read_contours(contours)
    nothing = [np.zeros((len(HEADS), len(finding_grid())), np.float32)] * networks
    both = read_contours(contours, beside=nothing)
    assert both.closer == networks
    assert both.each_centre.shape[0] == usual.each_centre.shape[0] + networks
    np.testing.assert_allclose(both.boost_db, (1.0 - CLOSER_SHARE) * usual.boost_db, atol=1e-3)


@pytest.mark.parametrize("role", [None, Role.DRUMS])
@pytest.mark.parametrize("ring_hz", [310.0, 1_150.0, 3_400.0])
def test_a_ring_in_noise_is_seen_and_noise_is_not(ring_hz: float, role: Role | None) -> None:
    clean = _noise(8.0)[:, None]
    ring = StaticMove(Shape.BELL, ring_hz, q=octaves_to_q(0.12), gain_db=14.0)
    networks = shipped_model().closer
    at = nearest_point(finding_grid(), ring_hz)

    def boost_db(x: Floats) -> Floats:
        contours = closer_contours(x[:, 0].astype(np.float32), sample_rate=RATE)
        assert closer_input(contours, role).shape == (CHANNELS, POINTS)
        said = read_closer(contours, networks, role=role)
        return np.mean([10.0 * raw[HEADS.index("boost")] for raw in said], axis=0)

    assert np.max(boost_db(treat(clean, [ring], sample_rate=RATE))[at - 1 : at + 2]) > 8.0
    assert np.max(boost_db(clean)) < 4.0
