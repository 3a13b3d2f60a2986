"""The renderer: today's sound, latencies that are made up for, keys, groups, places to begin, copies of its memory."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from mivlo.core.errors import InvalidValue
from mivlo.core.graph import OFFLINE_GRID, Plan, Renderer, Strip, StripKind, Tap, blocks, compile, treat
from mivlo.core.graph.streams import Samples
from mivlo.core.moves import Aftercare, Channels, Entry, Shape, StaticMove, Treatment
from mivlo.core.units import Floats
from tests.core.graph import kinds
from tests.core.graph.kinds import Echo, GiveWay, Late

RATE = 8_000
INAUDIBLE = 1e-6
"""-120 dBFS."""
GROUP, MIX = 90, 99
REFERENCE = Path(__file__).parents[2] / "references" / "sections_0_2_1.json"
"""The sections that version 0.2.1 made of 20 moves of all shapes, for each of which scipy's filter gave its sound."""


@pytest.fixture(autouse=True, scope="module")
def _kinds() -> Iterator[None]:
    with kinds.known():
        yield


def _noise(seed: int, frames: int = 6_000, channels: int = 2) -> Floats:
    return np.random.default_rng(seed).standard_normal((frames, channels)) * 0.1


def _bell(gain: float = -6.0, hz: float = 800.0) -> StaticMove:
    return StaticMove(Shape.BELL, hz, q=2.0, gain_db=gain)


def _treatment(*moves: Any, **values: Any) -> Treatment:
    return Treatment(entries=tuple(Entry(id=i, move=m) for i, m in enumerate(moves)), **values)


def _song() -> tuple[Plan, dict[int, Samples]]:
    """Three tracks, one mono; two in a group; two give way to each other and one to its own group; lags everywhere."""
    strips = [
        Strip(id=1, channels=1, fader_db=-3.0, pan=-0.4, treatment=_treatment(_bell(), GiveWay(2, 37), Late(5))),
        Strip(id=2, parent=GROUP, treatment=_treatment(Late(11), GiveWay(1), _bell(3.0, 300.0))),
        Strip(id=3, parent=GROUP, pan=0.5, treatment=_treatment(GiveWay(GROUP, 64))),
        Strip(id=GROUP, kind=StripKind.GROUP, fader_db=2.0, treatment=_treatment(Late(23), _bell(-2.0, 2_000.0))),
        Strip(id=MIX, kind=StripKind.MIX, treatment=_treatment(GiveWay(3, 3)), ),
    ]  # fmt: skip
    sources: dict[int, Samples] = {1: _noise(1, channels=1), 2: _noise(2, 5_000), 3: _noise(3)}
    return compile(strips, sample_rate=RATE), sources


CELL = 256
"""Cells in which references are made: the test's own kinds count in Python, and a cell of a file is 65,536 frames."""


def _whole(plan: Plan, sources: dict[int, Samples], point: tuple[int, Tap], frames: int, **how: Any) -> Floats:
    renderer = Renderer(plan, sources, **{"grid": CELL, **how})
    renderer.want(point)
    return np.concatenate([made[point] for made in blocks(renderer, frames)])


def _in_pieces(renderer: Renderer, point: tuple[int, Tap], sizes: list[int]) -> Floats:
    return np.concatenate([renderer.render(n)[point] for n in sizes])


# --- the sound of static moves ----------------------------------------------------------------------


def test_twenty_moves_of_all_shapes_sound_on_the_demo_song_as_they_did(made: tuple[dict[str, Floats], Any]) -> None:
    moves = json.loads(REFERENCE.read_text())["moves"]
    rate = 48_000
    for number, (name, x) in enumerate(made[0].items()):
        mine = [m for i, m in enumerate(moves) if i % 9 == number] + moves[number : number + 4]
        known = np.concatenate([np.array(m["sections"][str(rate)]) for m in mine])
        steps = [
            StaticMove(
                Shape(m["shape"]), m["frequency_hz"], q=m["q"], gain_db=m["gain_db"],
                slope_db_per_octave=m["slope_db_per_octave"],
            )
            for m in mine
        ]  # fmt: skip
        single = x.astype(np.float32)
        before = signal.sosfilt(known, single.astype(np.float64), axis=0)
        assert np.max(np.abs(treat(single, steps, sample_rate=rate) - before)) < INAUDIBLE, name


