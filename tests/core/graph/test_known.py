"""Strips whose treated sound is known, many at once: the same bits as if each were computed, whatever is changed."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from mivlo.core.graph import Plan, Renderer, Strip, StripKind, Tap, compile
from mivlo.core.graph.streams import Samples

RATE = 8_000
MIX = 99

_strips = st.lists(
    st.tuples(
        st.sampled_from([1, 2]),
        st.floats(-40.0, 12.0),
        st.floats(-1.0, 1.0),
        st.booleans(),  # muted
        st.booleans(),  # known
        st.integers(0, 3_000),  # frames
    ),
    min_size=1,
    max_size=40,
)
_changes = st.lists(
    st.tuples(st.integers(1, 700), st.integers(0, 39), st.booleans(), st.floats(-40.0, 12.0)), max_size=8
)


def _plan(strips: list[Strip]) -> Plan:
    return compile([*strips, Strip(id=MIX, kind=StripKind.MIX)], sample_rate=RATE)


@given(_strips, _changes, st.integers(0, 2_500))
@settings(max_examples=60)
def test_a_mix_of_known_and_computed_strips_has_the_same_bits(
    drawn: list[tuple[int, float, float, bool, bool, int]], changes: list[tuple[int, int, bool, float]], at: int
) -> None:
    strips = [
        Strip(id=i + 1, channels=channels, fader_db=fader, pan=pan, mute=mute)  # type: ignore[arg-type]
        for i, (channels, fader, pan, mute, _, _) in enumerate(drawn)
    ]
    random = np.random.default_rng(len(drawn))
    sources: dict[int, Samples] = {
        i + 1: (random.standard_normal((frames, channels)) * 0.1).astype(np.float32)
        for i, (channels, _, _, _, _, frames) in enumerate(drawn)
    }
    treated = {i + 1: sources[i + 1] for i, (*_, known, _) in enumerate(drawn) if known}
    for known in treated.values():
        known.flags.writeable = False  # type: ignore[attr-defined]
    plan = _plan(strips)
    fast = Renderer(plan, sources, at=at, treated=treated, grid=None)
    slow = Renderer(plan, sources, at=at, grid=None)
    for renderer in (fast, slow):
        renderer.want((MIX, Tap.PLACED))
    for frames, which, mute, fader in [*changes, (600, 0, False, 0.0)]:
        assert np.array_equal(fast.render(frames)[MIX, Tap.PLACED], slow.render(frames)[MIX, Tap.PLACED])
        assert fast.peaks().keys() == slow.peaks().keys()
        which %= len(strips)
        strips[which] = replace(strips[which], mute=mute, fader_db=fader)
        plan = _plan(strips)
        fast.aim(plan)
        slow.aim(plan)


def test_the_peaks_of_known_strips_are_those_behind_their_faders() -> None:
    sound = np.full((1_000, 2), 0.25, dtype=np.float32)
    sound[500, 1] = -0.5
    strips = [Strip(id=1, fader_db=-6.0), Strip(id=2, mute=True)]
    renderer = Renderer(_plan(strips), {1: sound, 2: sound}, treated={1: sound, 2: sound}, grid=None)
    renderer.want((MIX, Tap.PLACED))
    renderer.render(1_000)
    peaks = renderer.peaks()
    assert peaks[1] == np.float64(0.5) * strips[0].gains[1]
    assert peaks[2] == 0.0
    renderer.render(1_000)  # behind its end
    assert renderer.peaks()[1] == 0.0
