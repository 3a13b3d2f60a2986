"""The probe: how it rings, how loud it may get, what it turns into. The limiter."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from mivlo.core.errors import InvalidValue
from mivlo.core.loudness import gated_loudness
from mivlo.core.moves.members import Spacing
from mivlo.core.probe import MonitorLimiter, Probe, ProbeMode, ProbeStream
from mivlo.core.units import Floats

RATE = 48_000


def _decay_s(x: Floats) -> float:
    """Time in which a ringing tail falls by 60 dB, from a line through its level in dB."""
    power = np.cumsum(x[::-1] ** 2)[::-1]  # backward integration (Schroeder 1965)
    level = 10 * np.log10(np.maximum(power, 1e-30) / power[0])
    used = np.flatnonzero((level < -5) & (level > -45))
    slope = np.polyfit(used / RATE, level[used], 1)[0]
    return -60.0 / slope


@pytest.mark.parametrize(
    ("mode", "gain", "octaves", "hz"),
    [
        (ProbeMode.BOOST, 12.0, 0.1, 412.0),
        (ProbeMode.BOOST, 24.0, 0.05, 1_000.0),
        (ProbeMode.ALONE, 12.0, 0.1, 412.0),
    ],
)
def test_the_probes_ring_time_is_what_is_measured(mode: ProbeMode, gain: float, octaves: float, hz: float) -> None:
    probe = Probe(hz, octaves, gain, mode)
    x = np.zeros((RATE * 3, 1))
    x[0] = 1.0
    from mivlo.core.graph import treat

    ringing = treat(x, probe.as_moves(), sample_rate=RATE)[:, 0]
    ringing[0] = 0.0  # the direct sound does not ring
    assert _decay_s(ringing[20:]) == pytest.approx(probe.ring_s, rel=0.06)


@pytest.mark.parametrize("margin", [0.0, 3.0, 6.0])
@pytest.mark.parametrize("mode", list(ProbeMode))
@pytest.mark.parametrize("count", [1, 4])
def test_the_probe_is_never_louder_than_the_margin_allows(
    noise: Floats, mode: ProbeMode, margin: float, count: int
) -> None:
    tone = 0.2 * np.sin(2 * np.pi * 1_000 * np.arange(len(noise)) / RATE)[:, None]
    for x in (noise, np.tile(tone, (1, 2)) + 0.1 * noise):
        stream = ProbeStream(RATE, 2)
        stream.process(x[:4_800], x[:4_800])
        stream.set_probe(Probe(1_000.0, 0.05, 24.0, mode, margin, count))
        heard = np.concatenate([stream.process(x[i : i + 512], x[i : i + 512]) for i in range(4_800, len(x), 512)])
        allowed = np.max(np.abs(x)) * 10 ** (margin / 20)
        assert np.max(np.abs(heard)) <= allowed * 1.0001
        louder = gated_loudness(heard, sample_rate=RATE) - gated_loudness(x[4_800:], sample_rate=RATE)
        assert louder <= margin + 0.3


def test_the_probe_on_recorded_sound_stays_within_its_margin(marimba_wav: Path) -> None:
    x, rate = soundfile.read(marimba_wav, always_2d=True)
    stream = ProbeStream(rate, 2)
    stream.set_probe(Probe(523.25, 0.1, 18.0))  # right on a played note: the worst place
    heard = np.concatenate([stream.process(x[i : i + 512], x[i : i + 512]) for i in range(0, len(x), 512)])
    assert np.max(np.abs(heard)) <= np.max(np.abs(x)) * 10 ** (6 / 20) * 1.0001
    assert gated_loudness(heard, sample_rate=rate) - gated_loudness(x, sample_rate=rate) <= 6.3


def test_a_modest_boost_is_not_held_back(noise: Floats) -> None:
    stream = ProbeStream(RATE, 2)
    stream.process(noise[:9_600], noise[:9_600])
    stream.set_probe(Probe(5_000.0, 0.1, 6.0, margin_db=12.0))
    stream.process(noise[9_600:], noise[9_600:])
    assert stream.held_back_db > -0.1


def _response_db(probe: Probe, at_hz: list[float]) -> Floats:
    """What a held probe makes of tones, once it has settled: measured one by one."""
    out = []
    for hz in at_hz:
        tone = 0.05 * np.sin(2 * np.pi * hz * np.arange(2 * RATE) / RATE)[:, None]
        stream = ProbeStream(RATE, 1)
        stream.set_probe(probe, glide=False)
        heard = stream.process(tone, tone)
        out.append(10 * np.log10(np.mean(heard[RATE:] ** 2) / np.mean(tone[RATE:] ** 2)))
    return np.array(out)


@pytest.mark.parametrize(
    ("spacing", "members"), [(Spacing.OCTAVES, [220.0, 440.0, 880.0]), (Spacing.MULTIPLES, [220.0, 440.0, 660.0])]
)
def test_a_probe_over_a_set_treats_each_member_alike(spacing: Spacing, members: list[float]) -> None:
    between = [311.1, 550.0, 1_300.0]
    values = {"octaves": 0.1, "gain_db": 9.0, "margin_db": 24.0, "count": 3, "spacing": spacing}
    for mode, there, elsewhere in (
        (ProbeMode.BOOST, 9.0, 0.0),
        (ProbeMode.CUT, -9.0, 0.0),
        (ProbeMode.ALONE, 0.0, None),
    ):
        probe = Probe(220.0, mode=mode, **values)  # type: ignore[arg-type]
        assert _response_db(probe, members) == pytest.approx(there, abs=0.35)
        if elsewhere is None:
            assert np.max(_response_db(probe, between)) < -12.0
        else:
            assert _response_db(probe, between) == pytest.approx(elsewhere, abs=0.8)  # the skirts of two bells


def test_several_bands_are_heard_together_and_nothing_between_them() -> None:
    probe = Probe(300.0, 0.1, mode=ProbeMode.ALONE, also=((900.0, 0.2), (3_000.0, 0.1)), margin_db=24.0)
    assert _response_db(probe, [300.0, 900.0, 3_000.0]) == pytest.approx(0.0, abs=0.35)
    assert np.max(_response_db(probe, [500.0, 1_700.0, 8_000.0])) < -12.0


@pytest.mark.parametrize("rate", [44_100, 48_000])
def test_members_beyond_what_the_rate_holds_are_left_out(rate: int) -> None:
    stream = ProbeStream(rate, 1)
    x = np.random.default_rng(3).standard_normal((4_096, 1)) * 0.1
    for mode in ProbeMode:
        stream.set_probe(Probe(15_000.0, mode=mode, count=16, spacing=Spacing.MULTIPLES))
        assert np.all(np.isfinite(stream.process(x, x)))


@settings(max_examples=25)
@given(
    st.lists(
        st.none() | st.builds(Probe, st.floats(30.0, 20_000.0), st.floats(0.05, 2.0), st.floats(0.0, 24.0),
                              st.sampled_from(list(ProbeMode)), st.floats(0.0, 24.0), st.integers(1, 16), st.sampled_from(list(Spacing))),
        min_size=1, max_size=6,
    ),
    st.integers(1, 700),
)  # fmt: skip
def test_whatever_was_held_once_released_the_sound_is_as_before(probes: list[Probe | None], block: int) -> None:
    x = np.random.default_rng(1).standard_normal((48_000, 1)) * 0.1
    stream, at = ProbeStream(RATE, 1), 0
    for probe in [*probes, None]:
        stream.set_probe(probe)
        stream.process(x[at : at + block], x[at : at + block])
        at += block
    rest = x[at:]
    for start in range(0, len(rest), 4_096):
        heard = stream.process(rest[start : start + 4_096], rest[start : start + 4_096])
    assert not stream.active
    assert np.array_equal(heard, rest[start : start + 4_096])


def test_going_from_one_band_to_several_alone_and_back_does_not_click() -> None:
    tone = 0.2 * np.sin(2 * np.pi * 440.0 * np.arange(RATE) / RATE)[:, None]
    stream = ProbeStream(RATE, 1)
    heard = []
    for i, count in enumerate((1, 4, 1, 4, 1)):
        stream.set_probe(Probe(440.0, mode=ProbeMode.ALONE, count=count))
        part = tone[i * 9_600 : (i + 1) * 9_600]
        heard.append(stream.process(part, part))
    steps = np.abs(np.diff(np.concatenate(heard)[4_800:, 0], 2))
    assert np.max(steps) < 3.0 * np.max(np.abs(np.diff(tone[:, 0], 2)))


def test_a_released_probe_leaves_nothing_behind(noise: Floats) -> None:
    stream = ProbeStream(RATE, 2)
    stream.set_probe(Probe(800.0))
    stream.process(noise[:20_000], noise[:20_000])
    stream.set_probe(None)
    stream.process(noise[20_000:60_000], noise[20_000:60_000])
    assert not stream.active
    assert np.array_equal(stream.process(noise[60_000:], noise[60_000:]), noise[60_000:])


@pytest.mark.parametrize(
    ("values", "says"),
    [
        ({"octaves": 0.01}, "1/20 to 2"),
        ({"gain_db": 30.0}, "0 to 24"),
        ({"margin_db": -1.0}, "0 to 24"),
        ({"count": 0}, "1 to 16"),
        ({"count": 17}, "1 to 16"),
        ({"also": ((5.0, 0.1),)}, "10 to 24000"),
        ({"also": ((500.0, 9.0),)}, "1/20 to 2"),
        ({"also": ((500.0, float("nan")),)}, "1/20"),
        ({"also": ((500.0, 0.1),) * 32}, "at most 31"),
    ],
)
def test_impossible_probes_are_refused(values: dict[str, float], says: str) -> None:
    with pytest.raises(InvalidValue, match=says):
        Probe(**{"frequency_hz": 1_000.0, **values})


def test_the_limiter_keeps_the_ceiling_and_leaves_the_rest_alone(noise: Floats) -> None:
    limiter = MonitorLimiter(RATE)
    quiet = limiter.process(noise.copy())
    assert np.array_equal(quiet, noise.astype(np.float32))
    loud = limiter.process(noise * 30)
    assert np.max(np.abs(loud)) <= 10 ** (-0.5 / 20) + 1e-7
    assert limiter.held_back_db < -5