def test_nothing_to_do_gives_back_the_samples_themselves() -> None:
    x = _noise(0).astype(np.float32)
    assert np.array_equal(treat(x, Treatment(), sample_rate=RATE), x)
    off = Treatment(entries=(Entry(move=_bell(), enabled=False),))
    assert np.array_equal(treat(x, off, sample_rate=RATE), x)
    assert treat(x[:0], [_bell()], sample_rate=RATE).shape == (0, 2)


def test_channels_treat_their_part_and_leave_the_rest() -> None:
    x = _noise(0)
    whole = treat(x, [_bell(-12.0)], sample_rate=RATE)
    mid, side = x.mean(axis=1), (x[:, 0] - x[:, 1]) / 2
    heard = {
        c: treat(x, Treatment(entries=(Entry(move=_bell(-12.0), channels=c),)), sample_rate=RATE) for c in Channels
    }
    assert np.max(np.abs(heard[Channels.LEFT] - np.column_stack([whole[:, 0], x[:, 1]]))) < INAUDIBLE
    assert np.max(np.abs(heard[Channels.RIGHT] - np.column_stack([x[:, 0], whole[:, 1]]))) < INAUDIBLE
    assert np.max(np.abs(heard[Channels.MID].mean(axis=1) - whole.mean(axis=1))) < INAUDIBLE
    assert np.max(np.abs((heard[Channels.MID][:, 0] - heard[Channels.MID][:, 1]) / 2 - side)) < INAUDIBLE
    assert np.max(np.abs(heard[Channels.SIDE].mean(axis=1) - mid)) < INAUDIBLE
    # a mono sound is all mid and has no side
    mono = x[:, :1]
    for channels, moved in ((Channels.MID, True), (Channels.LEFT, True), (Channels.SIDE, False)):
        there = treat(mono, Treatment(entries=(Entry(move=_bell(-12.0), channels=channels),)), sample_rate=RATE)
        wanted = treat(mono, [_bell(-12.0)], sample_rate=RATE) if moved else mono
        assert np.max(np.abs(there - wanted)) < INAUDIBLE


def test_stretches_are_exact_to_the_frame_and_fade_inside() -> None:
    x = _noise(0)
    entry = Entry(move=_bell(-12.0), stretches=((0.1, 0.2), (0.4, 0.41)), fade_ms=20.0)
    heard = treat(x, Treatment(entries=(entry,)), sample_rate=RATE)
    plain = treat(x, Treatment(), sample_rate=RATE)
    whole = treat(x, [_bell(-12.0)], sample_rate=RATE)
    inside = np.zeros(len(x), dtype=bool)
    inside[800:1_600] = inside[3_200:3_280] = True
    assert np.array_equal(heard[~inside], plain[~inside])
    assert np.max(np.abs(heard[960:1_440] - whole[960:1_440])) < INAUDIBLE  # 20 ms of fade at either end
    assert np.max(np.abs(heard[3_220:3_260] - whole[3_220:3_260])) < INAUDIBLE  # a fade takes at most a quarter
    assert 0 < np.max(np.abs(heard[800] - x[800])) < 0.1 * np.max(np.abs(whole[700:900] - x[700:900]))


def test_amounts_scale_gains_of_all_and_of_links() -> None:
    x = _noise(0)
    entries = (Entry(id=0, move=_bell(-8.0)), Entry(id=1, move=_bell(6.0, 300.0), links=("warm",)))
    heard = treat(x, Treatment(entries=entries, amounts={"all": 0.5, "warm": 1.5}), sample_rate=RATE)
    wanted = treat(x, [_bell(-4.0), _bell(4.5, 300.0)], sample_rate=RATE)
    assert np.max(np.abs(heard - wanted)) < INAUDIBLE


def test_the_output_gain_comes_behind_everything() -> None:
    x = _noise(0)
    heard = treat(x, _treatment(_bell(), aftercare=Aftercare(output_db=-6.0)), sample_rate=RATE)
    assert np.max(np.abs(heard - treat(x, [_bell()], sample_rate=RATE) * 10 ** (-0.3))) < INAUDIBLE


# --- everything meets on one frame ------------------------------------------------------------------


