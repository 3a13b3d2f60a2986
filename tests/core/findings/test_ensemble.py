"""What the other tracks of a song say of a spot: twins, spill, rooms, notes that several play."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivlo.core.errors import BadAudio
from mivlo.core.findings.ensemble import Beside, Ensemble, look_together
from mivlo.core.graph import treat
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.units import Floats, octaves_to_q

RATE = 48_000
SECONDS = 8.0
RING_OCT = 0.06

places = st.floats(200.0, 3_000.0)
gains_db = st.floats(-25.0, 10.0)
seeds = st.integers(0, 1_000)


def strokes(seed: int, at_s: tuple[float, ...]) -> Floats:
    """Bursts of noise that die away, each of another colour: something struck."""
    random = np.random.default_rng(seed)
    out = np.zeros(round(SECONDS * RATE))
    for start in at_s:
        n = round(0.35 * RATE)
        burst = random.standard_normal(n) * np.exp(-np.arange(n) / (0.12 * RATE)) * random.uniform(0.5, 1.0)
        first = round(start * RATE)
        out[first : first + n] += burst[: len(out) - first]
    return out * 0.2


def ringing(x: Floats, hz: float, gain_db: float = 12.0) -> Floats:
    bell = StaticMove(Shape.BELL, hz, q=octaves_to_q(RING_OCT), gain_db=gain_db)
    return treat(x[:, None], [bell], sample_rate=RATE)[:, 0]


def coloured(x: Floats, seed: int) -> Floats:
    """Another microphone: a broad colour of its own, and its hiss."""
    random = np.random.default_rng(seed)
    moves = [
        StaticMove(Shape.BELL, float(hz), q=0.5, gain_db=float(random.uniform(-6, 6)))
        for hz in (150, 600, 2_400, 8_000)
    ]
    return treat(x[:, None], moves, sample_rate=RATE)[:, 0] + 1e-5 * random.standard_normal(len(x))


def together(*tracks: Floats) -> Ensemble:
    return look_together([x[:, None].astype(np.float32) for x in tracks], sample_rate=RATE)


def gain(db: float) -> float:
    return float(10.0 ** (db / 20.0))


EARLY = (0.2, 0.9, 1.6, 2.3, 3.0, 3.6)
LATE = (4.2, 4.9, 5.6, 6.2, 6.9, 7.5)


@settings(max_examples=12)
@given(places, gains_db, seeds)
def test_a_ring_in_one_of_two_twins_is_told_by_how_far_the_other_lacks_it(hz: float, db: float, seed: int) -> None:
    x = strokes(seed, EARLY + LATE)
    song = together(coloured(x, seed + 1), gain(db) * coloured(ringing(x, hz), seed + 2))
    assert song.explained(0).share > 0.75
    said = song.beside(1, hz, RING_OCT)
    assert said.lacking_db is not None
    # over its whole width a bell of 12 dB lifts by less than at its centre
    assert 5.0 < said.lacking_db < 13.0
    assert song.beside(0, hz, RING_OCT).lacking_db is None or song.beside(0, hz, RING_OCT).lacking_db < 0.0  # type: ignore[operator]


@settings(max_examples=12)
@given(places, seeds)
def test_a_ring_in_both_twins_speaks_for_neither(hz: float, seed: int) -> None:
    x = ringing(strokes(seed, EARLY + LATE), hz)
    song = together(coloured(x, seed + 1), coloured(x, seed + 2))
    for track in (0, 1):
        lacking = song.beside(track, hz, RING_OCT).lacking_db
        assert lacking is None or abs(lacking) < 1.5


@settings(max_examples=12)
@given(places, st.floats(3.0, 40.0), st.floats(-30.0, -14.0), seeds)
def test_spill_is_told_with_where_it_comes_from_and_how_late(hz: float, ms: float, db: float, seed: int) -> None:
    drum = ringing(strokes(seed, EARLY), hz, 15.0)
    late = round(ms / 1000.0 * RATE)
    spill = gain(db) * np.concatenate([np.zeros(late), drum[: len(drum) - late]])
    song = together(drum, strokes(seed + 1, LATE) + spill)
    said = song.beside(1, hz, RING_OCT)
    assert said.spill_of == 0
    assert said.spill_ms is None or abs(said.spill_ms - ms) < 2.0
    assert song.beside(0, hz, RING_OCT).spill_of is None


@settings(max_examples=12)
@given(st.floats(400.0, 3_000.0), seeds)
def test_a_room_rings_in_all_that_is_played_in_it(hz: float, seed: int) -> None:
    """Below 400 Hz eight seconds of strokes are too few frames: in half of such songs nothing is said."""
    dry = strokes(seed, EARLY), strokes(seed + 1, LATE), strokes(seed + 2, EARLY + LATE)
    song = together(ringing(dry[0], hz), ringing(dry[1], hz), dry[2])
    assert song.beside(0, hz, RING_OCT).rings_in == (1,)
    assert song.beside(1, hz, RING_OCT).rings_in == (0,)


def notes(seed: int, hz: float, when: tuple[float, ...], other: float) -> Floats:
    """A pitch at some times and others at the rest, with a few partials."""
    random = np.random.default_rng(seed)
    out = 1e-5 * random.standard_normal(round(SECONDS * RATE))
    for k in range(16):
        start = k * 0.5
        pitch = hz if start in when else other * 2.0 ** (int(random.integers(0, 5)) / 12.0)
        t = np.arange(round(0.48 * RATE)) / RATE
        tone = sum(np.sin(2 * np.pi * pitch * h * t) * random.uniform(0.4, 1.0) / h for h in (1, 2, 3))
        first = round(start * RATE)
        out[first : first + len(t)] += 0.1 * tone * np.minimum(1.0, np.minimum(t, t[::-1]) / 0.02)
    return out


@settings(max_examples=12)
@given(st.floats(200.0, 1_000.0), seeds)
def test_a_pitch_that_several_play_at_a_time_is_a_note_of_the_piece(hz: float, seed: int) -> None:
    when = (1.0, 2.5, 3.0, 5.5, 7.0)
    never = strokes(seed, EARLY)
    song = together(*(notes(seed + k, hz, when, hz * 2.0 ** (by / 12.0)) for k, by in enumerate((-9, -6, 2.5))), never)
    assert song.beside(0, hz, 0.04).notes_of == (1, 2)
    alone = together(notes(seed, hz, when, hz * 0.6), never, strokes(seed + 5, LATE))
    assert alone.beside(0, hz, 0.04).notes_of == ()


@settings(max_examples=12)
@given(places, st.permutations([0, 1, 2]), st.lists(gains_db, min_size=3, max_size=3), seeds)
def test_neither_order_nor_level_of_the_tracks_matters(hz: float, order: list[int], db: list[float], seed: int) -> None:
    tracks = [ringing(strokes(seed, EARLY), hz), ringing(strokes(seed + 1, LATE), hz), strokes(seed + 2, EARLY)]
    song = together(*tracks)
    other = together(*(gain(db[k]) * tracks[k] for k in order))
    for at, k in enumerate(order):
        assert {order[i] for i in other.beside(at, hz, RING_OCT).rings_in} == set(song.beside(k, hz, RING_OCT).rings_in)


@settings(max_examples=6)
@given(places, seeds)
def test_a_room_microphone_is_nobodys_source_and_hides_no_spill(hz: float, seed: int) -> None:
    drum, other = ringing(strokes(seed, EARLY), hz, 15.0), strokes(seed + 1, LATE)
    tracks = [drum, other + 0.05 * drum, coloured(drum + other, seed + 3)]
    song = look_together([x[:, None].astype(np.float32) for x in tracks], sample_rate=RATE, rooms=[2])
    assert song.beside(1, hz, RING_OCT).spill_of == 0
    assert song.beside(0, hz, RING_OCT).spill_of is None


def test_silence_tracks_of_any_length_and_a_track_alone_say_nothing() -> None:
    x = ringing(strokes(1, EARLY), 700.0)
    assert together(x).beside(0, 700.0, RING_OCT) == Beside()
    song = together(x, np.zeros(10), np.zeros(len(x)), x[:1])
    assert song.beside(1, 700.0, RING_OCT) == Beside()
    assert song.beside(2, 700.0, RING_OCT) == Beside()
    assert song.beside(0, 700.0, RING_OCT) == Beside()
    with pytest.raises(BadAudio):
        together(np.zeros(10))
