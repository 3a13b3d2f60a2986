"""Moves of several tracks as those of their group: rules, over any moves."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivlo.core.moves import Channels, DynamicMove, Entry, Shape, StaticMove
from mivlo.core.moves.merging import NEAR_OCT, merge

_static = st.builds(
    StaticMove,
    shape=st.sampled_from([Shape.BELL, Shape.NOTCH, Shape.LOW_CUT, Shape.HIGH_SHELF]),
    frequency_hz=st.floats(400.0, 460.0),
    gain_db=st.floats(-12.0, 6.0),
    q=st.floats(0.5, 20.0),
    slope_db_per_octave=st.sampled_from([12, 24]),
)
_dynamic = st.builds(
    DynamicMove, shape=st.just(Shape.BELL), frequency_hz=st.floats(400.0, 460.0), threshold_db=st.floats(-40.0, 0.0),
    range_db=st.floats(-9.0, 0.0),
)  # fmt: skip
_entries = st.lists(
    st.builds(
        Entry, move=st.one_of(_static, _dynamic), enabled=st.booleans(), channels=st.sampled_from(list(Channels)[:2])
    ),
    max_size=12,
).map(lambda found: [Entry(id=i, move=e.move, enabled=e.enabled, channels=e.channels) for i, e in enumerate(found)])


def _apart_oct(a: float, b: float) -> float:
    return abs(math.log2(a / b))


@given(_entries)
def test_every_move_goes_into_one_and_only_what_is_alike_becomes_one(entries: list[Entry]) -> None:
    by_id = {e.id: e for e in entries}
    made = merge(entries)
    assert sorted(i for m in made for i in m.of) == sorted(by_id)
    assert [m.of[0] for m in made] == sorted(m.of[0] for m in made)  # in their order
    for m in made:
        of = [by_id[i] for i in m.of]
        if len(of) == 1:
            assert m.entry == of[0]
            continue
        moves = [e.move for e in of]
        assert all(isinstance(move, StaticMove) for move in moves)
        assert len({(move.shape, e.channels, e.enabled) for move, e in zip(moves, of, strict=True)}) == 1
        places = [move.frequency_hz for move in moves]
        assert _apart_oct(max(places), min(places)) <= NEAR_OCT + 1e-9
        assert min(places) - 0.01 <= m.entry.move.frequency_hz <= max(places) + 0.01
        assert m.entry.move.gain_db == pytest.approx(sum(move.gain_db for move in moves) / len(moves), abs=0.006)


@given(_entries)
def test_merging_again_changes_nothing_that_lies_apart(entries: list[Entry]) -> None:
    """Two that are alike and nearer than the limit to the lowest of their group are never both left."""
    made = [m for m in merge(entries) if isinstance(m.entry.move, StaticMove)]
    of = {e.id: e for e in entries}
    for a in made:
        for b in made:
            if a is b or a.entry.channels != b.entry.channels or a.entry.enabled != b.entry.enabled:
                continue
            same = a.entry.move.shape == b.entry.move.shape
            slopes = a.entry.move.shape.has_slope and (
                a.entry.move.slope_db_per_octave != b.entry.move.slope_db_per_octave
            )
            if same and not slopes:
                everyone = [of[i].move.frequency_hz for i in (*a.of, *b.of)]
                assert _apart_oct(max(everyone), min(everyone)) > NEAR_OCT - 1e-9


def test_three_tracks_with_the_same_ring_become_one_cut_of_mean_gain() -> None:
    cuts = [(430.0, -4.0), (436.0, -2.0), (440.0, -6.0)]
    entries = [Entry(id=i, move=StaticMove(Shape.BELL, hz, gain_db=db, q=4.0)) for i, (hz, db) in enumerate(cuts)]
    (one,) = merge(entries)
    assert one.of == (0, 1, 2)
    assert one.entry.move == StaticMove(Shape.BELL, 435.31, gain_db=-4.0, q=4.0)