@given(
    lags=st.lists(st.integers(0, 400), min_size=1, max_size=4),
    sizes=st.lists(st.integers(1, 900), min_size=3, max_size=6),
)
@settings(max_examples=25)
def test_any_latency_is_made_up_for_at_every_tap(lags: list[int], sizes: list[int]) -> None:
    x = _noise(4, 2_000).astype(np.float32)
    strips = [
        Strip(id=1, parent=GROUP, treatment=_treatment(*(Late(n) for n in lags))),
        Strip(id=2, parent=GROUP),
        Strip(id=GROUP, kind=StripKind.GROUP, treatment=_treatment(Late(lags[0]))),
    ]
    plan = compile(strips, sample_rate=RATE)
    renderer = Renderer(plan, {1: x, 2: -x}, grid=None)
    renderer.want(*((i, tap) for i in (1, GROUP) for tap in Tap))
    assert renderer.latency == sum(lags) + lags[0]
    at = 0
    for n in sizes:
        made = renderer.render(n)
        here = np.zeros((n, 2))
        part = x[at : at + n]
        here[: len(part)] = part
        for tap in (Tap.UNTREATED, Tap.TREATED, Tap.KEY, Tap.BEHIND, Tap.PLACED):
            assert np.array_equal(made[1, tap], here), tap
        assert not made[1, Tap.REMOVED].any()
        assert not made[GROUP, Tap.BEHIND].any()  # the two cancel only if they meet on the frame
        at += n


def test_an_export_has_its_sources_length_and_begins_with_it() -> None:
    x = _noise(4, 1_000).astype(np.float32)
    assert np.array_equal(treat(x, _treatment(Late(300)), sample_rate=RATE), x)


@given(
    at=st.integers(0, 5_900),
    sizes=st.lists(st.integers(1, 700), min_size=1, max_size=5),
    grid=st.sampled_from([None, 256]),
)
@settings(max_examples=30)
def test_from_any_frame_in_any_blocks_it_is_the_sound_from_the_songs_start(
    at: int, sizes: list[int], grid: int | None
) -> None:
    plan, sources = _song()
    for point in ((MIX, Tap.PLACED), (1, Tap.BEHIND), (GROUP, Tap.TREATED), (GROUP, Tap.KEY), (3, Tap.REMOVED)):
        whole = _reference(point)
        renderer = Renderer(plan, sources, at=at, grid=grid)
        renderer.want(point)
        heard = _in_pieces(renderer, point, sizes)
        assert renderer.exact
        assert np.max(np.abs(heard - whole[at : at + len(heard)])) < INAUDIBLE, point


_known: dict[tuple[int, Tap], Floats] = {}


def _reference(point: tuple[int, Tap]) -> Floats:
    if point not in _known:
        plan, sources = _song()
        _known[point] = _whole(plan, sources, point, 10_000)
    return _known[point]


def test_taps_that_are_wanted_together_are_those_that_are_wanted_alone() -> None:
    plan, sources = _song()
    points = [(i, tap) for i in plan.order for tap in Tap]
    renderer = Renderer(plan, sources, grid=None)
    renderer.want(*points)
    made = [renderer.render(n) for n in (100, 1, 699, 1_200)]
    for point in points:
        heard = np.concatenate([m[point] for m in made])
        assert np.max(np.abs(heard - _whole(plan, sources, point, 2_000))) < INAUDIBLE, point


def test_the_bits_of_a_file_do_not_depend_on_what_else_is_made_or_in_what_blocks() -> None:
    plan, sources = _song()
    point = (2, Tap.BEHIND)
    alone = _whole(plan, sources, point, 5_000, grid=512)
    renderer = Renderer(plan, sources, grid=512)
    renderer.want((MIX, Tap.PLACED), point, (1, Tap.KEY))
    assert np.array_equal(_in_pieces(renderer, point, [1, 511, 700, 3_788]), alone)
    assert OFFLINE_GRID % 512 == 0


# --- keys -------------------------------------------------------------------------------------------


def test_two_strips_give_way_to_each_other_and_one_to_its_own_group() -> None:
    plan, sources = _song()
    for i, other in ((1, 2), (2, 1), (3, GROUP)):
        quiet = {
            **sources,
            **{k: np.zeros((10, plan.strips[k].channels)) for k in ({2, 3} if other == GROUP else {other})},
        }
        if other == GROUP:
            quiet[3] = sources[3]
        less = _whole(plan, sources, (i, Tap.BEHIND), 4_000)
        more = _whole(plan, quiet, (i, Tap.BEHIND), 4_000)
        assert np.sum(less**2) < 0.97 * np.sum(more**2), i


