"""What stays in a track while others play: rings planted in a room that hears two players."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from mivlo.core import treat
from mivlo.core.errors import BadAudio, InvalidValue
from mivlo.core.learning import LEAST_LIKENESS, learn, learn_of_mix
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.units import Floats

RATE = 24_000


def _players(seconds: float, seed: int) -> list[Floats]:
    """Two that play notes of a scale, and one that strikes: (n, 1) each."""
    random = np.random.default_rng(seed)
    count = round(seconds * RATE)
    out = [np.zeros((count, 1)) for _ in range(3)]
    t = np.arange(round(0.6 * RATE)) / RATE
    for player in range(2):
        for at in np.arange(0.0, seconds - 0.7, 0.3):
            hz = 110.0 * 2.0 ** (random.choice([0, 2, 4, 5, 7, 9, 11, 12, 14, 16]) / 12)
            note = sum(np.sin(2 * np.pi * k * hz * t) / k for k in range(1, 20)) * np.exp(-t / 0.25)
            out[player][round(at * RATE) : round(at * RATE) + len(t), 0] += 0.1 * random.uniform(0.3, 1.0) * note
    for at in np.arange(0.1, seconds - 0.2, 0.45):
        hit = random.standard_normal(round(0.06 * RATE)) * np.linspace(1, 0, round(0.06 * RATE)) ** 2
        out[2][round(at * RATE) : round(at * RATE) + len(hit), 0] += 0.2 * hit
    return out


def _room(players: list[Floats], rings: list[tuple[float, float, float]], seed: int) -> Floats:
    """All of them in a room of 1.6 s, a pair of microphones, through bells (Hz, Q, dB)."""
    random = np.random.default_rng(seed)
    t = np.arange(round(1.6 * RATE)) / RATE
    answers = random.standard_normal((len(t), 2)) * 10.0 ** (-3.0 * t / 1.6)[:, None]
    answers[0] += 8.0
    dry = np.sum(players, axis=0)
    wet = signal.fftconvolve(dry, answers, axes=0)[: len(dry)] * 0.05
    bells = [StaticMove(Shape.BELL, hz, q=q, gain_db=db) for hz, q, db in rings]
    return treat(wet, bells, sample_rate=RATE)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_rings_of_a_room_are_learned_and_no_note(seed: int) -> None:
    players = _players(12.0, seed)
    room = _room(players, [(339.0, 30.0, 10.0), (801.0, 35.0, 10.0)], seed)
    learned = learn(room, players, sample_rate=RATE, from_hz=200.0, to_hz=4_000.0)
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
    players = _players(12.0, 4)
    assert learn(_room(players, [], 4), players, sample_rate=RATE, from_hz=200.0, to_hz=4_000.0).moves == ()
    assert learn(players[0], players[1:], sample_rate=RATE, from_hz=200.0, to_hz=4_000.0).likeness < LEAST_LIKENESS


def test_only_what_lies_in_the_range_is_learned() -> None:
    players = _players(12.0, 5)
    room = _room(players, [(339.0, 30.0, 10.0), (801.0, 35.0, 10.0)], 5)
    (move,) = learn(room, players, sample_rate=RATE, from_hz=500.0, to_hz=2_000.0).moves
    assert 780.0 < move.frequency_hz < 820.0
    with pytest.raises(InvalidValue):
        learn(room, players, sample_rate=RATE, from_hz=500.0, to_hz=400.0)


@given(st.integers(0, 150_000), st.integers(0, 150_000), st.integers(1, 2), st.floats(0.0, 3.0))
@settings(max_examples=15, deadline=None)
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
    players = _players(12.0, seed)
    room = _room(players, [(339.0, 30.0, 10.0), (801.0, 35.0, 10.0)], seed)
    for gain, heard in ((12.0, True), (0.05, False)):
        tracks = [*players, gain * room]
        mix = sum(np.mean(track, axis=1, keepdims=True) for track in tracks)
        learned = learn_of_mix(mix, tracks, sample_rate=RATE, from_hz=200.0, to_hz=4_000.0)
        assert learned.rooms == (3,)
        assert max(learned.likenesses) == learned.likenesses[3]
        places = [move.frequency_hz for move in learned.moves]
        assert len(places) == (2 if heard else 0)
        for place, hz in zip(places, (339.0, 801.0), strict=False):
            assert abs(1_200 * np.log2(place / hz)) < 25.0


def test_a_mix_without_a_room_teaches_nothing() -> None:
    players = _players(12.0, 4)
    learned = learn_of_mix(sum(players), players, sample_rate=RATE)
    assert (learned.moves, learned.rooms) == ((), ())
    assert max(learned.likenesses) < LEAST_LIKENESS
    with pytest.raises(BadAudio):
        learn_of_mix(sum(players)[:RATE], [p[:RATE] for p in players], sample_rate=RATE)
    with pytest.raises(InvalidValue):
        learn_of_mix(sum(players), players, sample_rate=RATE, from_hz=500.0, to_hz=400.0)
