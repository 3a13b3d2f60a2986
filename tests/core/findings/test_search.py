"""Single facts of the search: what is a ring and what is not."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from mivlo.core import cents_between, treat
from mivlo.core.errors import BadAudio
from mivlo.core.findings import Finding, Kind, Search, find
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.roles import Role
from mivlo.core.units import Floats, octaves_to_q
from tests.core.findings.sounds import RATE, hits, melody, mode, note, seconds

SURE = 0.5


def _find(x: Floats, **options: object) -> list[Finding]:
    return find(x[:, None], sample_rate=RATE, **options)  # type: ignore[arg-type]


def _near(findings: list[Finding], hz: float, cents: float = 50.0) -> list[Finding]:
    return [f for f in findings if abs(cents_between(hz, f.frequency_hz)) < cents]


def _boosted(x: Floats, hz: float, octaves: float, gain_db: float) -> Floats:
    return treat(x[:, None], [StaticMove(Shape.BELL, hz, q=octaves_to_q(octaves), gain_db=gain_db)], sample_rate=RATE)[
        :, 0
    ]


@pytest.mark.parametrize("hz", [310.0, 847.0, 2_130.0])
def test_a_ring_under_changing_notes_is_the_first_finding(hz: float) -> None:
    first = _find(_boosted(melody(), hz, 0.12, 14.0))[0]
    assert first.kind == Kind.RING
    assert abs(cents_between(hz, first.frequency_hz)) < 50
    assert first.confidence > SURE
    assert first.move.gain_db < -4
    assert first.move.shape is Shape.BELL


@pytest.mark.parametrize(("hz", "t60_s"), [(412.0, 0.5), (661.3, 0.8), (1_730.0, 0.4)])
def test_a_mode_in_a_drum_loop_is_told_to_5_cents_with_its_ring_time(hz: float, t60_s: float) -> None:
    """As a ring or, since a Q of 90 to 310 is narrower than any trouble that was learnt, as a tone of its own."""
    x = hits()
    search = Search((x + mode(x, hz, t60_s, 0.1))[:, None], sample_rate=RATE)
    findings = search.findings()
    (told,) = _near([*findings, *search.own_tones(findings)], hz)
    assert abs(cents_between(hz, told.frequency_hz)) < 5
    assert told.ring_ms == pytest.approx(1000 * t60_s, rel=0.25)
    assert told.kind in (Kind.RING, Kind.OWN_TONE)


@settings(max_examples=10)
@given(st.floats(np.log2(300.0), np.log2(5_000.0)), st.floats(0.06, 0.2), st.floats(10.0, 16.0))
def test_a_rings_centre_is_read_between_the_points_of_the_grid(octave: float, octaves: float, gain_db: float) -> None:
    """Those are 25 cents apart. Against the centre of the bell that was put in."""
    hz = 2.0**octave
    found = _near(_find(_boosted(hits(), hz, octaves, gain_db)), hz)
    assert found
    assert abs(cents_between(hz, found[0].move.frequency_hz)) < 60.0 * octaves + 5.0


def test_notes_without_a_ring_have_no_sure_ring() -> None:
    assert [f for f in _find(melody()) if f.kind == Kind.RING and f.confidence > SURE] == []


def test_vibrato_is_not_a_ring() -> None:
    found = _find(melody(vibrato_cents=45.0, beat_s=0.8))
    assert [f for f in found if f.kind == Kind.RING and f.confidence > SURE] == []


def test_a_drone_that_is_the_parts_own_note_is_no_sure_ring() -> None:
    t = seconds(10.0)
    drone = sum(np.sin(2 * np.pi * 110.0 * k * t + k) / k for k in range(1, 30)) * (
        1 + 0.2 * np.sin(2 * np.pi * 0.3 * t)
    )
    noise = np.random.default_rng(6).standard_normal(len(t)) * 1e-3
    assert [f for f in _find(0.1 * drone + noise) if f.kind == Kind.RING and f.confidence > SURE] == []


def test_plain_noise_has_no_sure_finding() -> None:
    noise = np.random.default_rng(7).standard_normal(10 * RATE) * 0.1
    assert [f for f in _find(noise) if f.confidence > SURE] == []


def test_a_kicks_fundamental_is_left_alone() -> None:
    t = seconds(0.45)
    stroke = np.sin(2 * np.pi * (58 * t + 1.2 * (1 - np.exp(-t / 0.02)))) * np.exp(-t / 0.1)
    click = np.random.default_rng(1).standard_normal(len(t)) * np.exp(-t / 0.004) * 0.2
    x = np.random.default_rng(2).standard_normal(10 * RATE) * 1e-4
    for a in np.arange(0, 9.5, 0.5):
        x[int(a * RATE) : int(a * RATE) + len(t)] += (stroke + click) * 0.5
    assert [f for f in _find(x) if f.frequency_hz < 130 and f.confidence > SURE] == []


def test_a_hum_is_named_with_its_mains() -> None:
    t = seconds(10.0)
    hum = sum(a * np.sin(2 * np.pi * 50 * k * t) for k, a in ((1, 0.004), (2, 0.006), (3, 0.004)))
    named = [f for f in _find(melody() + hum) if f.kind == Kind.HUM]
    assert len(named) == 1
    assert "50 Hz mains" in named[0].harmonic


def test_every_finding_carries_evidence_that_fits_it() -> None:
    for f in _find(_boosted(melody(), 847.0, 0.12, 14.0)):
        e = f.evidence
        assert len(e.grid_hz) == len(e.level_db) == len(e.expected_db) > 10
        assert min(e.grid_hz) < f.frequency_hz < max(e.grid_hz)
        assert len(e.times_s) == len(e.excess_db) == len(e.track_db) == len(e.spot_db) > 10
        assert 0 <= f.share_of_time <= 1
        assert 0 <= f.worst_s <= 10
        assert f.takes_db <= 0.01


def test_the_cut_of_a_ring_is_not_deeper_than_the_ring() -> None:
    for gain in (9.0, 15.0):
        found = _near(_find(_boosted(melody(), 847.0, 0.15, gain)), 847.0)
        assert found
        assert -gain - 2.5 < found[0].move.gain_db < 0


def test_narrow_cuts_stay_within_15_and_broad_ones_within_6_db() -> None:
    x = _boosted(_boosted(hits(), 900.0, 0.1, 28.0), 330.0, 1.2, 12.0)
    for f in _find(x):
        assert f.move.gain_db >= (-15.0 if f.bandwidth_oct < 0.5 else -6.0) - 1e-9


def test_a_broad_hump_is_named_by_its_place() -> None:
    found = [f for f in _find(_boosted(hits(), 380.0, 1.2, 8.0)) if f.bandwidth_oct > 0.4]
    assert found
    assert found[0].kind == Kind.BOX
    assert 250 < found[0].frequency_hz < 560


def test_the_same_sound_louder_has_the_same_findings() -> None:
    x = _boosted(melody(), 847.0, 0.12, 14.0)
    quiet, loud = _find(0.05 * x), _find(0.9 * x)
    for one, other in zip(quiet[:2], loud[:2], strict=True):  # what is quiet lies nearer to where nothing is read
        assert abs(1200.0 * np.log2(one.frequency_hz / other.frequency_hz)) < 3.0
        assert one.confidence == pytest.approx(other.confidence, abs=0.01)


@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_another_rate_tells_the_same(rate: int) -> None:
    import soxr

    x = _boosted(melody(), 847.0, 0.12, 14.0)
    first = find(soxr.resample(x, RATE, rate)[:, None], sample_rate=rate)[0]
    assert abs(cents_between(847.0, first.frequency_hz)) < 40


@pytest.mark.parametrize("rate", [8_000, 11_025, 22_050, 192_000])
def test_every_rate_that_can_be_imported_can_be_looked_at(rate: int) -> None:
    x = np.random.default_rng(0).standard_normal((rate * 3, 1)) * 0.1
    search = Search(x, sample_rate=rate, role="voice")
    assert all(f.frequency_hz < rate / 2 for f in search.findings())
    along = search.along()
    assert np.isfinite(along.excess_db).all()
    assert along.hz[-1] < rate / 2


def test_stereo_with_equal_channels_is_as_mono() -> None:
    x = _boosted(melody(), 847.0, 0.12, 14.0)
    mono, stereo = _find(x), find(np.stack([x, x], axis=1), sample_rate=RATE)
    assert [round(f.frequency_hz) for f in mono] == [round(f.frequency_hz) for f in stereo]


def test_silence_and_nothing_have_no_findings() -> None:
    assert _find(np.zeros(RATE)) == []
    assert _find(np.zeros(0)) == []
    with pytest.raises(BadAudio, match="too little sound"):
        Search(np.zeros((10, 1)), sample_rate=RATE)


def test_a_passage_is_looked_at_alone() -> None:
    x = melody()
    x[5 * RATE :] = _boosted(x, 847.0, 0.12, 15.0)[5 * RATE :]
    before = Search(x[:, None], sample_rate=RATE, stop=5 * RATE).findings()
    after = Search(x[:, None], sample_rate=RATE, start=5 * RATE).findings()
    assert not [f for f in _near(before, 847.0) if f.confidence > SURE]
    assert [f for f in _near(after, 847.0) if f.confidence > SURE]
    assert all(5 <= f.worst_s <= 10 for f in after)


def test_along_says_where_it_stays_and_how_long_it_rings() -> None:
    x = hits(every_s=0.6)
    along = Search((x + mode(x, 661.3, 0.8, 0.1))[:, None], sample_rate=RATE).along()
    at = int(np.argmin(np.abs(along.hz - 661.3)))
    near = slice(at - 1, at + 2)
    assert np.max(along.fixed_db[near]) > 3
    assert np.max(along.ring_ms[near]) == pytest.approx(800, rel=0.25)
    assert np.max(along.excess_db[near]) > 3
    assert np.max(along.share[near]) > 0.5


def test_a_single_note_repeated_is_not_sure() -> None:
    x = np.random.default_rng(3).standard_normal(10 * RATE) * 2e-4
    for a in np.arange(0, 9, 0.5):
        y = note(220.0, 0.6)
        x[int(a * RATE) : int(a * RATE) + len(y)] += 0.2 * y
    assert [f for f in _find(x) if f.confidence > 0.8] == []


_PIECE = st.tuples(
    st.sampled_from(["tone", "noise", "click", "offset", "square", "strokes"]),
    st.floats(0.0, 1.0),
    st.floats(0.002, 1.0),
    st.floats(20.0, 40_000.0),
    st.floats(-100.0, 0.0),
)


def _piece(kind: str, t: Floats, hz: float) -> Floats:
    if kind == "tone":
        return np.sin(2 * np.pi * hz * t)
    if kind == "noise":
        return np.random.default_rng(round(hz)).uniform(-1.0, 1.0, len(t))
    if kind == "click":
        return (t == t[0]).astype(np.float64)
    if kind == "square":
        return np.sign(np.sin(2 * np.pi * hz * t))
    if kind == "strokes":
        return np.sin(2 * np.pi * hz * t) * np.exp(-(t % 0.3) / 0.08)
    return np.ones(len(t))


@settings(max_examples=20)
@example(rate=22_050, length_s=2.5, pieces=[("strokes", 0.0, 1.0, 9_800.0, 0.0)], sides=1.0, role="room")
@given(
    rate=st.sampled_from([8_000, 11_025, 22_050, 44_100, 48_000, 96_000]),
    length_s=st.floats(0.06, 4.0),
    pieces=st.lists(_PIECE, max_size=4),
    sides=st.sampled_from([-1.0, 0.0, 1.0]),
    role=st.sampled_from([None, *Role]),
)
def test_whatever_is_in_a_track_it_can_be_looked_at(
    rate: int,
    length_s: float,
    pieces: list[tuple[str, float, float, float, float]],
    sides: float,
    role: Role | None,
) -> None:
    x = np.zeros(round(length_s * rate))
    for kind, share, lasts, hz, db in pieces:
        part = slice(int(share * 0.99 * len(x)), int((share * 0.99 + lasts) * len(x)) + 1)
        x[part] += 10.0 ** (db / 20.0) * _piece(kind, np.arange(len(x[part])) / rate, min(hz, 0.49 * rate))
    x = np.clip(x, -1.0, 1.0)
    search = Search(np.stack([x, sides * x], axis=1), sample_rate=rate, role=role)
    found = search.findings()
    for f in [*found, *search.own_tones(found)]:
        assert 0.0 < f.frequency_hz < rate / 2
        assert 0.0 <= f.confidence <= 1.0
        assert 0.0 <= f.loop_s[0] < f.loop_s[1] <= length_s + 0.001
        assert np.isfinite([f.excess_db, f.takes_db, f.worst_s]).all()
    assert np.isfinite(search.along().excess_db).all()