def test_a_key_does_not_hear_what_listens_nor_faders_mutes_and_listening() -> None:
    plan, sources = _song()
    key = _whole(plan, sources, (1, Tap.KEY), 3_000)
    plain = treat(np.asarray(sources[1]), [_bell()], sample_rate=RATE)[:3_000]
    assert np.max(np.abs(key - plain)) < 1e-6
    strips = list(plan.strips.values())
    turned = [replace(s, fader_db=-40.0, mute=True) if s.id == 1 else s for s in strips]
    other = compile(turned, sample_rate=RATE)
    assert np.array_equal(_whole(other, sources, (2, Tap.BEHIND), 3_000), _whole(plan, sources, (2, Tap.BEHIND), 3_000))
    renderer = Renderer(plan, sources, grid=CELL)
    renderer.want((2, Tap.BEHIND))
    renderer.listen(1, treated=0.0, gain=0.1)
    assert np.array_equal(renderer.render(3_000)[2, Tap.BEHIND], _whole(plan, sources, (2, Tap.BEHIND), 3_000))


def test_a_groups_key_is_the_sum_of_its_children_with_their_faders() -> None:
    plan, sources = _song()
    parts = []
    for i in (2, 3):
        left, right = plan.strips[i].gains
        parts.append(_whole(plan, sources, (i, Tap.KEY), 3_000) * [left, right])
    wanted = treat(sum(parts), [_bell(-2.0, 2_000.0)], sample_rate=RATE)
    assert np.max(np.abs(_whole(plan, sources, (GROUP, Tap.KEY), 3_000) - wanted)) < INAUDIBLE


def test_a_strip_knows_the_recordings_that_it_is_made_of_and_steered_by() -> None:
    plan, _ = _song()
    assert {i: set(plan.recordings_of(i)) for i in plan.strips} == {
        1: {1, 2}, 2: {1, 2}, 3: {2, 3}, GROUP: {1, 2, 3}, MIX: {1, 2, 3},
    }  # fmt: skip


def test_a_key_that_is_not_there_is_silent() -> None:
    x = _noise(1)
    plan = compile([Strip(id=1, treatment=_treatment(GiveWay(77)))], sample_rate=RATE)
    assert np.max(np.abs(_whole(plan, {1: x}, (1, Tap.BEHIND), 1_000) - x[:1_000])) < 1e-7


# --- memory -----------------------------------------------------------------------------------------


def test_a_plans_memory_adds_up_along_a_strip_its_group_and_its_keys() -> None:
    notch = StaticMove(Shape.NOTCH, 20.0, q=100.0)
    rate = 48_000

    def memory(*strips: Strip) -> float:
        plan = compile(strips, sample_rate=rate)
        renderer = Renderer(plan, {}, grid=None)
        renderer.want((plan.mix, Tap.PLACED))
        return renderer.memory / rate

    # 2 T60 = 4.4 Q / f for -120 dB
    assert memory(Strip(id=1, treatment=_treatment(notch))) == pytest.approx(22.0, rel=0.01)
    assert memory(Strip(id=1, treatment=_treatment(notch, notch))) == pytest.approx(44.0, rel=0.01)
    group = Strip(id=2, kind=StripKind.GROUP, treatment=_treatment(notch))
    assert memory(Strip(id=1, parent=2, treatment=_treatment(notch)), group) == pytest.approx(44.0, rel=0.01)
    keyed = Strip(id=3, treatment=_treatment(GiveWay(1)))
    extra = np.log(1e-7) / np.log(1 - kinds.COEFFICIENT) / rate
    assert memory(Strip(id=1, treatment=_treatment(notch)), keyed) == pytest.approx(22.0 + extra, rel=0.01)


