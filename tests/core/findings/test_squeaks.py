"""Squeaks: recorded fret noise (program 120 of the sound font that is installed for the tests) over a played bass."""

from __future__ import annotations

import numpy as np
import pytest
from bench.findings.sources import all_sources, render
from hypothesis import example, given, settings
from hypothesis import strategies as st

from mivlo.core.findings import Kind, find
from mivlo.core.findings.squeaks import find_squeaks
from mivlo.core.units import Floats
from tests.core.findings.sounds import RATE, hits, melody

TIMES = (1.3, 3.1, 5.7)


@pytest.fixture(scope="module")
def bass() -> Floats:
    return {s.name: s for s in all_sources()}["tim 032"].clip(0)


@pytest.fixture(scope="module")
def with_fret_noise(bass: Floats) -> Floats:
    noise = render("tim", 120, [(2.0 * i, 0.6, note, 110) for i, note in enumerate((48, 55, 60))], tempo=120.0)
    out = bass.copy()
    for i, at in enumerate(TIMES):
        squeak = noise[i * RATE : i * RATE + RATE // 2]
        a = int(at * RATE)
        out[a : a + len(squeak)] += 0.18 * squeak / np.max(np.abs(squeak))
    return out


def test_fingers_on_strings_are_found_with_their_times(with_fret_noise: Floats) -> None:
    finding = next(f for f in find(with_fret_noise[:, None], sample_rate=RATE, role="bass") if f.kind == Kind.WHISTLE)
    assert all(any(a - 0.15 <= t + 0.1 <= b + 0.3 for a, b in finding.moments) for t in TIMES)
    assert 1_250 < finding.frequency_hz < 6_000
    assert finding.threshold_db is not None
    assert finding.says == "Squeaks or shrill notes."
    assert finding.stretches == finding.moments


def test_the_same_bass_without_them_has_none(bass: Floats) -> None:
    assert find_squeaks(bass[:, None], 0, len(bass), sample_rate=RATE) is None


@pytest.mark.parametrize("sound", [melody(), hits()], ids=["a melody", "strokes"])
def test_attacks_are_no_squeaks(sound: Floats) -> None:
    assert find_squeaks(sound[:, None], 0, len(sound), sample_rate=RATE) is None


def test_a_note_that_shrills_is_found() -> None:
    x = melody()
    t = np.arange(int(0.25 * RATE)) / RATE
    for at in (2.02, 6.45):
        x[int(at * RATE) : int(at * RATE) + len(t)] += 0.1 * np.sin(2 * np.pi * 3_300 * t) * np.hanning(len(t))
    found = find_squeaks(x[:, None], 0, len(x), sample_rate=RATE)
    assert found is not None
    assert [round(a) for a, _ in found.spans_s] == [2, 6]
    assert abs(np.log2(found.frequency_hz / 3_300)) < 1 / 3


def test_drums_are_not_looked_at_for_squeaks(with_fret_noise: Floats) -> None:
    assert not [f for f in find(with_fret_noise[:, None], sample_rate=RATE, role="drums") if f.moments]


def test_silence_and_what_is_too_short_have_none() -> None:
    for x in (np.zeros((RATE * 2, 1)), np.zeros((500, 1))):
        assert find_squeaks(x, 0, len(x), sample_rate=RATE) is None


@settings(max_examples=60)
@given(
    seconds=st.floats(1.3, 8.0),
    strokes=st.lists(st.tuples(st.floats(0.0, 1.0), st.floats(0.002, 0.4)), max_size=4),
    db=st.floats(-120.0, 0.0),
)
@example(seconds=2.0, strokes=[(0.25, 0.2)], db=0.0)
def test_nothing_fails_however_seldom_it_sounds(seconds: float, strokes: list[tuple[float, float]], db: float) -> None:
    t = np.arange(round(seconds * RATE)) / RATE
    x = np.zeros(len(t))
    for share, lasts in strokes:
        after = t - share * seconds
        x += np.where((after >= 0.0) & (after < lasts), np.sin(2 * np.pi * 440.0 * after), 0.0)
    x *= 10.0 ** (db / 20.0)
    found = find_squeaks(x[:, None], 0, len(x), sample_rate=RATE)
    assert found is None or len(found.spans_s) > 0
