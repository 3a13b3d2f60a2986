"""Moves that listen, on the demo song: what they take from its planted troubles, and from everything else."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.typing as npt
import pytest
from scipy import signal

from mivlo.core.findings import Finding, Kind, find
from mivlo.core.freezing import freeze
from mivlo.core.graph import treat
from mivlo.core.learning import LEAST_LIKENESS, learn
from mivlo.core.making.alike import find_alike
from mivlo.core.making.starts import StartName, started
from mivlo.core.making.thresholds import at_moments, trace
from mivlo.core.moves import AdaptiveMove, DynamicMove, Entry, Shape, StaticMove, Treatment
from mivlo.core.units import Floats
from mivlo.demo.song import ROOM_RINGS
from tests.conftest import Made

RATE = 48_000


def _times(made: Made, track: str, kind: str) -> list[float]:
    return next(t.times_s for t in made[1] if (t.track, t.kind) == (track, kind))


def _moments(made: Made, track: str, kind: str, seconds: float) -> list[tuple[float, float]]:
    return [(t - 0.03, t + seconds) for t in _times(made, track, kind)]


def _inside(count: int, spans: list[tuple[float, float]], slack_s: float = 0.05) -> np.ndarray:  # type: ignore[type-arg]
    inside = np.zeros(count, dtype=bool)
    for a, b in spans:
        inside[max(0, int((a - slack_s) * RATE)) : int((b + slack_s) * RATE)] = True
    return inside


def _taken(x: Floats, treatment: Treatment, spans: list[tuple[float, float]]) -> tuple[float, float]:
    """Energy that was taken within and outside of the truth's moments."""
    removed = np.sum((x - treat(x, treatment, sample_rate=RATE)) ** 2, axis=1)
    inside = _inside(len(x), spans)
    return float(removed[inside].sum()), float(removed[~inside].sum())


def _static_of_equal_effect(x: Floats, bell: StaticMove, spans: list[tuple[float, float]], wanted: float) -> float:
    """What a static cut touches outside, made as deep as it takes the same within."""
    low, high = 0.01, 30.0
    for _ in range(18):
        gain = (low + high) / 2
        within, outside = _taken(x, Treatment.of([replace(bell, gain_db=-gain)]), spans)
        low, high = (gain, high) if within < wanted else (low, gain)
    return outside


def _proposed(made: Made, track: str, role: str, kind: Kind) -> Finding:
    found = find(made[0][track], sample_rate=RATE, role=role)  # type: ignore[arg-type]
    return next(f for f in found if f.kind == kind and (kind is not Kind.RING or f.moments))


@pytest.mark.parametrize(
    ("track", "role", "kind", "planted", "seconds", "times"),
    [
        ("Narrator", "voice", Kind.WHISTLE, "whistle", 0.12, 3.0),
        ("Narrator", "voice", Kind.PLOSIVE, "plosive", 0.12, 3.0),
        ("Cello", "strings", Kind.RING, "wolf", 1.4, 3.0),
        ("Narrator", "voice", Kind.SIBILANCE, "sibilance", 0.25, 3.0),
        ("Trumpet", "brass", Kind.HARSH, "harsh", 1.6, 3.0),
    ],
)
def test_a_static_cut_of_equal_effect_touches_several_times_as_much_of_the_rest(
    made: Made, track: str, role: str, kind: Kind, planted: str, seconds: float, times: float
) -> None:
    x = made[0][track].astype(np.float64)
    finding = _proposed(made, track, role, kind)
    # notes last longer than the truth says: it has their starts; a voice has more sibilants and pops than were planted: those that were found count as well
    spans = [*_moments(made, track, planted, seconds), *finding.moments]
    within, outside = _taken(x, Treatment.of_entries([finding.entry]), spans)
    assert within > 0.0
    move = finding.move
    bell = move.at_gain(-3.0) if isinstance(move, DynamicMove) else move
    assert isinstance(bell, StaticMove)
    assert _static_of_equal_effect(x, bell, spans, within) > times * outside


def _level_below(x: Floats, hz: float, at: float, seconds: float) -> float:
    low = signal.sosfiltfilt(signal.butter(4, hz, fs=RATE, output="sos"), x[:, 0])
    part = low[int((at - 0.02) * RATE) : int((at + seconds) * RATE)]
    return float(10 * np.log10(np.mean(part**2) + 1e-15))


