"""What stays in a track while others play: rings planted in a room that hears two players."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivlo.core import treat
from mivlo.core.errors import BadAudio, InvalidValue
from mivlo.core.learning import LEAST_LIKENESS, learn, learn_of_mix
from tests.core.rooms import RATE, in_room, players


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_rings_of_a_room_are_learned_and_no_note(seed: int) -> None:
    played = players(12.0, seed)
    room = in_room(played, [(339.0, 30.0, 10.0), (801.0, 35.0, 10.0)], seed)
    learned = learn(room, played, sample_rate=RATE, from_hz=200.0, to_hz=4_000.0)
    assert learned.likeness > LEAST_LIKENESS
    assert len(learned.moves) == 2
    for move, hz in zip(learned.moves, (339.0, 801.0), strict=True):
        assert abs(1_200 * np.log2(move.frequency_hz / hz)) < 25.0
        assert -12.0 <= move.gain_db < -4.0
    x, y = (
        np.abs(np.fft.rfft(part, axis=0)) ** 2 for part in (room, treat(room, list(learned.moves), sample_rate=RATE))
    )
    at = np.fft.rfftfreq(len(room), 1 / RATE)
    for centre in 1_000.0 * 2.0 ** (np.arange(-6, 8) / 3):  # no other third octave loses anything to speak of
        band = np.abs(np.log2(np.maximum(at, 1.0) / centre)) < 1 / 6
        if not any(abs(np.log2(hz / centre)) < 1 / 6 for hz in (339.0, 801.0)):
            assert abs(10 * np.log10(y[band].sum() / x[band].sum())) < 1.0


def test_a_room_without_rings_teaches_nothing_and_a_player_is_no_room() -> None:
    played = players(12.0, 4)
    assert learn(in_room(played, [], 4), played, sample_rate=RATE, from_hz=200.0, to_hz=4_000.0).moves == ()
    assert learn(played[0], played[1:], sample_rate=RATE, from_hz=200.0, to_hz=4_000.0).likeness < LEAST_LIKENESS


def test_only_what_lies_in_the_range_is_learned() -> None:
    played = players(12.0, 5)
    room = in_room(played, [(339.0, 30.0, 10.0), (801.0, 35.0, 10.0)], 5)
    (move,) = learn(room, played, sample_rate=RATE, from_hz=500.0, to_hz=2_000.0).moves
    assert 780.0 < move.frequency_hz < 820.0
    with pytest.raises(InvalidValue):
        learn(room, played, sample_rate=RATE, from_hz=500.0, to_hz=400.0)


@given(st.integers(0, 150_000), st.integers(0, 150_000), st.integers(1, 2), st.floats(0.0, 3.0))
@settings(max_examples=15)
def test_any_lengths_are_learned_from_or_refused(frames: int, other: int, channels: int, lead: float) -> None:
    random = np.random.default_rng(frames)
    x = random.standard_normal((frames, channels)) * 0.1
    try:
        learned = learn(x, [random.standard_normal((other, 1)) * 0.1], sample_rate=RATE, lead_s=lead)
    except BadAudio:
        return
    assert len(learned.moves) <= 6
    assert 0.0 <= learned.likeness <= 1.0


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_mix_learns_what_rings_in_its_room_where_that_is_to_be_heard(seed: int) -> None:
    played = players(12.0, seed)
    room = in_room(played, [(339.0, 30.0, 10.0), (801.0, 35.0, 10.0)], seed)
    for gain, heard in ((12.0, True), (0.05, False)):
        tracks = [*played, gain * room]
        mix = sum(np.mean(track, axis=1, keepdims=True) for track in tracks)
        learned = learn_of_mix(mix, tracks, sample_rate=RATE, from_hz=200.0, to_hz=4_000.0)
        assert learned.rooms == (3,)
        assert max(learned.likenesses) == learned.likenesses[3]
        places = [move.frequency_hz for move in learned.moves]
        assert len(places) == (2 if heard else 0)
        for place, hz in zip(places, (339.0, 801.0), strict=False):
            assert abs(1_200 * np.log2(place / hz)) < 25.0


def test_a_mix_without_a_room_teaches_nothing() -> None:
    played = players(12.0, 4)
    learned = learn_of_mix(sum(played), played, sample_rate=RATE)
    assert (learned.moves, learned.rooms) == ((), ())
    assert max(learned.likenesses) < LEAST_LIKENESS
    with pytest.raises(BadAudio):
        learn_of_mix(sum(played)[:RATE], [p[:RATE] for p in played], sample_rate=RATE)
    with pytest.raises(InvalidValue):
        learn_of_mix(sum(played), played, sample_rate=RATE, from_hz=500.0, to_hz=400.0)


@given(st.integers(1, 5), st.floats(-40.0, 40.0), st.permutations(range(4)), st.sampled_from([0.0, 1.0]))
@settings(max_examples=8)
def test_what_a_mix_learns_is_what_its_rooms_say_and_is_heard_over_the_rest(
    seed: int, room_db: float, order: list[int], lead_s: float
) -> None:
    """However loud the room is over the players: each track's power is taken away from that of all."""
    played = players(12.0, seed)
    room = 10.0 ** (room_db / 20.0) * in_room(played, [(339.0, 30.0, 10.0), (801.0, 35.0, 10.0)], seed)
    tracks = [[*played, room][i] for i in order]
    mix = sum(np.mean(track, axis=1, keepdims=True) for track in tracks)
    how = {"sample_rate": RATE, "from_hz": 200.0, "to_hz": 4_000.0, "lead_s": lead_s}
    learned = learn_of_mix(mix, tracks, **how)
    alone = learn(room, played, **how).moves
    assert learned.rooms == (order.index(3),)
    near = [
        move
        for move in learn(mix, played, **how).moves
        if any(abs(np.log2(move.frequency_hz / ring.frequency_hz)) < 1 / 24 for ring in alone)
    ]
    assert [m.frequency_hz for m in learned.moves] == pytest.approx([m.frequency_hz for m in near], rel=1e-6)
    assert [m.gain_db for m in learned.moves] == pytest.approx([m.gain_db for m in near], abs=1e-3)
