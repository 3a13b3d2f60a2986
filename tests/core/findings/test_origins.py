"""The benchmark asks networks about a recording that never heard its origin."""

from __future__ import annotations

import numpy as np
from bench.findings.origins import learnt_by, networks_without
from bench.findings.sources import FOREIGN, KNOWN, Source, all_sources

from mivlo.core.findings.network import Weights, shipped_model


def _same(a: Weights, b: Weights) -> bool:
    return a.keys() == b.keys() and all(np.array_equal(a[name], b[name]) for name in a)


def test_no_network_that_judges_learnt_from_the_origin() -> None:
    shipped = shipped_model()
    assert {learnt_by(source) for source in all_sources()} == {None, *range(len(shipped.closer))}
    for source in all_sources():
        asked = networks_without(source)
        assert asked.networks is shipped.networks  # heard no recordings at all
        differ = [i for i, (a, b) in enumerate(zip(asked.closer, shipped.closer, strict=True)) if not _same(a, b)]
        assert differ == ([learnt_by(source)] if source.half in KNOWN + FOREIGN else [])


def _origin(source: Source) -> str:
    """Of a foreign one: who recorded it. Kits are told by what is played of them, which stands behind their name."""
    words = source.name.split()
    return words[-1] if words[-1] == "strokes" else words[0]


def test_an_origin_is_learnt_from_as_a_whole_by_one_network() -> None:
    foreign = [source for source in all_sources() if source.half in FOREIGN]
    by_origin = {o: {learnt_by(s) for s in foreign if _origin(s) == o} for o in map(_origin, foreign)}
    assert len(by_origin) > 7
    assert all(len(numbers) == 1 for numbers in by_origin.values())
    shares = [sum(learnt_by(s) == number for s in foreign) / len(foreign) for number in (0, 1)]
    assert min(shares) > 0.4
