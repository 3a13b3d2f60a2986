"""Clashes, carves and the floor: known answers, properties, and the rendered sound as the judge."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mivlo.core.auditory import components, frame_length, partial_loudness, sones
from mivlo.core.clashes import (
    FILES_FULL_SCALE_DB,
    Carving,
    Clash,
    Halves,
    Limits,
    Scene,
    by_importance,
    find_floors,
    free,
    low_end,
    right_of_way,
    same_sources,
    survey,
)
from mivlo.core.clashes.piling import HARSH_HZ, pile_up
from mivlo.core.clashes.way import IMPORTANCE
from mivlo.core.errors import InvalidValue
from mivlo.core.graph import treat, treated_blocks
from mivlo.core.moves import Channels, DynamicMove, Entry, Shape, StaticMove, Treatment
from mivlo.core.roles import Role
from mivlo.core.units import Floats
from tests.core.test_auditory import RATE, noise, tone


def scene(*sounds: Floats, gains: tuple[tuple[float, float], ...] = ()) -> Scene:
    """A scene of mono sounds; `gains` of left and right make it one of two ears."""
    powers = [components(x[:, None], sample_rate=RATE) for x in sounds]
    if gains:
        powers = [p * np.square(np.array(g, np.float32))[:, None, None] for p, g in zip(powers, gains, strict=True)]
    return Scene.of(powers, full_scale_db=FILES_FULL_SCALE_DB, frame_s=frame_length(RATE) / RATE)


def gated(x: Floats, *stretches: tuple[float, float]) -> Floats:
    out = np.zeros_like(x)
    for a, b in stretches:
        out[round(a * RATE) : round(b * RATE)] = x[round(a * RATE) : round(b * RATE)]
    return out


def overlap(clash: Clash, low: float, high: float) -> float:
    shared = np.log2(min(clash.to_hz, high) / max(clash.from_hz, low))
    return float(shared / np.log2(max(clash.to_hz, high) / min(clash.from_hz, low)))


def test_tracks_in_separate_bands_do_not_clash() -> None:
    low, high = noise(70.0, 100.0, 300.0, 3.0), noise(70.0, 2_000.0, 6_000.0, 3.0)
    found = survey(scene(low, high))
    assert found.clashes == ()
    assert all(loss.kept_share > 0.98 for loss in found.losses)


def test_tracks_at_other_times_do_not_clash() -> None:
    x = noise(70.0, 300.0, 3_000.0, 4.0)
    found = survey(scene(gated(x, (0.0, 1.0), (2.0, 3.0)), gated(x[::-1], (1.1, 1.9), (3.1, 3.9))))
    assert [c for c in found.clashes if c.lost > 0.05] == []


def test_equal_tracks_cover_each_other() -> None:
    a, b = noise(70.0, 500.0, 2_000.0, 3.0), noise(70.0, 500.0, 2_000.0, 3.0)[::-1].copy()
    found = survey(scene(a, b))
    first, second = found.losses
    assert first.kept_share == pytest.approx(second.kept_share, abs=0.02)
    assert first.kept_share < 0.75
    assert {(c.covered, c.by) for c in found.clashes} == {(0, 1), (1, 0)}


@pytest.mark.parametrize("below_db", [3.0, 8.0, 14.0, 25.0])
def test_a_quiet_track_loses_what_the_model_says(below_db: float) -> None:
    """A tone in a steady noise: what the survey keeps is partial over plain loudness of the long-term excitations."""
    quiet, loud = tone(1_000.0, 70.0 - below_db), noise(70.0, 600.0, 1_600.0, 1.0)
    heard = scene(quiet, loud)
    own, other = (e.mean(axis=1) for e in heard.excitation)
    wanted = float(sones(partial_loudness(own, other))[0]) / float(sones(partial_loudness(own, other * 0))[0])
    assert survey(heard).losses[0].kept_share == pytest.approx(wanted, abs=0.06)


def test_a_planted_clash_comes_first_with_its_range_and_its_moments() -> None:
    voice = noise(62.0, 200.0, 4_000.0, 8.0)
    layer = gated(noise(62.0, 900.0, 1_800.0, 8.0), (2.0, 3.5), (5.5, 6.5))
    guitar = noise(60.0, 80.0, 180.0, 8.0) + layer
    worst = survey(scene(voice, guitar)).clashes[0]
    assert (worst.covered, worst.by) == (0, 1)
    assert overlap(worst, 900.0, 1_800.0) > 0.6
    assert len(worst.moments) == 2
    for (a, b), (c, d) in zip(sorted(worst.moments), [(2.0, 3.5), (5.5, 6.5)], strict=True):
        assert (a, b) == (pytest.approx(c, abs=0.15), pytest.approx(d, abs=0.15))
    assert worst.share_of_time == pytest.approx(2.5 / 8.0, abs=0.05)


def test_an_event_comes_before_what_is_covered_all_the_time() -> None:
    """A voice under a pad throughout, and for two seconds under a layer of the pad's own elsewhere."""
    voice = noise(62.0, 150.0, 5_000.0, 8.0)
    pad = noise(63.0, 150.0, 700.0, 8.0)[::-1].copy()
    steady = survey(scene(voice, pad)).clashes
    layer = gated(noise(63.0, 1_500.0, 2_800.0, 8.0), (2.0, 3.0), (5.5, 6.5))
    found = [c for c in survey(scene(voice, pad + layer)).clashes if c.covered == 0]
    event, *rest = found
    assert overlap(event, 1_500.0, 2_800.0) > 0.6
    usual = next(c for c in rest if overlap(c, 150.0, 700.0) > 0.2)
    assert usual.lost > event.lost  # it takes more, but it is how the two are arranged
    # and a layer that is always there is no event
    always = survey(scene(voice, pad + noise(63.0, 1_500.0, 2_800.0, 8.0))).clashes
    there = next(c for c in always if c.covered == 0 and overlap(c, 1_500.0, 2_800.0) > 0.3)
    assert there.weight / there.hidden < event.weight / event.hidden
    assert steady[0].share_of_time > 0.9


