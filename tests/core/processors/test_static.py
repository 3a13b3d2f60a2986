"""Static moves as a stream processor: block sizes, scipy as a reference, gliding, memory."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from mivlo.core.errors import BadAudio, InvalidValue
from mivlo.core.graph import treat
from mivlo.core.kernels import run_steady
from mivlo.core.moves import Shape, StaticMove, move_sections, treatment_sections
from mivlo.core.processors import Cascade, StaticProcessor, Step
from mivlo.core.units import Floats
from mivlo.core.vectors import WIDE
from mivlo.core.wavefront import SHORTEST, run_wavefront

RATE = 48_000
INAUDIBLE = 1e-6
"""-120 dBFS: what one engine for ear and file is held to."""
TREATMENT = (
    StaticMove(Shape.BELL, 412.0, q=14.4, gain_db=-6.0),
    StaticMove(Shape.LOW_CUT, 60.0, slope_db_per_octave=24),
    StaticMove(Shape.HIGH_SHELF, 6_000.0, gain_db=3.0),
    StaticMove(Shape.NOTCH, 3_000.0, q=20.0),
)


def _steps(*moves: StaticMove, on: bool = True) -> list[Step]:
    return [Step(i, move, on) for i, move in enumerate(moves)]


def _chain(channels: int, *moves: StaticMove) -> StaticProcessor:
    return StaticProcessor(RATE, channels, _steps(*moves))


def _in_blocks(chain: StaticProcessor, x: Floats, sizes: list[int]) -> Floats:
    out, at, i = [], 0, 0
    while at < len(x):
        n = sizes[i % len(sizes)]
        out.append(chain.process(x[at : at + n]))
        at, i = at + n, i + 1
    return np.concatenate(out)


def test_a_treatment_equals_scipys_filter(noise: Floats) -> None:
    reference = signal.sosfilt(treatment_sections(TREATMENT, sample_rate=RATE), noise, axis=0)
    assert np.max(np.abs(treat(noise, TREATMENT, sample_rate=RATE) - reference)) < INAUDIBLE


def test_a_treatment_of_recorded_sound_equals_scipys_filter(marimba_wav: Path) -> None:
    x, rate = soundfile.read(marimba_wav, always_2d=True)
    assert np.max(np.abs(x)) > 0.05
    reference = signal.sosfilt(treatment_sections(TREATMENT, sample_rate=rate), x, axis=0)
    assert np.max(np.abs(treat(x, TREATMENT, sample_rate=rate) - reference)) < INAUDIBLE


@pytest.mark.parametrize("channels", [1, 2])
@pytest.mark.parametrize("sizes", [[1], [7], [64], [100, 3], [48_000], [512]])
def test_any_block_size_gives_the_same_output(noise: Floats, channels: int, sizes: list[int]) -> None:
    x = noise[:24_000, :channels]
    whole = _chain(channels, *TREATMENT).process(x)
    assert np.max(np.abs(_in_blocks(_chain(channels, *TREATMENT), x, sizes) - whole)) < 1e-12


@pytest.mark.parametrize("sizes", [[1], [7], [100, 3], [512]])
def test_changes_at_the_same_sample_give_the_same_output_in_any_block_size(noise: Floats, sizes: list[int]) -> None:
    # -120 dBFS is 1e-6; what is left here is rounding
    later = (*TREATMENT[1:], StaticMove(Shape.BELL, 500.0, q=3.0, gain_db=9.0))

    def run(sizes: list[int]) -> Floats:
        chain = _chain(2, *TREATMENT)
        parts = [_in_blocks(chain, noise[:5_001], sizes)]
        chain.aim(_steps(*later))
        parts.append(_in_blocks(chain, noise[5_001:5_500], sizes))
        chain.aim(_steps(*TREATMENT[:2]))  # while the first change still glides
        parts.append(_in_blocks(chain, noise[5_500:20_000], sizes))
        return np.concatenate(parts)

    assert np.max(np.abs(run(sizes) - run([4_096]))) < 1e-9


def test_a_change_arrives_after_its_glide(noise: Floats) -> None:
    chain = _chain(2, *TREATMENT[:1])
    chain.process(noise[:1_000])
    chain.aim(_steps(*TREATMENT[1:2]))
    assert chain.gliding
    chain.process(noise[1_000:48_000])
    assert not chain.gliding
    late = chain.process(noise[48_000:])
    reference = signal.sosfilt(treatment_sections(TREATMENT[1:2], sample_rate=RATE), noise, axis=0)[48_000:]
    assert np.max(np.abs(late - reference)) < 1e-6


@pytest.mark.parametrize(
    "after",
    [
        _steps(StaticMove(Shape.BELL, 700.0, q=2.0, gain_db=-12.0)),
        _steps(StaticMove(Shape.HIGH_SHELF, 300.0, gain_db=6.0)),
        _steps(StaticMove(Shape.BELL, 440.0, q=14.0, gain_db=12.0), on=False),
        [],
    ],
)
def test_no_change_clicks(after: list[Step]) -> None:
    # a steady tone through a change: what is heard three octaves above it stays far below it
    t = np.arange(RATE) / RATE
    tone = 0.25 * np.sin(2 * np.pi * 440 * t)[:, None]
    chain = _chain(1, StaticMove(Shape.BELL, 440.0, q=14.0, gain_db=12.0))
    heard = [chain.process(tone[: RATE // 2])]
    chain.aim(after)
    heard.append(chain.process(tone[RATE // 2 :]))
    far = signal.sosfilt(signal.butter(8, 3_500, "highpass", fs=RATE, output="sos"), np.concatenate(heard)[:, 0])
    assert np.max(np.abs(far[RATE // 4 :])) < 10 ** (-75 / 20)


def test_a_dragged_bell_stays_bounded(noise: Floats) -> None:
    chain = _chain(2)
    loudest = 0.0
    random = np.random.default_rng(5)
    for start in range(0, 90_000, 500):
        chain.aim(_steps(StaticMove(Shape.BELL, 10 ** random.uniform(1.4, 4.2), q=30.0, gain_db=-24.0)))
        loudest = max(loudest, float(np.max(np.abs(chain.process(noise[start : start + 500])))))
    assert loudest < 4 * np.max(np.abs(noise))


def test_nothing_to_do_gives_back_the_input_untouched(noise: Floats) -> None:
    assert np.array_equal(_chain(2).process(noise), noise)
    off = _steps(StaticMove(Shape.LOW_CUT, 500.0), on=False)
    assert np.array_equal(StaticProcessor(RATE, 2, off).process(noise), noise)
    assert _chain(2).process(noise[:0]).shape == (0, 2)


def test_the_input_is_not_changed_in_place(noise: Floats) -> None:
    kept = noise.copy()
    _chain(2, *TREATMENT).process(noise)
    assert np.array_equal(noise, kept)


def test_the_delay_is_zero_as_stated() -> None:
    impulse = np.zeros((4_800, 1))
    impulse[100] = 1.0
    chain = _chain(1, StaticMove(Shape.BELL, 2_000.0, q=1.0, gain_db=-6.0))
    assert chain.latency == 0
    assert int(np.argmax(np.abs(chain.process(impulse)))) == 100


@pytest.mark.parametrize(
    "moves",
    [
        (StaticMove(Shape.BELL, 412.0, q=30.0, gain_db=12.0),),
        (StaticMove(Shape.BELL, 412.0, q=30.0, gain_db=-12.0),),
        (StaticMove(Shape.BELL, 60.0, q=0.1, gain_db=-30.0),),
        (StaticMove(Shape.LOW_CUT, 40.0, slope_db_per_octave=48), StaticMove(Shape.NOTCH, 50.0, q=30.0)),
        (StaticMove(Shape.HIGH_CUT, 9_000.0, slope_db_per_octave=6),),
    ],
)
def test_the_memory_says_when_the_past_is_forgotten(moves: tuple[StaticMove, ...]) -> None:
    burst = np.random.default_rng(1).standard_normal((RATE // 4, 1))
    chain = _chain(1, *moves)
    chain.process(burst)
    quiet_from = int(chain.memory_s * RATE)
    rest = chain.process(np.zeros((quiet_from + RATE, 1)))[:, 0]
    assert np.max(np.abs(rest[quiet_from:])) < 4e-6  # of noise with a peak of 4
    assert np.max(np.abs(rest[: quiet_from // 2])) > 4e-6  # and it does not say far too much


@pytest.mark.parametrize(
    ("q", "hz", "seconds"),
    # 2 T60 = 2 ln(1000) Q / (pi f): a fall by 120 dB
    [(100.0, 20.0, 22.0), (30.0, 1_000.0, 0.132), (14.4, 412.0, 0.154)],
)
def test_a_notchs_memory_is_twice_its_ring_time(q: float, hz: float, seconds: float) -> None:
    assert _chain(1, StaticMove(Shape.NOTCH, hz, q=q)).memory_s == pytest.approx(seconds, rel=0.01)


@pytest.mark.parametrize("cut", [1, 700, 1_000, 1_333])
def test_a_copy_of_the_memory_goes_on_to_the_same_bits_also_while_values_glide(noise: Floats, cut: int) -> None:
    chain = _chain(2, *TREATMENT)
    chain.process(noise[:600])
    chain.aim(_steps(*TREATMENT[1:]))
    chain.process(noise[600 : 600 + cut])
    kept = chain.state()
    first = chain.process(noise[2_000:4_000])
    chain.aim([])
    chain.process(noise[:500])
    other = StaticProcessor(RATE, 2)
    for go_on in (chain, other):
        go_on.restore(kept)
        assert np.array_equal(go_on.process(noise[2_000:4_000]), first)


def test_a_cascade_is_scipys_filter_in_blocks(noise: Floats) -> None:
    sections = signal.butter(4, 1_000, fs=RATE, output="sos")
    cascade = Cascade(sections, 2)
    ours = np.concatenate([cascade.process(noise[:777]), cascade.process(noise[777:])])
    assert np.max(np.abs(ours - signal.sosfilt(sections, noise, axis=0))) < 1e-12


def test_another_number_of_channels_is_refused() -> None:
    with pytest.raises(BadAudio, match=r"shape \(n, 2\) is needed"):
        _chain(2).process(np.zeros((10, 1)))
    with pytest.raises(InvalidValue, match="channels is 3, but it must be 1 or 2"):
        StaticProcessor(RATE, 3)
    with pytest.raises(InvalidValue, match="one of its own for each move"):
        _chain(1).aim([Step("a", TREATMENT[0]), Step("a", TREATMENT[1])])


@settings(max_examples=40)
@given(
    st.integers(1, 19), st.sampled_from([1, 2]), st.lists(st.integers(1, 700), min_size=1, max_size=8), st.booleans(),
    st.integers(0, 2**32 - 1),
)  # fmt: skip
def test_cascades_of_any_length_are_scipys_in_blocks_of_any_size(
    count: int, channels: int, sizes: list[int], wide: bool, seed: int
) -> None:
    # both ways in which a processor may run it: all sections at once, or (short blocks) one after the other
    random = np.random.default_rng(seed)
    sections = np.concatenate(
        [
            move_sections(StaticMove(Shape.BELL, hz, q=4.0, gain_db=gain), sample_rate=48_000)
            for hz, gain in zip(random.uniform(40, 18_000, count), random.uniform(-12, 12, count), strict=True)
        ]
    )
    x = random.standard_normal((sum(sizes), channels))
    coefs, states = np.ascontiguousarray(sections[:, [0, 1, 2, 4, 5]]), np.zeros((count, channels, 4))
    done = x.copy()
    at = 0
    for size in sizes:
        part = done[at : at + size]
        if wide and WIDE and size >= SHORTEST:
            run_wavefront(part, coefs, states)
        else:
            run_steady(part, coefs, states)
        at += size
    wanted = signal.sosfilt(sections, x, axis=0)
    assert np.max(np.abs(done - wanted)) < 1e-9 * max(1.0, float(np.max(np.abs(wanted))))
