"""Findings of a song: looked for once, decided for good, kept over new looks, said once for several tracks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import select

from mivlo.core.errors import InvalidValue
from mivlo.core.findings import Finding, Kind
from mivlo.core.findings.ensemble import Beside
from mivlo.core.findings.own_moments import LEAST_S
from mivlo.core.graph import treat
from mivlo.core.moves import Entry, Shape, StaticMove
from mivlo.core.units import Floats, cents_between, octaves_to_q
from mivlo.services.errors import NotFound, StaleRevision
from mivlo.services.findings import comparing
from mivlo.services.findings import deciding as findings
from mivlo.services.findings import looking as analysing
from mivlo.services.findings.deciding import FindingState, TrackFindings
from mivlo.services.findings.weighing import weigh
from mivlo.services.song import edits, moves, songs, strips
from mivlo.services.tasks.tasks import set_task
from mivlo.store.database import session
from mivlo.store.models import FindingRow, LookRow
from tests.conftest import bring_in, song_state
from tests.core.findings.sounds import RATE, melody
from tests.core.findings.test_ensemble import EARLY, LATE, coloured, ringing, strokes
from tests.core.rooms import RATE as ROOM_RATE
from tests.core.rooms import in_room, players
from tests.patience import until
from tests.scenes import scene

RING_HZ = 847.0


def _ringing(seed: int) -> Floats:
    move = StaticMove(Shape.BELL, RING_HZ, q=octaves_to_q(0.12), gain_db=14.0)
    return treat(melody(length_s=8.0, seed=seed)[:, None], [move], sample_rate=RATE)


@pytest.fixture
def song(database_url: str, write_wav) -> int:  # type: ignore[no-untyped-def]
    """A song with two tracks that ring at one place, looked at."""

    def make() -> int:
        with session() as s:
            song_id = songs.create_song(s, "Weir", RATE).id
        for seed in (1, 4):
            bring_in(song_id, write_wav(_ringing(seed), name=f"{seed}_Marimba.wav"))
        _look(song_id)
        return song_id

    song_id = scene("two that ring", make)
    _seen[song_id] = _keys(song_id)
    return song_id


_seen: dict[int, dict[int, str]] = {}


def _look(song_id: int) -> int:
    """Do all the looking that is due; how many tracks were looked at since the last time.

    The worker of the browser tests, if there is one, may do some of it.
    """
    with session() as s:
        tasks = analysing.request_stale(s, song_id)
    for task in tasks:
        analysing.run_analysis(task)
        set_task(task, state="done")
    until(lambda: _all_fresh(song_id), "nobody looks at the tracks")
    _compare(song_id)
    now = _keys(song_id)
    before = _seen.get(song_id, {})
    _seen[song_id] = now
    return sum(now[track] != before.get(track) for track in now)


def _compare(song_id: int) -> None:
    """Have the tracks compared, by us or by that worker."""
    with session() as s:
        task = comparing.request_comparison(s, song_id)
    if task is not None:
        comparing.run_comparison(task)
        set_task(task, state="done")
    until(lambda: _is_compared(song_id), "nobody compares the tracks")


def _is_compared(song_id: int) -> bool:
    with session() as s:
        return comparing.is_compared(s, song_id)


def _keys(song_id: int) -> dict[int, str]:
    with session() as s:
        ids = [t.id for t in song_state(song_id).tracks]
        rows = s.scalars(select(LookRow).where(LookRow.strip_id.in_(ids)))
        return {row.strip_id: row.key for row in rows}


def _all_fresh(song_id: int) -> bool:
    state = song_state(song_id)
    known = _keys(song_id)
    return all(known.get(t.id) == analysing.analysis_key(state, t) for t in state.tracks)


def _found(song_id: int, track: int = 0) -> TrackFindings:
    with session() as s:
        return findings.track_findings(s, song_id, song_state(song_id).tracks[track].id)


def _ring(song_id: int, track: int = 0) -> FindingState:
    for f in _found(song_id, track).findings:
        if abs(cents_between(RING_HZ, f.document.frequency_hz)) < 60:
            return f
    raise AssertionError("the ring is not among the findings")


def test_tracks_are_looked_at_once_until_something_they_depend_on_changes(song: int) -> None:
    assert _look(song) == 0
    tracks = song_state(song).tracks
    with session() as s:
        strips.change_strip(s, song, tracks[0].id, None, {"fader_db": -3.0, "name": "Else", "turned": True})
    assert _look(song) == 0
    with session() as s:
        strips.change_strip(s, song, tracks[0].id, None, {"role": "voice"})
    assert _look(song) == 1
    with session() as s:
        songs.change_song_values(s, song, None, {"passage_from_s": 1.0, "passage_to_s": 6.0})
    assert _look(song) == 0
    with session() as s:
        songs.change_song_values(s, song, None, {"look_in_passage": True})
    assert _look(song) == 2
    found = _found(song)
    assert (found.from_s, found.to_s) == (1.0, 6.0)
    assert all(1.0 <= f.document.worst_s <= 6.0 for f in found.findings)


def test_a_look_that_was_overtaken_does_not_undo_the_newer_one(song: int, monkeypatch: pytest.MonkeyPatch) -> None:
    track = song_state(song).tracks[0].id
    with session() as s:
        strips.change_strip(s, song, track, None, {"role": "voice"})
        (late,) = analysing.request_stale(s, song)
    look = analysing._look

    def slowly(*how: Any) -> Any:
        """While it looks, another worker has done the same and is over; then the role changes, and that is looked at."""
        monkeypatch.setattr(analysing, "_look", look)
        set_task(late, state="done")
        with session() as s:
            strips.change_strip(s, song, track, None, {"role": "bass"})
        _look(song)
        assert _found(song).fresh
        return look(*how)

    monkeypatch.setattr(analysing, "_look", slowly)
    analysing.run_analysis(late)
    assert _found(song).fresh


def test_accepting_makes_the_proposed_move_and_one_undo_takes_both_back(song: int) -> None:
    ring = _ring(song)
    with session() as s:
        move_id = findings.accept(s, song, ring.id, song_state(song).revision)
    made = song_state(song).tracks[0].moves
    assert [m["id"] for m in made] == [move_id]
    assert song_state(song).tracks[0].entries[0].move == ring.document.entry().move
    assert (_ring(song).state, _ring(song).move_id) == ("accepted", move_id)
    assert song_state(song).tracks[0].decided_findings == 1
    with session() as s:
        assert edits.undo(s, song).startswith("Marimba: accept ring")
    assert song_state(song).tracks[0].moves == []
    assert _ring(song).state == "open"
    with session() as s:
        edits.redo(s, song)
    assert (_ring(song).state, _ring(song).move_id) == ("accepted", move_id)


def test_after_an_accepted_cut_the_treated_sound_is_looked_at_and_the_same_is_not_offered_again(song: int) -> None:
    ring = _ring(song)
    with session() as s:
        findings.accept(s, song, ring.id, None)
    assert _look(song) == 1
    after = _found(song)
    assert after.treated
    near = [f for f in after.findings if abs(cents_between(RING_HZ, f.document.frequency_hz)) < 60]
    assert [f.state for f in near] == ["accepted"]
    left = near[0].left_db
    assert left is None or left < ring.document.excess_db - 2.0


def test_an_adjusted_move_is_made_in_place_of_the_proposed_one(song: int) -> None:
    mine = StaticMove(Shape.BELL, 850.0, q=9.0, gain_db=-4.0)
    with session() as s:
        findings.accept(s, song, _ring(song).id, None, Entry(move=mine))
    assert song_state(song).tracks[0].entries[0].move == mine


def test_what_is_no_problem_stays_away_until_it_is_taken_back(song: int) -> None:
    ring = _ring(song)
    with session() as s:
        findings.reject(s, song, ring.id, None)
    with session() as s:  # another role: everything is looked at anew
        strips.change_strip(s, song, song_state(song).tracks[0].id, None, {"role": "guitar"})
    assert _look(song) == 1
    near = [f for f in _found(song).findings if abs(cents_between(RING_HZ, f.document.frequency_hz)) < 60]
    assert [(f.id, f.state) for f in near] == [(ring.id, "rejected")]
    with session() as s:
        findings.reopen(s, song, ring.id, None)
    assert _ring(song).state == "open"


def test_a_deleted_move_opens_its_finding_again(song: int) -> None:
    with session() as s:
        move_id = findings.accept(s, song, _ring(song).id, None)
    with session() as s:
        moves.delete_move(s, song, move_id, None)
    assert _ring(song).state == "open"
    _look(song)
    assert _ring(song).state == "open"
    assert song_state(song).tracks[0].decided_findings == 0


def test_taking_an_accepted_one_back_removes_its_move(song: int) -> None:
    ring = _ring(song)
    with session() as s:
        findings.accept(s, song, ring.id, None)
    with session() as s:
        findings.reopen(s, song, ring.id, None)
    assert song_state(song).tracks[0].moves == []
    assert _ring(song).state == "open"


def test_accepting_twice_makes_one_move(song: int) -> None:
    ring = _ring(song)
    with session() as s:
        first = findings.accept(s, song, ring.id, None)
    with session() as s:
        assert findings.accept(s, song, ring.id, None) == first
    assert len(song_state(song).tracks[0].moves) == 1


def test_undoing_an_accept_gives_back_what_was_decided_before(song: int) -> None:
    ring = _ring(song)
    with session() as s:
        findings.reject(s, song, ring.id, None)
    with session() as s:
        findings.accept(s, song, ring.id, None)
    with session() as s:
        edits.undo(s, song)
    assert _ring(song).state == "rejected"
    with session() as s:
        edits.undo(s, song)
    assert _ring(song).state == "open"


def test_a_look_never_reopens_what_was_decided(song: int) -> None:
    ring = _ring(song)
    with session() as s:
        move_id = findings.accept(s, song, ring.id, None)
    with session() as s:
        analysing.keep_findings(s, ring.track_id, [])
    assert (_ring(song).state, _ring(song).move_id) == ("accepted", move_id)


def test_what_repeats_across_tracks_is_said_once(song: int) -> None:
    with session() as s:
        repeated = findings.repeats(s, song)
    same = [r for r in repeated if abs(cents_between(RING_HZ, r.frequency_hz)) < 60]
    assert len(same) == 1
    assert same[0].track_ids == sorted(t.id for t in song_state(song).tracks)
    assert _ring(song).in_tracks == 2


def test_a_finding_that_is_gone_is_hidden_and_comes_back_with_its_number(song: int) -> None:
    track = song_state(song).tracks[0].id
    with session() as s:
        before = _finding_of(s.scalars(select(FindingRow).where(FindingRow.strip_id == track)).first())
        analysing.keep_findings(s, track, [])
    assert song_state(song).tracks[0].open_findings == 0
    with session() as s:
        analysing.keep_findings(s, track, [replace(before, frequency_hz=before.frequency_hz * 1.004)])
    assert song_state(song).tracks[0].open_findings == 1


def _finding_of(row: FindingRow | None) -> Finding:
    assert row is not None
    return Finding(
        Kind(row.kind),
        row.frequency_hz,
        row.bandwidth_oct,
        9.0,
        0.8,
        StaticMove(Shape.BELL, row.frequency_hz, gain_db=-5.0),
    )


def test_changes_against_an_old_state_or_of_nothing_are_refused(song: int) -> None:
    ring = _ring(song)
    with session() as s, pytest.raises(StaleRevision):
        findings.accept(s, song, ring.id, song_state(song).revision - 1)
    with session() as s, pytest.raises(NotFound):
        findings.reject(s, song, 999_999, None)
    with pytest.raises(InvalidValue):
        StaticMove(Shape.BELL, 850.0, gain_db=-99.0)


def test_a_track_that_is_too_short_has_none_and_is_not_looked_at_again_and_again(db: None, write_wav) -> None:  # type: ignore[no-untyped-def]
    with session() as s:
        song_id = songs.create_song(s, "Weir", RATE).id
    bring_in(song_id, write_wav(np.full((500, 1), 0.1), name="Click.wav"))
    assert _look(song_id) == 1
    assert _look(song_id) == 0
    assert _found(song_id).findings == []


def test_a_room_is_looked_at_with_what_the_others_play_into_it_and_anew_when_that_changes(
    db: None, write_wav: Callable[..., Path]
) -> None:
    played = players(8.0, 1)
    room = in_room(played, [(801.0, 35.0, 12.0)], 1)
    with session() as s:
        song_id = songs.create_song(s, "Weir", ROOM_RATE).id
    for name, x in (("Piano", played[0]), ("Room", room)):
        bring_in(song_id, write_wav(x, name=f"{name}.wav", rate=ROOM_RATE))
    assert _look(song_id) == 2
    assert not _of_room(song_id, 1)  # one other alone may be the room of this one
    for name, x in (("Flute", played[1]), ("Drums", played[2])):
        bring_in(song_id, write_wav(x, name=f"{name}.wav", rate=ROOM_RATE))
    assert _look(song_id) == 3  # the new ones and the room
    (ring,) = _of_room(song_id, 1)
    assert abs(cents_between(801.0, ring.document.frequency_hz)) < 25
    assert ring.song_says == ""  # its look has heard the others: nothing is said twice
    ids = [t.id for t in song_state(song_id).tracks]
    with session() as s:
        strips.change_strip(s, song_id, ids[2], None, {"fader_db": -3.0})
    assert _look(song_id) == 0
    with session() as s:
        strips.delete_strip(s, song_id, ids[0], None)
    assert _look(song_id) == 1
    with session() as s:  # what is no room any more is told about by itself
        strips.change_strip(s, song_id, ids[1], None, {"role": "other"})
    assert _look(song_id) == 1
    assert not _of_room(song_id, 0)


def test_a_long_track_is_looked_at_anew_when_who_plays_beside_it_changes(
    db: None, write_wav: Callable[..., Path]
) -> None:
    played = players(LEAST_S + 1.0, 3)
    with session() as s:
        song_id = songs.create_song(s, "Sluice", ROOM_RATE).id
    for name, x in (("Piano", played[0]), ("Flute", played[1]), ("Click", played[2][: 4 * ROOM_RATE])):
        bring_in(song_id, write_wav(x, name=f"{name}.wav", rate=ROOM_RATE))
    assert _look(song_id) == 3
    ids = [t.id for t in song_state(song_id).tracks]
    with session() as s:
        strips.change_strip(s, song_id, ids[1], None, {"fader_db": -3.0})
    assert _look(song_id) == 0
    bring_in(song_id, write_wav(played[2], name="Drums.wav", rate=ROOM_RATE))
    assert _look(song_id) == 3  # the new one and both long ones; of the short one nobody else tells anything
    with session() as s:
        strips.delete_strip(s, song_id, ids[1], None)
    assert _look(song_id) == 2
    assert sorted(_heard_beside(song_id, 0)) == ["Click", "Drums"]
    assert _heard_beside(song_id, 1) == []
    with session() as s:  # in a passage too short to tell what is whose nobody else is heard, but for a room
        songs.change_song_values(
            s, song_id, None, {"passage_from_s": 2.0, "passage_to_s": 8.0, "look_in_passage": True}
        )
    assert _heard_beside(song_id, 0) == []
    with session() as s:
        strips.change_strip(s, song_id, ids[0], None, {"role": "room"})
    assert sorted(_heard_beside(song_id, 0)) == ["Click", "Drums"]
    assert _heard_beside(song_id, 2) == []  # a room plays nothing


def _heard_beside(song_id: int, track: int) -> list[str]:
    state = song_state(song_id)
    return [t.name for t in analysing.playing_beside(state, state.tracks[track])]


def _of_room(song_id: int, track: int) -> list[FindingState]:
    return [f for f in _found(song_id, track).findings if "into this room" in f.document.says]


def test_what_was_decided_of_its_like_in_another_track_moves_the_confidence_and_is_said(song: int) -> None:
    _look(song)
    before, said = _ring(song, 1).document.confidence, _ring(song, 1).song_says
    assert "The same" not in said
    with session() as s:
        findings.accept(s, song, _ring(song).id, None)
    accepted = _ring(song, 1)
    assert before < accepted.document.confidence < 1.0
    assert accepted.song_says == f"The same was accepted in another track. {said}".strip()
    with session() as s:
        edits.undo(s, song)
    assert _ring(song, 1).document.confidence == before
    with session() as s:
        findings.reject(s, song, _ring(song).id, None)
    rejected = _ring(song, 1)
    assert rejected.document.confidence < before
    assert rejected.song_says == f"The same was no problem in another track. {said}".strip()
    with session() as s:  # what is decided itself stays as it was said
        findings.reject(s, song, rejected.id, None)
    assert _ring(song, 1).song_says == ""


@given(
    st.floats(0.0, 1.0),
    st.lists(st.sampled_from(["open", "accepted", "rejected"]), max_size=20),
    st.randoms(note_method_calls=False),
)
def test_decisions_move_a_confidence_a_little_in_their_own_sense(sure: float, decided: list[str], random: Any) -> None:
    weighed = weigh(sure, decided)
    mixed = random.sample(decided, len(decided))
    assert weigh(sure, mixed) == weighed
    assert 0.0 <= weighed.confidence <= 1.0
    more, less = weigh(sure, [*decided, "accepted"]), weigh(sure, [*decided, "rejected"])
    assert less.confidence <= more.confidence
    if "accepted" not in decided and "rejected" not in decided:
        assert weighed.confidence == sure
    if 0.05 < sure < 0.95:
        assert abs(np.log(weighed.confidence / (1 - weighed.confidence)) - np.log(sure / (1 - sure))) <= 1.6


_numbers = st.integers(1, 5)
_besides = st.builds(
    Beside,
    lacking_db=st.none() | st.floats(-20.0, 20.0),
    spill_of=st.none() | _numbers,
    spill_ms=st.none() | st.floats(0.0, 60.0),
    rings_in=st.lists(_numbers, max_size=4, unique=True).map(tuple),
    notes_of=st.lists(_numbers, max_size=4, unique=True).map(tuple),
)


@given(st.floats(0.0, 1.0), _besides, st.dictionaries(_numbers, st.just("Cello")))
def test_what_other_tracks_sound_like_moves_a_confidence_and_says_so_or_does_neither(
    sure: float, beside: Beside, names: dict[int, str]
) -> None:
    weighed = weigh(sure, [], beside, names)
    assert 0.0 <= weighed.confidence <= 1.0
    if not weighed.says:
        assert weighed.confidence == sure
    elif 0.05 < sure < 0.95:
        for_it = "stands" in weighed.says or "rings" in weighed.says
        assert (weighed.confidence > sure) is for_it
    assert weigh(sure, [], Beside(), names) == weigh(sure, [])


def test_a_ring_that_a_twin_lacks_and_its_spill_are_told_apart(db: None, write_wav) -> None:  # type: ignore[no-untyped-def]
    x = strokes(3, EARLY)
    twin = coloured(ringing(x, RING_HZ, 14.0), 7)
    late = round(0.012 * RATE)
    spill = 0.1 * np.concatenate([np.zeros(late), twin[:-late]])
    with session() as s:
        song_id = songs.create_song(s, "Weir", RATE).id
    for name, sound in (("Top", coloured(x, 6)), ("Bottom", twin), ("Tom", strokes(8, LATE) + spill)):
        bring_in(song_id, write_wav(sound[:, None], name=f"{name}.wav"))
    _look(song_id)
    ring = _ring(song_id, 1)
    assert ring.song_says.startswith("It stands ")
    with session() as s:
        alone = s.get_one(FindingRow, ring.id).document["confidence"]
    assert ring.document.confidence > alone
    assert not [f for f in _found(song_id, 0).findings if "It stands" in f.song_says]
    there = [f for f in _found(song_id, 2).findings if abs(np.log2(f.document.frequency_hz / RING_HZ)) < 0.05]
    assert all("spill of" in f.song_says for f in there)
    assert _look(song_id) == 0
    with session() as s:
        assert comparing.request_comparison(s, song_id) is None  # nothing has changed