def test_the_better_ear_counts() -> None:
    a, b = noise(65.0, 500.0, 2_000.0), noise(70.0, 500.0, 2_000.0)[::-1].copy()
    apart = survey(scene(a, b, gains=((1.0, 0.0), (0.0, 1.0)))).losses
    assert [loss.kept_share for loss in apart] == [1.0, 1.0]
    half = survey(scene(a, b, gains=((0.7, 0.7), (1.0, 0.0)))).losses
    assert half[0].kept_share == 1.0  # its right ear is free
    both = survey(scene(a, b, gains=((0.7, 0.7), (0.7, 0.7)))).losses
    assert both[0].kept_share < 0.6


def _wide(middle: Floats, side: Floats) -> Floats:
    """(n, 2)."""
    return np.stack([middle + side, middle - side], axis=1)


def _with_halves(voice: Floats, beat: Floats) -> tuple[Scene, Carving]:
    heard = Scene.of(
        [np.repeat(components(voice[:, None], sample_rate=RATE), 2, axis=0), components(beat, sample_rate=RATE)],
        full_scale_db=FILES_FULL_SCALE_DB, frame_s=frame_length(RATE) / RATE,
    )  # fmt: skip

    def halves() -> Halves:
        middle = components(beat.mean(axis=1, keepdims=True), sample_rate=RATE)
        return Halves.of(heard.power[1], middle)

    return heard, Carving(heard, 0, 1, lambda: voice[:, None], sample_rate=RATE, halves=halves)


@settings(max_examples=8)
@given(hz=st.floats(200.0, 5_000.0), q=st.floats(0.7, 4.0), gain=st.floats(-12.0, -1.0), lean=st.floats(-0.4, 0.4))
def test_what_a_cut_of_the_middle_does_is_what_it_does_when_it_is_rendered(
    hz: float, q: float, gain: float, lean: float
) -> None:
    voice, side = noise(64.0, 300.0, 4_000.0, 2.0), noise(60.0, 200.0, 6_000.0, 2.0)[::-1].copy()
    middle = np.roll(noise(63.0, 150.0, 5_000.0, 2.0), 7_000)
    beat = _wide(middle, side + lean * middle)  # what is common to both leans to one ear
    move = StaticMove(Shape.BELL, hz, q=q, gain_db=gain)
    _, carving = _with_halves(voice, beat)
    told = carving.effect(move, Channels.MID)
    treatment = Treatment(entries=(Entry(id=1, move=move, channels=Channels.MID),))
    rendered = np.concatenate(list(treated_blocks(beat, treatment, sample_rate=RATE, keys={})))
    before, after = carving, _with_halves(voice, rendered)[1]
    # what turns the phase of the middle changes what it has in common with the sides; that is not predicted
    assert told.gained_sones == pytest.approx(after._before - before._before, rel=0.25, abs=0.04)
    assert told.lost_sones == pytest.approx(before._loudness - after._loudness, rel=0.25, abs=0.08)


