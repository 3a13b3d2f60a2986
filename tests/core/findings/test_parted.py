"""The benchmark judges every source by a second opinion that never heard it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from bench.findings import parted
from bench.findings.second import ORIGINS
from bench.findings.sources import all_sources
from hypothesis import given
from hypothesis import strategies as st

from mivlo.core.findings.confidence import opinion_on
from mivlo.core.findings.network import shipped_model
from mivlo.core.findings.witnesses import BROAD, NARROW


def test_every_source_that_is_judged_has_an_opinion_without_it() -> None:
    shipped = shipped_model()
    judged = [source for source in all_sources() if source.half in ORIGINS]
    assert judged
    for source in judged:
        model = parted.model_without(source)
        assert model.networks is shipped.networks
        for broad, witnesses in ((False, NARROW), (True, BROAD)):
            opinion = opinion_on(broad=broad, model=model)
            assert set(opinion.curves) == set(witnesses)
            assert opinion.start != opinion_on(broad=broad).start
    with pytest.raises(KeyError):
        parted.model_without(replace(judged[0], name="nobody"))


@given(st.sets(st.text(min_size=1), min_size=1, max_size=60))
def test_parts_are_as_large_as_each_other_whoever_asks(names: set[str]) -> None:
    part = parted.parted(sorted(names))
    assert part == parted.parted([*names, *names])
    sizes = np.bincount(list(part.values()), minlength=parted.PARTS)
    assert set(part) == names
    assert sizes.max() - sizes.min() <= 1