def test_where_the_way_back_is_limited_it_says_until_when_it_is_not_exact() -> None:
    x = _noise(5, 60_000, 1)
    plan = compile([Strip(id=1, channels=1, treatment=_treatment(Echo(0.999)))], sample_rate=RATE)
    point = (1, Tap.BEHIND)
    whole = _whole(plan, {1: x}, point, 60_000)
    renderer = Renderer(plan, {1: x}, at=30_000, longest_warm_up=2_000, grid=None)
    renderer.want(point)
    first = renderer.render(100)[point]
    assert not renderer.exact
    assert np.max(np.abs(first - whole[30_000:30_100])) > 1e-3
    rest = _in_pieces(renderer, point, [renderer.exact_from - renderer.position])
    assert 10_000 < len(rest) < 15_000
    assert renderer.exact
    after = renderer.render(500)[point]
    at = renderer.position
    assert np.max(np.abs(after - whole[at - 500 : at])) < 2 * INAUDIBLE


@given(cut=st.integers(1, 3_000), later=st.integers(1, 2_000))
@settings(max_examples=15)
def test_a_copy_of_the_memory_goes_on_to_the_same_bits(cut: int, later: int) -> None:
    plan, sources = _song()
    point = (MIX, Tap.PLACED)
    renderer = Renderer(plan, sources, grid=None)
    renderer.want(point)
    renderer.render(cut)
    kept = renderer.state()
    first = renderer.render(later)[point].copy()
    renderer.render(100)
    renderer.restore(kept)
    assert np.array_equal(renderer.render(later)[point], first)
    other = Renderer(plan, sources, grid=None)
    other.want(point)
    other.restore(kept)
    assert np.array_equal(other.render(later)[point], first)


@given(st.integers(0, 3_000), st.lists(st.integers(1, 700), min_size=1, max_size=6), st.integers(0, 60))
@settings(max_examples=20)
def test_two_plans_play_in_step_whatever_each_lags(at: int, sizes: list[int], lag: int) -> None:
    one, sources = _song()
    changed = replace(one.strips[2], treatment=_treatment(Late(lag), _bell(-9.0)))
    other = compile([changed if i == 2 else strip for i, strip in one.strips.items()], sample_rate=RATE)
    pair = [Renderer(plan, sources, at=at, grid=None) for plan in (one, other)]
    points = [(2, Tap.UNTREATED), (MIX, Tap.PLACED)]
    for renderer in pair:
        renderer.want(*points)
    heard: list[dict[tuple[int, Tap], Floats]] = []
    for n in sizes:
        here, there = (renderer.render(n) for renderer in pair)
        assert pair[0].position == pair[1].position
        assert np.array_equal(here[points[0]], there[points[0]])  # the same frames of the recording
        heard.append(there)
    mix = np.concatenate([made[points[1]] for made in heard])
    assert np.max(np.abs(mix - _whole(other, sources, points[1], at + len(mix))[at:])) < INAUDIBLE


def test_warming_up_in_small_steps_gives_the_same_as_at_once() -> None:
    plan, sources = _song()
    point = (MIX, Tap.PLACED)
    renderer = Renderer(plan, sources, at=4_000, grid=None)
    renderer.want(point)
    steps = 0
    while not renderer.warm_up(50):
        steps += 1
    assert steps > 3
    assert np.max(np.abs(renderer.render(500)[point] - _reference(point)[4_000:4_500])) < INAUDIBLE


# --- changes ----------------------------------------------------------------------------------------


def test_new_values_glide_and_are_exact_once_the_old_ones_are_forgotten() -> None:
    x = _noise(6, 40_000, 2)
    before = compile([Strip(id=1, treatment=_treatment(_bell(-6.0)))], sample_rate=RATE)
    after = compile([Strip(id=1, fader_db=-4.0, treatment=_treatment(_bell(9.0, 500.0), _bell(2.0)))], sample_rate=RATE)
    renderer = Renderer(before, {1: x}, grid=None)
    point = (before.mix, Tap.PLACED)
    renderer.want(point)
    renderer.render(5_003)
    assert renderer.fits(after)
    renderer.aim(after)
    assert not renderer.exact
    while not renderer.exact:
        renderer.render(64)
    at = renderer.position
    assert at < 8_000
    heard = renderer.render(1_000)[point]
    assert np.max(np.abs(heard - _whole(after, {1: x}, (after.mix, Tap.PLACED), at + 1_000)[at:])) < INAUDIBLE