def test_over_a_wide_beat_only_the_middle_gives_way_to_a_voice() -> None:
    voice = noise(62.0, 500.0, 2_000.0, 3.0)
    beat = _wide(np.roll(noise(66.0, 500.0, 2_000.0, 3.0), 9_000), noise(58.0, 3_000.0, 9_000.0, 3.0)[::-1].copy())
    heard, carving = _with_halves(voice, beat)
    clash = next(c for c in survey(heard).clashes if c.covered == 0)
    carve = carving.best(clash)
    assert carve is not None
    alike = carving.effect(carve.move, Channels.ALL)
    assert carve.channels is Channels.MID
    assert carve.effect.gained_sones - 0.3 * carve.effect.lost_sones >= alike.gained_sones - 0.3 * alike.lost_sones
    after = heard.power.copy()
    after[1], left = carving.carved(carve, heard.power[1])
    assert left is not None
    freed = survey(Scene(after, heard.full_scale_db, heard.frame_s)).losses[0].among_all
    assert freed - survey(heard).losses[0].among_all == pytest.approx(carve.effect.gained_sones, rel=0.2)


def test_what_is_buried_is_no_clash_of_carves() -> None:
    """A track 40 dB under another is lost, and said to be; but no carve brings it back."""
    found = survey(scene(noise(75.0, 300.0, 3_000.0), noise(35.0, 300.0, 3_000.0)[::-1].copy()))
    assert found.losses[1].kept_share < 0.05
    assert found.clashes == ()


@given(st.permutations(range(3)), st.sampled_from([1, 2]))
@settings(max_examples=12)
def test_the_order_of_tracks_does_not_matter(order: list[int], ears: int) -> None:
    sounds = [noise(60.0 + 3 * i, 200.0 * 2**i, 1_500.0 * 2**i, 1.5)[:: (-1) ** i].copy() for i in range(3)]
    gains = ((0.9, 0.3), (0.5, 0.5), (0.2, 1.0)) if ears == 2 else ()
    plain = survey(scene(*sounds, gains=gains))
    other = survey(scene(*[sounds[i] for i in order], gains=tuple(gains[i] for i in order) if gains else ()))
    back = {(order[c.covered], order[c.by], c.first, c.last): c.lost for c in other.clashes}
    assert {(c.covered, c.by, c.first, c.last): pytest.approx(c.lost, rel=1e-3) for c in plain.clashes} == back


def test_losses_add_up() -> None:
    """What a strip loses to each is what it loses to all; and no track loses to itself."""
    sounds = [noise(60.0 + 4 * i, 150.0 * 2**i, 2_500.0, 1.5)[:: (-1) ** i].copy() for i in range(4)]
    for number, loss in enumerate(survey(scene(*sounds)).losses):
        assert loss.lost.sum() == pytest.approx(loss.loudness - loss.among_all, rel=0.02)
        assert np.all(loss.lost[number] == 0.0)
        assert np.all(loss.buried <= loss.lost + 1e-9)


def _covered_pair() -> tuple[Floats, Floats]:
    voice = gated(noise(66.0, 300.0, 4_000.0, 6.0), (0.5, 2.0), (3.0, 4.5))
    return voice, noise(68.0, 500.0, 5_000.0, 6.0)[::-1].copy()


def test_a_carve_gains_on_the_rendered_sound_what_it_promised() -> None:
    voice, strings = _covered_pair()
    before = scene(voice, strings)
    found = survey(before)
    carves = free(before, 0, found.clashes, lambda: voice[:, None], sample_rate=RATE)
    assert carves
    assert all(c.on == 1 for c in carves)
    moves = [c.move for c in carves]
    assert any(isinstance(m, DynamicMove) and m.key.source == 0 for m in moves)  # it pays to wait for the voice
    made = treated_blocks(strings[:, None], Treatment.of(moves), sample_rate=RATE, keys={0: voice[:, None]})
    after = survey(scene(voice, np.concatenate(list(made))[:, 0])).losses
    gained = after[0].among_all - found.losses[0].among_all
    promised = sum(c.effect.gained_sones for c in carves)
    assert gained > 0.8 * promised > 0.05
    lost = found.losses[1].loudness - after[1].loudness
    assert lost == pytest.approx(sum(c.effect.lost_sones for c in carves), rel=0.25)


