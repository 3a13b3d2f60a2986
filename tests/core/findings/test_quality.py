"""A floor under the quality: a small part of the benchmark, always the same, on sources that nothing was trained on.

The whole benchmark is `python -m bench.findings`; the limits are those that are asked of it.
"""

from __future__ import annotations

import numpy as np
import pytest
from bench.findings.damage import damage
from bench.findings.judge import Case, Verdict, judge
from bench.findings.parted import model_without
from bench.findings.sources import HELD_OUT_PLAYED, RATE, all_sources

from mivlo.core.findings import Finding, Search
from mivlo.core.units import Floats

# electric piano, marimba, fretless bass, cello, horn, clarinet: of the sound font that is installed for the tests
PROGRAMS = (4, 12, 33, 42, 60, 71)


def _found(x: Floats, case: Case) -> list[Finding]:
    return Search(x[:, None], sample_rate=RATE, model=model_without(case.source)).findings()


@pytest.fixture(scope="module")
def verdicts() -> list[Verdict]:
    named = {source.name: source for source in all_sources()}
    out = []
    for program in PROGRAMS:
        assert ("tim", program) in HELD_OUT_PLAYED
        source = named[f"tim {program:03d}"]
        clean = source.clip(7)
        damaged, bells = damage(clean, np.random.default_rng([5, program]))
        out.append(judge(Case(source, 7, clean, damaged, bells), _found))
    return out


def test_most_rings_are_among_the_first_eight(verdicts: list[Verdict]) -> None:
    assert sum(v.rings_found for v in verdicts) >= 0.7 * sum(v.rings for v in verdicts)


def test_the_cuts_bring_the_sound_nearer_to_the_clean_one(verdicts: list[Verdict]) -> None:
    assert np.mean([v.repair for v in verdicts]) > 0.38
    assert sum(v.repair < 0 for v in verdicts) <= 0.12 * len(verdicts)


def test_no_finding_speaks_against_itself(verdicts: list[Verdict]) -> None:
    assert sum(v.humps_found for v in verdicts) > 0
    assert [v.name for v in verdicts if v.against_itself] == []


def test_centres_are_near(verdicts: list[Verdict]) -> None:
    assert np.median([c for v in verdicts for c in v.cents]) < 12


def test_clean_sound_is_hardly_touched(verdicts: list[Verdict]) -> None:
    assert np.mean([v.changed_clean_db for v in verdicts]) < 0.55  # of six clips; .38 in the 62 of the bench
    assert np.mean([v.deep_on_clean for v in verdicts]) <= 0.2
