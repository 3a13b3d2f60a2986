"""The second opinion: what holds for any witnesses, and that what is told agrees with itself."""

from __future__ import annotations

import math
from random import Random

import numpy as np
import pytest
from bench.findings.damage import Bell, apply
from hypothesis import given
from hypothesis import strategies as st

from mivlo.core.findings.confidence import opinion_on
from mivlo.core.findings.evidence import trace
from mivlo.core.findings.opinion import SENSE, Curve, Opinion, from_arrays, to_arrays
from mivlo.core.findings.search import LEAST_BROAD_SHARE, Search
from mivlo.core.findings.witnesses import (
    BROAD,
    BY_KIND,
    KINDS,
    MEANINGS,
    NARROW,
    NOTES_FROM_DB,
    by_kind,
    of_track,
    with_crowd,
)
from tests.core.findings.sounds import RATE, hits, melody

values = st.one_of(st.floats(-60.0, 60.0), st.just(math.nan))


def test_every_witness_has_a_meaning_and_a_curve() -> None:
    for broad, names in ((False, NARROW), (True, BROAD)):
        assert set(opinion_on(broad=broad).curves) == set(names)
        assert set(names) <= set(MEANINGS)


@given(st.booleans(), st.data())
def test_more_of_what_speaks_for_a_spot_never_makes_it_less_likely(broad: bool, data: st.DataObject) -> None:
    opinion, names = opinion_on(broad=broad), BROAD if broad else NARROW
    heard = {name: data.draw(values) for name in names}
    name = data.draw(st.sampled_from([n for n in names if SENSE[n]]))
    low, high = sorted((data.draw(st.floats(-60.0, 60.0)), data.draw(st.floats(-60.0, 60.0))))
    less = opinion.confidence({**heard, name: low if SENSE[name] > 0 else high})
    more = opinion.confidence({**heard, name: high if SENSE[name] > 0 else low})
    assert 0.0 <= less <= more + 1e-12 <= 1.0 + 1e-9


@given(st.dictionaries(st.sampled_from(BY_KIND), values), st.floats(0.0, 40.0))
def test_what_a_line_means_is_asked_by_the_kind_of_track(heard: dict[str, float], partials_db: float) -> None:
    told = by_kind({**dict.fromkeys(BY_KIND, math.nan), "certainty": 1.0, **heard, "partials_db": partials_db})
    kind, other = KINDS if partials_db >= NOTES_FROM_DB else KINDS[::-1]
    assert set(told) == {"certainty", "partials_db", *(f"{name}_{kind}" for name in BY_KIND)}
    opinion, every = opinion_on(broad=False), dict.fromkeys(NARROW, 0.5)
    asked = {name: value for name, value in every.items() if not name.endswith(other)} | told
    assert set(opinion.parts(asked)) == set(asked)
    # what the other kind would be asked moves nothing
    assert opinion.confidence(asked) == opinion.confidence({**asked, "unknown": 3.0})


certain = st.tuples(st.floats(-8.0, 8.0), st.one_of(st.floats(-8.0, 8.0), st.just(math.nan)))


@given(st.lists(certain, max_size=6), certain, st.randoms(use_true_random=False))
def test_each_spot_hears_how_sure_the_surest_other_is(
    said: list[tuple[float, float]], one: tuple[float, float], random: Random
) -> None:
    """In whatever order, of the others only; and one more never makes what else there is less sure."""

    def heard(spots: list[tuple[float, float]]) -> list[float]:
        told = with_crowd([{"certainty": usual, "closer_certainty": closer} for usual, closer in spots])
        return [witnesses["surest_other"] for witnesses in told]

    first = heard([one, *said])
    order = random.sample(range(len(said)), len(said))
    again = heard([one, *(said[i] for i in order)])
    assert again == [first[0], *(first[1 + i] for i in order)]
    assert all(with_it >= without for with_it, without in zip(first[1:], heard(said), strict=True))
    for usual, closer in said:
        least = usual if math.isnan(closer) else min(usual, closer)
        assert first[0] >= least - 1e-9
    assert first[0] == heard([(0.0, math.nan), *said])[0]  # its own does not count