@pytest.mark.parametrize(("most_db", "most"), [(0.5, 3), (6.3, 1)])
def test_carves_stay_within_their_limits(most_db: float, most: int) -> None:
    voice, strings = _covered_pair()
    third = noise(64.0, 400.0, 2_000.0, 6.0)
    heard = scene(voice, strings, third)
    clashes = survey(heard).clashes
    limits = Limits(most_db=most_db, most_moves=most, untouched=frozenset({2}))
    carves = free(heard, 0, clashes, lambda: voice[:, None], sample_rate=RATE, limits=limits)
    assert len(carves) <= most
    for carve in carves:
        assert carve.on == 1
        depth = carve.move.range_db if isinstance(carve.move, DynamicMove) else carve.move.gain_db
        assert -most_db - 0.051 <= depth < 0.0  # rounded to tenths of a dB


def test_nothing_is_carved_where_nothing_clashes() -> None:
    heard = scene(noise(70.0, 100.0, 300.0), noise(70.0, 2_000.0, 6_000.0))
    assert free(heard, 0, survey(heard).clashes, lambda: np.zeros((RATE, 1)), sample_rate=RATE) == []


# --- the floor ------------------------------------------------------------------------------------


def _band() -> tuple[Scene, list[Floats]]:
    """A bass, a guitar with rumble below its notes, and a high track with hum, 4 s."""
    seconds = 4.0
    t = np.arange(round(seconds * RATE)) / RATE
    bass = sum(noise(72.0 - 6 * k, 55.0 * k - 2, 55.0 * k + 2, seconds) for k in range(1, 5))
    notes = sum(np.sin(2 * np.pi * 220.0 * k * t) / k for k in range(1, 12)) * 0.01
    guitar = notes + noise(48.0, 30.0, 70.0, seconds)
    shaker = noise(62.0, 3_000.0, 9_000.0, seconds) + noise(45.0, 40.0, 60.0, seconds)
    sounds = [np.asarray(bass), np.asarray(guitar), shaker]
    return scene(*sounds), sounds


def test_the_floor_is_cut_where_it_is_not_heard_and_only_there() -> None:
    heard, _ = _band()
    bass, guitar, shaker = find_floors(heard).tracks
    assert bass.left_alone == "it lives in the low end"
    assert bass.move is None
    assert bass.share > 0.9
    for track in (guitar, shaker):
        assert track.corner_in_mix_hz is not None
        assert track.left_alone is None
    assert guitar.lowest_note_hz == pytest.approx(220.0, rel=0.1)
    assert 70.0 < guitar.corner_in_mix_hz <= 220.0  # type: ignore[operator]
    assert isinstance(guitar.move, StaticMove)
    assert guitar.move.shape is Shape.LOW_CUT


def test_what_the_floor_takes_is_less_than_one_is_said_to_hear() -> None:
    """The rendered low cuts against the model: no track loses more than 1.5 % of its loudness in the mix."""
    heard, sounds = _band()
    floors = find_floors(heard)
    behind = [
        np.concatenate(list(treated_blocks(x[:, None], Treatment.of([f.move] if f.move else []), sample_rate=RATE)))[
            :, 0
        ]
        for x, f in zip(sounds, floors.tracks, strict=True)
    ]
    before, after = survey(heard).losses, survey(scene(*behind)).losses
    for a, b in zip(before, after, strict=True):
        assert b.among_all > 0.985 * a.among_all  # it may gain, as the others cover it less
    assert floors.after_db < floors.before_db


def test_two_microphones_of_one_source_get_the_same_cut() -> None:
    _, sounds = _band()
    near = sounds[1]
    far = 0.6 * np.roll(near, 240) + noise(40.0, 500.0, 2_000.0, 4.0)
    pairs = same_sources([low_end(x[:, None], sample_rate=RATE) for x in (*sounds, far)])
    assert pairs == [(1, 3)]
    floors = find_floors(scene(*sounds, far), same_source=pairs).tracks
    assert floors[1].corner_in_mix_hz == floors[3].corner_in_mix_hz
    assert floors[1].slope_db_per_octave == floors[3].slope_db_per_octave


def test_a_silent_track_has_no_floor() -> None:
    (track,) = find_floors(scene(np.zeros(RATE))).tracks
    assert (track.corner_in_mix_hz, track.left_alone) == (None, "it is silent")


