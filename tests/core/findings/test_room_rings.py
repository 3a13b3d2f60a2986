"""Rings of a room, told by what the other tracks play into it."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from mivlo.core import cents_between, treat
from mivlo.core.errors import BadAudio
from mivlo.core.findings import Finding, Search
from mivlo.core.findings.room_rings import RoomRing, find_room_rings
from mivlo.core.learning import Staying
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.roles import Role
from mivlo.core.units import Floats, q_to_octaves
from tests.core.rooms import RATE, in_room, players

NOTHING = np.zeros(0)
SAID = "over what the other tracks play into this room"


@lru_cache(maxsize=4)
def _played(seed: int) -> tuple[Floats, ...]:
    return tuple(players(12.0, seed))


def _rings(room: Floats, others: tuple[Floats, ...], **span: int) -> list[RoomRing]:
    return find_room_rings(room, others, sample_rate=RATE, **span)


def _told(room: Floats, others: tuple[Floats, ...], role: Role = Role.ROOM, **span: int) -> list[Finding]:
    found = Search(room, sample_rate=RATE, role=role, others=others, **span).findings()
    return [f for f in found if SAID in f.says]


@given(st.integers(1, 3), st.floats(300.0, 3_000.0), st.floats(20.0, 45.0), st.floats(11.0, 15.0))
@settings(max_examples=8)
def test_a_ring_is_told_with_its_place_and_its_evidence_agrees(seed: int, hz: float, q: float, db: float) -> None:
    played = _played(seed)
    room = in_room(list(played), [(hz, q, db)], seed)
    first = max(_told(room, played), key=lambda f: f.confidence)
    assert abs(cents_between(hz, first.frequency_hz)) < 35
    assert first.confidence > 0.6
    assert isinstance(first.move, StaticMove)
    assert -db < first.move.gain_db < -2.0
    assert 0.4 < first.bandwidth_oct / q_to_octaves(q) < 2.5
    # the sentence says that it stands out whatever is played: so do the share of time and the picture
    assert first.share_of_time > 0.6
    assert np.median(first.evidence.excess_db) > 3.0
    assert 0.0 <= min(first.evidence.times_s) <= first.worst_s <= max(first.evidence.times_s) <= 12.0


@given(st.permutations([0, 1, 2]), st.integers(0, 3 * RATE), st.integers(0, 3 * RATE))
@settings(max_examples=8)
def test_it_is_told_in_any_order_of_tracks_and_any_stretch(order: list[int], start: int, before_end: int) -> None:
    played = _played(2)
    room = in_room(list(played), [(801.0, 35.0, 12.0)], 2)
    span = {"start": start, "stop": len(room) - before_end}
    rings = _rings(room, played, **span)
    again = _rings(room, tuple(played[i] for i in order), **span)
    assert [r.frequency_hz for r in again] == [r.frequency_hz for r in rings]
    surest = max(rings, key=lambda r: r.confidence)
    assert abs(cents_between(801.0, surest.frequency_hz)) < 25
    assert np.all(surest.place.times_s >= start / RATE)
    assert np.all(surest.place.times_s <= span["stop"] / RATE)


def test_it_needs_others_that_explain_the_room_and_a_room() -> None:
    played = _played(1)
    room = in_room(list(played), [(801.0, 35.0, 12.0)], 1)
    assert _told(room, played)
    assert not _told(room, ())
    assert not _told(room, played[:1])
    assert not _told(room, played, Role.MALLETS)
    assert not _told(played[0], (played[1], played[2]))  # it plays something of its own


@given(st.integers(1, 6))
@settings(max_examples=6)
def test_a_room_without_rings_is_not_said_to_ring(seed: int) -> None:
    played = _played(seed)
    assert not [r for r in _rings(in_room(list(played), [], seed), played) if r.confidence >= 0.4]


def test_the_cut_takes_away_what_is_said() -> None:
    played = _played(3)
    room = in_room(list(played), [(801.0, 35.0, 12.0)], 3)
    (before,) = _told(room, played)
    assert isinstance(before.move, StaticMove)
    left = [f for f in _told(treat(room, [before.move], sample_rate=RATE), played) if f.excess_db >= before.excess_db]
    assert not left
    whole = StaticMove(Shape.BELL, 801.0, q=35.0, gain_db=-12.0)
    assert not _told(treat(room, [whole], sample_rate=RATE), played)


@given(st.floats(4.5, 20.0), st.floats(0.1, 3.0), st.floats(0.5, 5.0), st.floats(2.0, 100.0))
def test_what_stands_further_out_and_out_of_less_is_surer(over: float, more: float, ripple: float, q: float) -> None:
    def sure(over_db: float, ripple_db: float) -> float:
        bell = StaticMove(Shape.BELL, 500.0, q=q, gain_db=-over_db)
        return RoomRing(Staying(bell, over_db, ripple_db, NOTHING, NOTHING, NOTHING)).confidence

    assert 0.0 < sure(over, ripple) <= sure(over + more, ripple) < 1.0
    assert sure(over, ripple + more) <= sure(over, ripple)


@given(
    st.integers(0, 6 * RATE), st.lists(st.tuples(st.integers(0, 6 * RATE), st.sampled_from([0.0, 1e-7, 0.1])), max_size=4),
    st.integers(1, 2), st.sampled_from([8_000.0, 22_050.0, 48_000.0]), st.booleans(),
)  # fmt: skip
@settings(max_examples=20)
def test_any_lengths_levels_and_rates_are_heard(
    frames: int, others: list[tuple[int, float]], channels: int, rate: float, silent: bool
) -> None:
    random = np.random.default_rng(frames)
    room = random.standard_normal((frames, channels)) * (0.0 if silent else 0.1)
    played = [random.standard_normal((n, 1)) * level for n, level in others]
    for ring in find_room_rings(room, played, sample_rate=rate):
        assert 0.0 < ring.confidence < 1.0
        assert ring.cut.gain_db <= 0.0
    try:
        Search(room, sample_rate=rate, role=Role.ROOM, others=played).findings()
    except BadAudio:
        assert frames < 0.05 * rate
