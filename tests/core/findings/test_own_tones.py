"""Tones of an instrument's own: told apart from what a recording does to it."""

from __future__ import annotations

import numpy as np
import pytest
from bench.findings.damage import Bell, apply
from bench.findings.rooms import MODES
from hypothesis import given, settings
from hypothesis import strategies as st

from mivlo.core.findings import Finding, Kind
from mivlo.core.findings.search import Search
from mivlo.core.graph import treat
from mivlo.core.roles import Role

RATE = 48_000


def _drum(tone_hz: float, rings_s: list[float], *, strokes: int = 8) -> np.ndarray:  # type: ignore[type-arg]
    """Strokes on a membrane whose modes (zeros of Bessel functions, Fletcher & Rossing ch. 3) ring for so long."""
    random = np.random.default_rng(5)
    t = np.arange(RATE) / RATE
    stroke = 0.5 * random.normal(size=RATE) * np.exp(-t / 0.01)
    for k, ring in enumerate(rings_s):
        stroke += 0.7**k * np.exp(-6.91 * t / ring) * np.sin(2 * np.pi * tone_hz * MODES["membrane"][k] * t + k)
    return np.concatenate([stroke * random.uniform(0.6, 1.0) for _ in range(strokes)]) * 0.2


def _search(x: np.ndarray, role: Role) -> Search:  # type: ignore[type-arg]
    return Search(x[:, None].astype(np.float32), sample_rate=RATE, role=role)


def _cents(finding: Finding, hz: float) -> float:
    return float(1200 * np.log2(finding.frequency_hz / hz))


@settings(max_examples=6)
@given(tone=st.floats(120.0, 260.0))
def test_a_mode_that_rings_on_is_told_and_the_fundamental_is_named_and_left_alone(tone: float) -> None:
    search = _search(_drum(tone, [0.35, 0.2, 0.9, 0.15]), Role.DRUMS)
    ringing = tone * MODES["membrane"][2]
    tones = search.own_tones()
    mine = [f for f in tones if abs(_cents(f, ringing)) < 5.0]
    assert len(mine) == 1
    assert mine[0].kind is Kind.OWN_TONE
    assert mine[0].ring_ms == pytest.approx(900.0, rel=0.1)
    fundamental = search.fundamental_hz()
    assert fundamental is not None
    assert abs(1200 * np.log2(fundamental / tone)) < 30.0
    ratio, told = mine[0].harmonic.split(" × ")
    assert float(ratio) == pytest.approx(MODES["membrane"][2], abs=0.03)
    assert told.startswith(f"the fundamental, {fundamental:.0f} Hz")
    assert not any(abs(_cents(f, tone)) < 50.0 for f in tones)


def test_the_cut_is_as_narrow_as_the_line_and_as_deep_as_is_usual() -> None:
    for role, low, high in ((Role.DRUMS, 4.0, 8.0), (Role.KEYS, 1.0, 3.0)):
        for f in _search(_drum(180.0, [0.35, 0.2, 0.9, 0.15]), role).own_tones():
            assert low <= -f.move.gain_db <= high
            assert f.move.q >= 10.0


def test_a_resonance_of_the_recording_is_no_tone_of_its_own() -> None:
    x = np.random.default_rng(3).normal(size=8 * RATE) * np.tile(np.exp(-np.arange(RATE) / RATE * 8.0), 8) * 0.1
    rung = apply(x, (Bell(700.0, 0.1, 15.0, False),))
    assert _search(rung, Role.PERCUSSION).own_tones() == []


def test_a_melody_has_none_and_a_string_that_drones_below_it_is_one() -> None:
    t = np.arange(RATE // 2) / RATE
    notes = [392.0, 440.0, 523.25, 349.23, 466.16, 587.33, 415.3, 493.88] * 2
    melody = np.concatenate(
        [np.exp(-t * 6.0) * sum(np.sin(2 * np.pi * f * k * t) / k for k in range(1, 6)) for f in notes]
    )
    assert _search(0.1 * melody, Role.GUITAR).own_tones() == []
    long = np.arange(4 * RATE) / RATE
    drone = np.tile(np.exp(-long * 1.2) * np.sin(2 * np.pi * 146.83 * long), 2)
    found = _search(0.1 * (melody + drone), Role.GUITAR).own_tones()
    assert [round(f.frequency_hz) for f in found] == [147]
    assert found[0].note.name == "D"


def test_silence_has_none() -> None:
    search = _search(np.zeros(RATE), Role.DRUMS)
    assert search.own_tones() == []
    assert search.fundamental_hz() is None


def _power_db(x: np.ndarray, hz: float, from_s: float, to_s: float) -> float:  # type: ignore[type-arg]
    """Mean power about a frequency in the same stretch of every second."""
    span = slice(round(from_s * RATE), round(to_s * RATE))
    pieces = x.reshape(-1, RATE)[:, span]
    spectra = np.abs(np.fft.rfft(pieces * np.hanning(pieces.shape[1]), RATE, axis=1)) ** 2
    return float(10.0 * np.log10(np.mean(spectra[:, round(hz) - 8 : round(hz) + 9].sum(axis=1))))


@settings(max_examples=5)
@given(tone=st.floats(120.0, 260.0))
def test_a_cut_of_the_tail_leaves_the_stroke_and_takes_the_ring(tone: float) -> None:
    x = _drum(tone, [0.35, 0.2, 0.9, 0.15])
    search = _search(x, Role.DRUMS)
    (mine,) = [f for f in search.own_tones() if abs(_cents(f, tone * MODES["membrane"][2])) < 5.0]
    assert mine.tail is not None
    assert mine.tail.range_db == mine.move.gain_db  # type: ignore[union-attr]
    changed = {}
    for name, move in (("all", mine.move), ("tail", mine.tail)):
        y = treat(x[:, None], [move], sample_rate=RATE)[:, 0]
        for span in ((0.0, 0.08), (0.15, 0.35)):
            hz = mine.frequency_hz
            changed[name, span] = _power_db(y, hz, *span) - _power_db(x, hz, *span)
    assert changed["tail", (0.0, 0.08)] > 0.5 * changed["all", (0.0, 0.08)]
    assert changed["tail", (0.15, 0.35)] < -0.7 * abs(changed["all", (0.15, 0.35)])


def test_where_nothing_is_struck_no_tail_is_offered() -> None:
    found = _search(_drum(180.0, [0.35, 0.2, 0.9, 0.15]), Role.KEYS).own_tones()
    assert found
    assert all(f.tail is None for f in found)
