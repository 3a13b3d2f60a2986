"""Wolf notes. Two modes a few Hz apart are what the literature gives as their cause (see `wolf`)."""

from __future__ import annotations

import numpy as np

from mivlo.core.findings import Kind, find
from mivlo.core.findings.decays import WholeSpectrum
from mivlo.core.findings.wolf import Wolf, find_wolf
from mivlo.core.units import Floats, midi_to_hz
from tests.core.findings.sounds import RATE, seconds

NOTES = (50, 54, 57, 52, 54, 55, 50, 54, 59, 52)
WOLF_MIDI, BEATS_HZ, LENGTH_S = 54, 5.5, 1.0


def _bowed(hz: float, *, vibrato: bool = False) -> Floats:
    t = seconds(LENGTH_S)
    bend = 2.0 ** (30.0 / 1200.0 * np.sin(2 * np.pi * 5.4 * t)) if vibrato else np.ones_like(t)
    phase = 2 * np.pi * hz * np.cumsum(bend) / RATE
    x = sum(np.sin(k * phase + k) / k for k in range(1, 20))
    return np.asarray(0.1 * x * np.clip(t / 0.08, 0, 1) * np.clip((LENGTH_S - t) / 0.08, 0, 1))


def _part(*, wolf: bool, vibrato: bool = False, tremolo: bool = False) -> Floats:
    out = []
    for midi in NOTES:
        hz = midi_to_hz(midi)
        x = _bowed(hz, vibrato=vibrato)
        t = seconds(LENGTH_S)
        if wolf and midi == WOLF_MIDI:
            two = np.sin(2 * np.pi * (hz - BEATS_HZ / 2) * t) + np.sin(2 * np.pi * (hz + BEATS_HZ / 2) * t)
            x = 0.3 * x + 0.2 * two * np.hanning(len(t)) ** 0.3
        if tremolo:
            x = x * (1.0 + 0.9 * np.sin(2 * np.pi * 6.0 * t))
        out.append(x)
    y = np.concatenate(out)
    return np.asarray(y + np.random.default_rng(3).standard_normal(len(y)) * 1e-4)


def _wolf(x: Floats) -> Wolf | None:
    return find_wolf(WholeSpectrum(x, sample_rate=RATE))


def test_a_note_that_beats_is_found_with_its_rate_and_times() -> None:
    found = _wolf(_part(wolf=True))
    assert found is not None
    assert abs(1200 * np.log2(found.frequency_hz / midi_to_hz(WOLF_MIDI))) < 30
    assert abs(found.beats_hz - BEATS_HZ) < 0.8
    assert [int(a) for a, _ in found.spans_s] == [i for i, midi in enumerate(NOTES) if midi == WOLF_MIDI]


def test_even_notes_vibrato_and_tremolo_are_no_wolves() -> None:
    assert _wolf(_part(wolf=False)) is None
    assert _wolf(_part(wolf=False, vibrato=True)) is None
    assert _wolf(_part(wolf=False, tremolo=True)) is None


def test_a_trill_is_no_wolf() -> None:
    out = []
    for midi in NOTES:
        low, high = _bowed(midi_to_hz(midi)), _bowed(midi_to_hz(midi + 2))
        t = seconds(LENGTH_S)
        turn = (np.sin(2 * np.pi * 5.5 * t) > 0).astype(float) if midi == WOLF_MIDI else np.ones_like(t)
        out.append(low * turn + high * (1.0 - turn))
    assert _wolf(np.concatenate(out)) is None


def test_only_what_is_bowed_is_looked_at_and_the_proposal_says_why() -> None:
    x = _part(wolf=True)[:, None]
    finding = next(f for f in find(x, sample_rate=RATE, role="strings") if f.moments)
    assert finding.kind == Kind.RING
    assert "wolf note" in finding.says
    assert finding.threshold_db is not None
    assert finding.stretches == finding.moments
    assert not [f for f in find(x, sample_rate=RATE, role="keys") if "wolf" in f.says]


def test_what_is_too_short_has_no_wolf() -> None:
    assert _wolf(np.zeros(RATE)) is None
