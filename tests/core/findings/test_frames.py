"""What the findings look at: levels on the grid, stretches, decays. Oracles: closed forms."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivlo.core.findings.decays import WholeSpectrum, measure_decay, own_ring_ms
from mivlo.core.findings.frames import (
    LONGEST_S,
    choose_stretches,
    finding_grid,
    frame_powers,
    look,
    make_parts,
)
from mivlo.core.findings.thinning import thinned
from mivlo.core.units import cents_between
from tests.core.findings.sounds import RATE, hits, mode, seconds


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_white_noise_reads_its_density_in_every_part(rate: int) -> None:
    """White noise of variance s² has the mean power s² Σw² in a bin of a windowed transform; scaled, 4 s² / n."""
    x = np.random.default_rng(4).standard_normal(20 * rate) * 0.1
    view = look(x[:, None], 0, len(x), sample_rate=rate, progress=lambda share: None)
    for part, levels in zip(view.parts, view.levels, strict=True):
        mean = 10 * np.log10(np.mean(10 ** (levels / 10), axis=0))
        expected = 10 * np.log10(4 * 0.01 / len(part.window))
        assert np.median(mean) == pytest.approx(expected, abs=0.2)
        assert np.percentile(np.abs(mean - expected), 95) < 1.5


@settings(max_examples=40)
@given(
    by=st.integers(2, 16),
    share=st.floats(0.0, 0.38),
    high=st.floats(0.62, 1.0),
    length=st.integers(2_000, 20_000),
    seed=st.integers(0, 99),
)
def test_a_thinned_sound_keeps_what_it_can_hold_and_nothing_else(
    by: int, share: float, high: float, length: int, seed: int
) -> None:
    """The sampling theorem: what lies above the half of the new rate has to be gone, what is kept has to stay as it is."""
    phase = np.random.default_rng(seed).uniform(0.0, 2.0 * np.pi)
    at = np.arange(length)
    low, fold = (np.cos(2.0 * np.pi * hz * at / by + phase).astype(np.float32) for hz in (share, high))
    ends = 16  # of the thinned sound, where silence beyond the ends is filtered in
    assert thinned(low, by)[ends:-ends] == pytest.approx(low[::by][ends:-ends], abs=1e-4)
    assert np.max(np.abs(thinned(fold, by)[ends:-ends])) < 10 ** (-95 / 20)
    assert len(thinned(low, by)) == len(low[::by])


@pytest.mark.parametrize("rate", [22_050, 44_100, 48_000, 96_000, 88_217])
def test_thinning_changes_no_level(rate: int) -> None:
    noise = np.random.default_rng(1).standard_normal((2, 3 * rate)).astype(np.float32)
    noise[0] *= 1e-3
    parts = make_parts(rate)
    assert any(part.thinning > 1 for part in parts) or rate == 88_217
    for part in parts:
        whole = frame_powers(noise, replace(part, thinning=1))
        assert 10 * np.log10(frame_powers(noise, part) / whole) == pytest.approx(0.0 * whole, abs=0.02)


def test_short_sounds_are_looked_at_whole() -> None:
    stretches = choose_stretches(100, 100 + 37 * RATE, sample_rate=RATE)
    assert stretches[0][0] == 100
    assert stretches[-1][1] == 100 + 37 * RATE
    assert all(a[1] == b[0] for a, b in itertools.pairwise(stretches))


def test_long_sounds_are_sampled_evenly_from_start_to_end() -> None:
    stretches = choose_stretches(0, 3_600 * RATE, sample_rate=RATE)
    assert sum(b - a for a, b in stretches) == LONGEST_S * RATE
    assert stretches[0][0] == 0
    assert stretches[-1][1] == 3_600 * RATE
    assert len({b[0] - a[0] for a, b in itertools.pairwise(stretches)}) <= 2


def test_only_what_is_looked_at_is_read() -> None:
    class Counting:
        shape = (3_600 * 8_000, 1)
        read = 0

        def __getitem__(self, stretch: slice) -> np.ndarray:  # type: ignore[type-arg]
            self.read += stretch.stop - stretch.start
            return np.zeros((stretch.stop - stretch.start, 1), dtype=np.float32)

    sound = Counting()
    look(sound, 0, sound.shape[0], sample_rate=8_000, progress=lambda share: None)
    assert sound.read == LONGEST_S * 8_000


def test_the_parts_cover_the_grid_without_gaps() -> None:
    parts = make_parts(RATE)[:-1]
    assert parts[0].start == 0
    assert parts[-1].stop == len(finding_grid())
    assert all(a.stop == b.start for a, b in itertools.pairwise(parts))


@pytest.mark.parametrize(("hz", "t60_s"), [(187.3, 0.9), (412.0, 0.6), (640.7, 1.4), (2_311.0, 0.35)])
def test_a_mode_driven_by_hits_is_measured(hz: float, t60_s: float) -> None:
    """The oracle is the mode's own impulse response: e^(-6.91 t / T60) at its frequency."""
    x = hits(every_s=0.8)
    decay = measure_decay(WholeSpectrum(x + mode(x, hz, t60_s, 0.08), sample_rate=RATE), hz * 1.004, 0.1)
    assert decay is not None
    assert decay.ring_s == pytest.approx(t60_s, rel=0.15)
    assert abs(cents_between(hz, decay.frequency_hz)) < 5.0


def test_a_jump_between_two_stretches_is_no_decay() -> None:
    t = seconds(2.0)
    x = np.concatenate([np.sin(2 * np.pi * 150 * t), 1e-3 * np.sin(2 * np.pi * 150 * t)])
    assert measure_decay(WholeSpectrum(x, sample_rate=RATE), 150.0, 0.1) is not None
    assert measure_decay(WholeSpectrum(x, sample_rate=RATE, breaks=(len(t),)), 150.0, 0.1) is None


def test_a_filter_of_that_width_rings_by_itself() -> None:
    """T60 = 2.2 Q / f (second-order resonator), Q of 0.1 octave 14.42 (Audio EQ Cookbook)."""
    assert own_ring_ms(412.0, 0.1) == pytest.approx(1_000 * 2.2 * 14.42 / 412.0, rel=0.01)