def test_what_can_not_glide_is_refused() -> None:
    plan = compile([Strip(id=1, treatment=_treatment(Late(5)))], sample_rate=RATE)
    renderer = Renderer(plan, {})
    for other in (
        compile([Strip(id=1, treatment=_treatment(Late(6)))], sample_rate=RATE),
        compile([Strip(id=1), Strip(id=2)], sample_rate=RATE),
        compile(
            [Strip(id=1, treatment=Treatment(entries=(Entry(move=_bell(), channels=Channels.MID),)))],
            sample_rate=RATE,
        ),
    ):
        assert not renderer.fits(other)
        with pytest.raises(InvalidValue, match="renderer of its own"):
            renderer.aim(other)


def test_a_strip_that_is_muted_and_let_in_again_fades_and_is_exact() -> None:
    plan, sources = _song()
    point = (MIX, Tap.PLACED)
    renderer = Renderer(plan, sources, grid=None)
    renderer.want(point)
    renderer.render(1_000)
    muted = compile([replace(s, mute=s.id == 2) for s in plan.strips.values()], sample_rate=RATE)
    renderer.aim(muted)
    renderer.render(1_500)
    renderer.aim(plan)
    heard = renderer.render(2_000)[point]
    assert np.max(np.abs(np.diff(heard, axis=0))) < 1.0  # noise at 0.1: no step of its own
    while not renderer.exact:
        renderer.render(64)
    at = renderer.position
    assert np.max(np.abs(renderer.render(300)[point] - _reference(point)[at : at + 300])) < INAUDIBLE


def test_a_known_treated_sound_stands_in_for_the_strip_and_gives_the_same_bits() -> None:
    plan, sources = _song()
    point = (MIX, Tap.PLACED)
    known = {2: _whole(plan, sources, (2, Tap.BEHIND), 8_000).astype(np.float32)}
    renderer = Renderer(plan, sources, treated=known, grid=CELL)
    renderer.want(point)
    assert np.array_equal(renderer.render(6_000)[point], _whole(plan, sources, point, 6_000))
    changed = [replace(s, treatment=_treatment(_bell())) if s.id == 2 else s for s in plan.strips.values()]
    assert not renderer.fits(compile(changed, sample_rate=RATE))
    with pytest.raises(InvalidValue, match="whose treated sound is given"):
        renderer.want((2, Tap.TREATED))


def test_solo_is_for_the_ear_and_mute_for_files_too() -> None:
    x = np.full((100, 2), 0.1)
    strips = [
        Strip(id=1, parent=GROUP), Strip(id=2, solo=True, parent=GROUP), Strip(id=3), Strip(id=4, mute=True),
        Strip(id=GROUP, kind=StripKind.GROUP),
    ]  # fmt: skip
    plan = compile(strips, sample_rate=RATE)
    sources: dict[int, Samples] = dict.fromkeys((1, 2, 3, 4), x)
    assert _whole(plan, sources, (plan.mix, Tap.PLACED), 10)[0, 0] == pytest.approx(0.3)
    assert _whole(plan, sources, (plan.mix, Tap.PLACED), 10, solos=True)[0, 0] == pytest.approx(0.1)
    soloed = [replace(s, solo=s.id == GROUP) for s in strips]
    plan = compile(soloed, sample_rate=RATE)
    assert _whole(plan, sources, (plan.mix, Tap.PLACED), 10, solos=True)[0, 0] == pytest.approx(0.2)


def test_a_listener_hears_treated_untreated_and_removed_without_changing_what_is_exported() -> None:
    plan, sources = _song()
    parts = {}
    for name, weights in (("treated", (1.0, 0.0)), ("untreated", (0.0, 1.0)), ("removed", (-1.0, 1.0))):
        renderer = Renderer(plan, sources, grid=None)
        renderer.want((1, Tap.BEHIND))
        renderer.listen(1, treated=weights[0], untreated=weights[1], glide=False)
        parts[name] = renderer.render(3_000)[1, Tap.BEHIND].copy()
    assert np.array_equal(parts["untreated"].astype(np.float32), np.asarray(sources[1])[:3_000].astype(np.float32))
    assert np.max(np.abs(parts["untreated"] - parts["treated"] - parts["removed"])) < 1e-6
    assert np.max(np.abs(parts["removed"])) > 0.01


def test_moving_moves_report_what_they_do() -> None:
    plan, sources = _song()
    renderer = Renderer(plan, sources, grid=None)
    renderer.want((1, Tap.BEHIND))
    renderer.render(2_000)
    assert set(renderer.report()) == {(1, 1), (1, 2)}
    assert -4.0 < renderer.report()[1, 1] < -0.5