@given(st.booleans(), st.floats(0.0, 1.0), st.floats(0.0, 1.0))
def test_a_surer_spot_is_never_cut_less(broad: bool, a: float, b: float) -> None:
    opinion = opinion_on(broad=broad)
    assert 0.0 <= opinion.share(min(a, b)) <= opinion.share(max(a, b)) <= 1.2


def test_the_parts_of_an_opinion_make_its_confidence() -> None:
    heard = dict.fromkeys(NARROW, 0.5)
    opinion = opinion_on(broad=False)
    odds = opinion.start + sum(opinion.parts(heard).values())
    calibrated = float(np.interp(odds, *opinion.calibration))
    assert opinion.confidence(heard) == pytest.approx(1.0 / (1.0 + math.exp(-calibrated)))


def test_what_a_track_is_like_is_told_whatever_its_level() -> None:
    """Strokes stand far over what is usual in a band, a steady sound doesn't; notes have valleys, noise hasn't."""
    steady = np.random.default_rng(1).standard_normal(6 * RATE) * 0.05
    told = {}
    for name, x in (("strokes", hits(every_s=0.9)), ("steady", steady), ("notes", melody())):
        every = [of_track(Search((g * x)[:, None], sample_rate=RATE).contours) for g in (1.0, 0.1)]
        assert every[0] == pytest.approx(every[1], abs=0.1)
        told[name] = every[0]
    assert told["strokes"]["strokes_db"] > told["steady"]["strokes_db"] + 6.0
    assert told["notes"]["partials_db"] > told["steady"]["partials_db"] + 6.0


def test_an_opinion_is_the_same_after_it_was_written_and_read() -> None:
    curve = Curve(np.array([0.0, 1.0, 2.0]), np.array([0.0, 0.4, 0.5]), -0.3)
    calibration = np.array([[-2.0, 0.0, 3.0], [-1.5, -0.5, 4.0]])
    opinion = Opinion({"certainty": curve, "line_share": curve}, -1.5, np.array([[0.0, 1.0], [0.0, 0.9]]), calibration)
    again = from_arrays(to_arrays(opinion, "narrow"), "narrow")
    assert again is not None
    for heard in ({"certainty": 1.3, "line_share": math.nan}, {"certainty": -5.0, "line_share": 9.0}):
        assert again.confidence(heard) == opinion.confidence(heard)
    assert from_arrays(to_arrays(opinion, "narrow"), "broad") is None


@pytest.mark.parametrize("hz", [180.0, 300.0, 520.0, 1_400.0])
def test_a_broad_trouble_stands_out_in_its_own_evidence(hz: float) -> None:
    """The picture, the share of time and the number agree, also where the level falls by 9 dB an octave."""
    random = np.random.default_rng(11)
    spectrum = np.fft.rfft(random.normal(size=8 * 48_000))
    f = np.fft.rfftfreq(8 * 48_000, 1 / 48_000)
    falling = np.fft.irfft(spectrum / np.maximum(f, 40.0) ** 1.5)
    x = apply(0.1 * falling / np.std(falling), (Bell(hz, 1.2, 8.0, True),))
    search = Search(x[:, None].astype(np.float32), sample_rate=48_000)
    for finding in search.findings():
        if finding.bandwidth_oct >= 0.5:
            assert finding.share_of_time >= LEAST_BROAD_SHARE
            assert max(finding.evidence.excess_db) >= 3.0
            assert np.ptp(np.array(finding.evidence.level_db) - np.array(finding.evidence.expected_db)) > 1.0
    seen = trace(search.view, hz, 1.2, broad=True)
    assert np.median(seen.excess_db) == pytest.approx(7.0, abs=2.0)
    assert seen.share_of_time > 0.8
    flat = Search((0.1 * falling / np.std(falling))[:, None].astype(np.float32), sample_rate=48_000)
    assert abs(np.median(trace(flat.view, hz, 1.2, broad=True).excess_db)) < 1.5
