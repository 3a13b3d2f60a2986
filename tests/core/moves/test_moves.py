"""Moves, entries and treatments: what can't be is refused by name, and documents come from the types alone."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivlo import description
from mivlo.core.errors import InvalidValue, UnknownKey
from mivlo.core.moves import Channels, Entry, Place, Shape, StaticMove, Treatment, kinds, move_kinds

BELL = StaticMove(Shape.BELL, 412.0, q=14.4, gain_db=-6.0)


@pytest.mark.parametrize(
    ("values", "says"),
    [
        ({"frequency_hz": 5.0}, "frequency_hz is 5.0, but it must lie between 10 and 24000 Hz"),
        ({"frequency_hz": float("nan")}, "frequency_hz is nan"),
        ({"q": 0.0}, "q is 0.0, but it must lie between 0.1 and 100"),
        ({"gain_db": 1e999}, "gain_db is inf, but it must lie between -30 and 30 dB"),
        ({"slope_db_per_octave": 15}, "slope_db_per_octave is 15, but it must be 6, 12, 18, 24, 36 or 48"),
        ({"shape": "low_cut", "slope_db_per_octave": 6, "q": 3.0}, "a cut of 6 dB/octave has none"),
        ({"q": True}, "q is True"),
    ],
)
def test_a_move_that_can_not_be_is_refused_by_name(values: dict[str, Any], says: str) -> None:
    with pytest.raises(InvalidValue, match=says):
        StaticMove(**{"shape": Shape.BELL, "frequency_hz": 100.0, **values})


@pytest.mark.parametrize(
    ("values", "says"),
    [
        ({"stretches": ((2.0, 1.0),)}, "must begin before it ends"),
        ({"stretches": ((0.0, 2.0), (1.0, 3.0))}, "after the one before ends"),
        ({"fade_ms": -1.0}, "fade_ms is -1.0"),
        ({"id": -1}, "id is -1"),
    ],
)
def test_an_entry_that_can_not_be_is_refused_by_name(values: dict[str, Any], says: str) -> None:
    with pytest.raises(InvalidValue, match=says):
        Entry(move=BELL, **values)


def test_a_treatment_has_ids_of_its_own_and_bounded_amounts() -> None:
    with pytest.raises(InvalidValue, match="id is 3, but each move needs an id of its own"):
        Treatment(entries=(Entry(id=3, move=BELL), Entry(id=3, move=BELL)))
    with pytest.raises(InvalidValue, match=r"amounts\.all is 2"):
        Treatment(amounts={"all": 2.0})
    with pytest.raises(InvalidValue, match="at most 200 moves"):
        Treatment.of([BELL] * 201)


def test_what_stands_behind_acts_last() -> None:
    entries = (Entry(id=1, move=BELL, place=Place.BEHIND), Entry(id=2, move=BELL))
    assert [e.id for e in Treatment(entries=entries).heard()] == [2, 1]


moves = st.builds(
    StaticMove,
    st.sampled_from([s for s in Shape if not s.has_slope]),
    st.floats(10, 24_000),
    q=st.floats(0.1, 100),
    gain_db=st.floats(-30, 30),
) | st.builds(
    StaticMove,
    st.sampled_from([Shape.LOW_CUT, Shape.HIGH_CUT]),
    st.floats(10, 24_000),
    q=st.floats(0.1, 100),
    slope_db_per_octave=st.sampled_from([12, 18, 24, 36, 48]),
)
entries = st.builds(
    Entry,
    id=st.integers(0, 2**32 - 1),
    move=moves,
    enabled=st.booleans(),
    channels=st.sampled_from(Channels),
    place=st.sampled_from(Place),
    stretches=st.lists(st.floats(0, 1_000), min_size=2, max_size=6, unique=True).map(
        lambda x: tuple(zip(sorted(x)[::2], sorted(x)[1::2], strict=False))
    ),
    links=st.lists(st.text(max_size=10), max_size=3).map(tuple),
    note=st.text(max_size=50),
)


@given(entries)
def test_any_entry_comes_back_from_its_document(entry: Entry) -> None:
    text = json.dumps(description.entry_document(entry))
    assert description.read_entry(json.loads(text)) == entry


@given(entries)
def test_any_entry_sounds_the_same_after_a_plain_document(entry: Entry) -> None:
    again = description.read_plain(json.loads(json.dumps(description.plain_document(entry))), entry_id=entry.id)
    assert again.move.shape == entry.move.shape
    for name in ("frequency_hz", "q", "gain_db", "slope_db_per_octave"):
        if name not in (*entry.move.absent, *entry.move.implied):
            assert getattr(again.move, name) == getattr(entry.move, name)
    assert (again.stretches, again.channels, again.enabled) == (entry.stretches, entry.channels, entry.enabled)


@given(st.recursive(st.none() | st.booleans() | st.floats() | st.text(max_size=5), lambda x: st.lists(x, max_size=3)))
def test_no_value_of_any_field_gets_past_the_types(value: Any) -> None:
    for name in (*description.move_fields(StaticMove), *description.ENTRY_FIELDS):
        try:
            entry = description.read_entry({"shape": "bell", "frequency_hz": 100.0, name: value})
        except InvalidValue:
            continue
        assert isinstance(entry, Entry)


def test_unknown_keys_are_refused_by_name() -> None:
    with pytest.raises(UnknownKey, match="colour is not a known key"):
        description.read_entry({"shape": "bell", "frequency_hz": 100.0, "colour": "red"})


def test_a_new_kind_is_known_everywhere_once_it_is_in_the_union(monkeypatch: pytest.MonkeyPatch) -> None:
    @dataclass(frozen=True)
    class Wobble:
        __pydantic_config__: ClassVar[dict[str, str]] = {"extra": "forbid"}
        frequency_hz: float
        depth: float = 0.5
        mode: Literal["wobble"] = "wobble"
        absent: ClassVar[tuple[str, ...]] = ()
        implied: ClassVar[tuple[str, ...]] = ()
        needed: ClassVar[tuple[str, ...]] = ()

    monkeypatch.setattr(kinds, "Move", StaticMove | Wobble)
    assert move_kinds() == (StaticMove, Wobble)
    description.kind_of.cache_clear()
    try:
        assert description.read_move({"mode": "wobble", "frequency_hz": 3.0}) == Wobble(3.0)
        assert description.move_document(Wobble(3.0)) == {"frequency_hz": 3.0, "depth": 0.5, "mode": "wobble"}
        union = description.flat_union("AnyMove")
        schema = description.TypeAdapter(union).json_schema()
        assert len(schema["oneOf"]) == 2
        assert "depth" in schema["$defs"]["WobbleAnyMove"]["properties"]
    finally:
        description.kind_of.cache_clear()