def test_one_setting_takes_the_pops_and_leaves_the_sung_notes(made: Made) -> None:
    x = made[0]["Narrator"].astype(np.float64)
    times = _times(made, "Narrator", "plosive")
    (start,) = started(StartName.PLOSIVES)
    assert isinstance(start, DynamicMove)
    move = at_moments(start, trace(start, x, sample_rate=RATE), [(t, t + 0.06) for t in times])
    treated = treat(x, [move], sample_rate=RATE)
    lost = [_level_below(x, 150.0, t, 0.08) - _level_below(treated, 150.0, t, 0.08) for t in times]
    assert np.median(lost) > 8.0
    # a sung note, as loud as the loudest vowel
    loudest = max(float(np.sqrt(np.mean(part**2))) for part in np.array_split(x[:, 0], len(x) // 4_800))
    for hz in (110.0, 150.0, 200.0):
        note = _sung(hz)
        note *= loudest / np.sqrt(np.mean(note**2))
        y = treat(note[:, None], [move], sample_rate=RATE)[RATE // 4 :, 0]
        assert abs(10 * np.log10(np.mean(y**2) / np.mean(note[RATE // 4 :] ** 2))) < 0.5


def _sung(hz: float) -> Floats:
    """A second of a vowel: partials that fall by 6 dB an octave, through three formants (values from memory)."""
    t = np.arange(RATE) / RATE
    k = np.arange(1, 40)
    level = 1.0 / k
    for at, width in ((700.0, 130.0), (1_220.0, 150.0), (2_600.0, 200.0)):
        ratio = k * hz / at
        level = level / np.sqrt((1 - ratio**2) ** 2 + (ratio * width / at) ** 2)
    return np.asarray(np.sum(level[:, None] * np.sin(2 * np.pi * hz * k[:, None] * t + (k * k)[:, None]), axis=0))


def test_sibilance_of_the_strip_leaves_vowels_within_a_third_of_a_db(made: Made) -> None:
    x = made[0]["Narrator"].astype(np.float64)
    finding = _proposed(made, "Narrator", "voice", Kind.SIBILANCE)
    spans = [*_moments(made, "Narrator", "sibilance", 0.25), *finding.moments]
    treated = treat(x, Treatment.of_entries([finding.entry]), sample_rate=RATE)
    band = signal.butter(2, [4_000.0, 11_000.0], "band", fs=RATE, output="sos")
    heard = [signal.sosfiltfilt(band, s[:, 0]) ** 2 for s in (x, treated)]
    planted = _inside(len(x), _moments(made, "Narrator", "sibilance", 0.15), 0.0)
    assert 10 * np.log10(heard[0][planted].mean() / heard[1][planted].mean()) > 2.0
    vowels = signal.sosfiltfilt(signal.butter(2, [200.0, 1_500.0], "band", fs=RATE, output="sos"), x[:, 0]) ** 2
    loud = np.convolve(vowels, np.ones(2_400) / 2_400, "same")
    voiced = (loud > 0.1 * loud.max()) & ~_inside(len(x), spans, 0.15)
    change = 10 * np.log10(np.mean(x[voiced] ** 2) / np.mean(treated[voiced] ** 2))
    assert abs(change) < 0.3


def test_the_harsh_trumpet_is_turned_down_on_loud_notes_only(made: Made) -> None:
    x = made[0]["Trumpet"].astype(np.float64)
    finding = _proposed(made, "Trumpet", "brass", Kind.HARSH)
    treated = treat(x, Treatment.of_entries([finding.entry]), sample_rate=RATE)
    band = signal.butter(2, [2_000.0, 4_500.0], "band", fs=RATE, output="sos")
    heard = [signal.sosfiltfilt(band, s[:, 0]) ** 2 for s in (x, treated)]
    loudness = np.convolve(x[:, 0] ** 2, np.ones(9_600) / 9_600, "same")
    sounds = loudness > loudness.max() * 1e-4
    loud = loudness > np.quantile(loudness[sounds], 0.8)
    soft = sounds & (loudness < np.quantile(loudness[sounds], 0.4))
    change = [10 * np.log10(heard[0][at].mean() / heard[1][at].mean()) for at in (loud, soft)]
    assert change[0] > 3.0
    assert change[1] < 0.5


def test_from_one_whistle_of_the_narrator_all_others_are_found(made: Made) -> None:
    x = made[0]["Narrator"]
    times = _times(made, "Narrator", "whistle")
    for start in times:
        found = find_alike(x, sample_rate=RATE, from_hz=5_600.0, to_hz=6_200.0, from_s=start, to_s=start + 0.09)
        right = [any(abs(m.from_s - t) < 0.05 for m in found) for t in times]
        wrong = [m for m in found if min(abs(m.from_s - t) for t in times) > 0.05]
        assert all(right)
        assert len(wrong) <= 1


def test_a_move_at_moments_touches_nothing_outside_of_them(made: Made) -> None:
    x = made[0]["Narrator"]
    times = _times(made, "Narrator", "whistle")
    stretches = tuple((t, t + 0.1) for t in times)
    entry = Entry(move=StaticMove(Shape.BELL, 5_870.0, q=8.0, gain_db=-12.0), stretches=stretches)
    treated = treat(x, Treatment(entries=(entry,)), sample_rate=RATE)
    outside = ~_inside(len(x), list(stretches), 1 / RATE)
    plain = treat(x, Treatment(), sample_rate=RATE)
    assert np.array_equal(treated[outside], plain[outside])
    assert not np.array_equal(treated, plain)


def test_six_moves_do_most_of_what_an_adaptive_one_takes_of_the_trumpet(made: Made) -> None:
    x = made[0]["Trumpet"][30 * RATE : 48 * RATE]
    frozen = freeze(x, Entry(move=AdaptiveMove(200.0, 12_000.0)), sample_rate=RATE, start_s=30.0)
    assert len(frozen.entries) <= 6
    assert frozen.share > 0.7
    assert all(30.0 <= a < b <= 48.1 for e in frozen.entries for a, b in e.stretches)


def _kurtosis(x: Floats, at: npt.NDArray[np.bool_]) -> Floats:
    """Of the power in each bin of short spectra (21 ms), over chosen frames: 2 for noise, more where it is isolated."""
    views = np.lib.stride_tricks.sliding_window_view(x[:, 0], 1024)[::512]
    power = np.abs(np.fft.rfft(views * np.hanning(1024), axis=1))[at, 7:215] ** 2
    return np.asarray(np.mean(power**2, axis=0) / np.mean(power, axis=0) ** 2)


@pytest.mark.parametrize(("share", "most"), [(0.5, -6.0), (1.0, -36.0)])
def test_an_adaptive_move_leaves_no_musical_noise_on_speech(made: Made, share: float, most: float) -> None:
    # musical noise is what makes the power in a bin more isolated in time: its kurtosis rises over that of the input
    # (Y. Uemura et al., "Automatic optimization scheme of spectral subtraction based on musical noise assessment via
    # higher-order statistics", IWAENC 2008; from memory)
    x = made[0]["Narrator"][: 30 * RATE].astype(np.float64)
    y = treat(x, [AdaptiveMove(200.0, 12_000.0, share=share, most_db=most, release_ms=80.0)], sample_rate=RATE)
    views = np.lib.stride_tricks.sliding_window_view(x[:, 0], 1024)[::512]
    level = 10 * np.log10(np.sum(views**2, axis=1) + 1e-12)
    for at in (level < level.max() - 35.0, level > level.max() - 25.0):  # between words, and while it speaks
        ratio = _kurtosis(y, at) / _kurtosis(x, at)
        assert np.mean(ratio) < 1.05
        assert np.quantile(ratio, 0.95) < 1.2


@pytest.mark.parametrize("from_s", [2, 30, 60])
def test_both_rings_of_the_room_are_learned_from_ten_seconds(made: Made, from_s: int) -> None:
    tracks = {name: x[(from_s - 2) * RATE : (from_s + 10) * RATE] for name, x in made[0].items()}
    others = [x for name, x in tracks.items() if name != "Room pair"]
    learned = learn(tracks["Room pair"], others, sample_rate=RATE, lead_s=2.0)
    assert learned.likeness > LEAST_LIKENESS
    assert len(learned.moves) == len(ROOM_RINGS)
    for move, (hz, _, _) in zip(learned.moves, ROOM_RINGS, strict=True):
        assert abs(1_200 * np.log2(move.frequency_hz / hz)) <= 25.0
        assert move.gain_db < -4.0
    for name in ("Marimba", "Cajón"):  # what plays something of its own is no room
        rest = [x for other, x in tracks.items() if other not in (name, "Room pair")]
        assert learn(tracks[name], rest, sample_rate=RATE, lead_s=2.0).likeness < LEAST_LIKENESS