def test_what_holds_only_a_trace_of_anothers_lows_is_no_second_microphone() -> None:
    near = _band()[1][1]
    trace = 0.09 * np.roll(near, 240)
    assert same_sources([low_end(x[:, None], sample_rate=RATE) for x in (near, trace)]) == []
    assert same_sources([low_end(x[:, None], sample_rate=RATE) for x in (near, 2.0 * trace)]) == [(0, 1)]


_roles = st.lists(st.sampled_from(list(Role)), min_size=1, max_size=9)


@given(_roles, st.data())
def test_an_order_by_hand_is_kept_and_who_is_not_in_it_goes_by_role(roles: list[Role], data: st.DataObject) -> None:
    known = data.draw(st.lists(st.sampled_from(range(len(roles))), unique=True))
    ranks = [known.index(i) if i in known else None for i in range(len(roles))]
    order = by_importance(roles, ranks)
    assert sorted(order) == list(range(len(roles)))
    assert [i for i in order if i in known] == known
    assert by_importance(roles) == sorted(range(len(roles)), key=lambda i: (IMPORTANCE.index(roles[i]), i))
    for i in set(order) - set(known):  # nobody of a later role stands before it that was not put there by hand
        later = [k for k in order[: order.index(i)] if IMPORTANCE.index(roles[k]) > IMPORTANCE.index(roles[i])]
        assert all(k in known for k in later)
    if known and len(roles) > 1:
        a, b = order[-1], order[0]
        assert right_of_way(roles, a, b, 1_000.0, 3_000.0, [0.5] * len(roles), ranks) == (
            b,
            "it stands higher in your order",
        )


def test_what_piles_up_between_2_and_5_khz_is_taken_from_the_group_or_from_those_that_make_it() -> None:
    lead, second, quiet = (
        noise(60.0, 2_000.0, 5_000.0, 3.0),
        noise(58.0, 2_200.0, 4_500.0, 3.0),
        noise(45.0, 2_000.0, 5_000.0, 3.0),
    )
    low, voice = noise(60.0, 100.0, 800.0, 3.0), noise(55.0, 1_500.0, 4_000.0, 3.0)
    found = pile_up(scene(lead, second, quiet, low, voice), [0, 1, 2, 3], depth_db=2.0)
    power = np.array([np.sum(x**2) for x in (lead, second, quiet)])
    assert [found.share[i] for i in range(3)] == pytest.approx(
        power / power.sum(), abs=0.06
    )  # K weighs 2 to 5 kHz alike
    assert found.share[3] < 0.001
    assert found.piled == (0, 1)
    assert found.on_tracks is not None
    assert set(found.on_tracks.taken) == {0, 1}
    # both take from the rendered sum what they say, in the range
    whole = [lead, second, quiet, low]
    before = _harsh_power(sum(whole))  # type: ignore[arg-type]
    group = treat(np.sum(whole, axis=0)[:, None], [found.on_group.cut], sample_rate=RATE)[:, 0]
    tracks = [
        treat(x[:, None], [found.on_tracks.cut], sample_rate=RATE)[:, 0] if i < 2 else x for i, x in enumerate(whole)
    ]
    for after, remedy in ((group, found.on_group), (np.sum(tracks, axis=0), found.on_tracks)):
        assert 10.0 * np.log10(before / _harsh_power(after)) == pytest.approx(remedy.drop_db, abs=0.15)
    assert found.on_group.drop_db == found.on_tracks.drop_db
    assert found.on_tracks.cut.gain_db < found.on_group.cut.gain_db  # fewer tracks: deeper
    # the voice beside them regains something, and the tracks pay
    assert min(found.on_group.gained, found.on_tracks.gained) > 0.0
    assert all(sones > 0.0 for sones in found.on_tracks.taken.values())


def _harsh_power(x: Floats) -> float:
    spectrum = np.abs(np.fft.rfft(x)) ** 2
    hz = np.fft.rfftfreq(len(x), 1.0 / RATE)
    return float(spectrum[(hz >= HARSH_HZ[0]) & (hz <= HARSH_HZ[1])].sum())


def test_nothing_piles_up_where_nothing_sounds() -> None:
    with pytest.raises(InvalidValue, match="none of them sounds between 2 and 5 kHz"):
        pile_up(scene(np.zeros(RATE), noise(60.0, 100.0, 400.0, 1.0)), [0])
