"""Notes, Q and octaves, auditory bands against published values."""

import math

import pytest

from mivlo.core import units
from mivlo.core.errors import InvalidValue


@pytest.mark.parametrize(
    ("hz", "name"), [(440.0, "A4"), (739.99, "F♯5"), (261.626, "C4"), (27.5, "A0"), (4186.01, "C8")]
)
def test_notes_follow_iso_16(hz: float, name: str) -> None:
    # ISO 16: A4 = 440 Hz; the others by equal temperament, to the printed digits
    note = units.hz_to_note(hz)
    assert f"{note.name}{note.octave}" == name
    assert abs(note.cents) < 0.1


def test_cents_are_counted_from_the_nearest_note() -> None:
    assert units.hz_to_note(440.0 * 2 ** (49 / 1200)).cents == pytest.approx(49)
    assert str(units.hz_to_note(440.0 * 2 ** (51 / 1200))) == "A♯4 -49 ct"
    assert units.cents_between(440.0, 880.0) == pytest.approx(1200)


@pytest.mark.parametrize(("octaves", "q"), [(0.1, 14.42), (1 / 3, 4.32), (1.0, 1.414), (1.5, 0.92)])
def test_bandwidth_matches_the_cookbook(octaves: float, q: float) -> None:
    # Audio EQ Cookbook: Q = sqrt(2^N) / (2^N - 1), here to its printed digits (from memory)
    assert units.octaves_to_q(octaves) == pytest.approx(q, rel=0.002)
    assert units.q_to_octaves(units.octaves_to_q(octaves)) == pytest.approx(octaves, rel=1e-12)


def test_ring_time_is_that_of_a_second_order_resonator() -> None:
    # T60 = 2.2 Q / f; Fletcher & Rossing (from memory)
    assert units.ring_time_s(440.0, 20.0) == pytest.approx(2.2 * 20 / 440, rel=0.001)


def test_auditory_scales_match_glasberg_and_moore() -> None:
    # Glasberg & Moore 1990: 132.6 Hz and 15.6 at 1 kHz
    assert units.erb_hz(1000.0) == pytest.approx(132.6, abs=0.05)
    assert units.erb_number(1000.0) == pytest.approx(15.6, abs=0.05)
    assert list(units.BARK_EDGES_HZ) == sorted(units.BARK_EDGES_HZ)


def test_decibels_go_both_ways() -> None:
    assert units.db_to_gain(6.0206) == pytest.approx(2.0, rel=1e-5)
    assert units.gain_to_db(units.db_to_gain(-37.5)) == pytest.approx(-37.5)
    assert units.gain_to_db(0.0) == -200.0


@pytest.mark.parametrize("value", [0.0, -1.0, math.nan, math.inf])
def test_what_must_be_positive_is_refused_by_name(value: float) -> None:
    with pytest.raises(InvalidValue, match=r"frequency_hz is .*must be a number above 0"):
        units.hz_to_midi(value)
