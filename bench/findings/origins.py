"""Which network learns from which recordings, so that there is one for every source that never heard its origin.

All networks learn from the sources of the kind "more". Of the two that read the closer look each also learns from half
of the recordings that the benchmark judges: whole origins (those who recorded them, and how), never some of one. What
ships is both. A clip is judged by the one that never heard its origin and, in place of the other, by the same network
that went on with the other half instead (`APART`).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import numpy as np

from bench.findings.sources import FOREIGN, KNOWN, Source
from mivlo.core.findings.network import Model, Weights, shipped_model, weights_in

APART = Path(__file__).parent / "apart.npz"
"""The networks that read the closer look, each with the half of the recordings that it does not ship with."""
_OF_SECOND = ("loop", "struck", "plucked", "player", "talker")
"""Foreign origins of the second network, by the first word of a name; the first has all others."""


def learnt_by(source: Source) -> int | None:
    """The number of the network that learns from a source; None where all do, or none."""
    if source.half in FOREIGN:
        return int(source.name.split()[0] in _OF_SECOND)
    return KNOWN.index(source.half) if source.half in KNOWN else None


def networks_without(source: Source) -> Model:
    """What ships, but with networks that never heard the origin of a source."""
    return _models()[learnt_by(source)]


@lru_cache(maxsize=1)
def _models() -> Mapping[int | None, Model]:
    """By the number of the network that learnt from what is asked about."""
    shipped = shipped_model()
    with np.load(APART) as found:
        apart = weights_in(found)

    def without(number: int | None) -> tuple[Weights, ...]:
        return tuple(apart[i] if i == number else weights for i, weights in enumerate(shipped.closer))

    return {number: replace(shipped, closer=without(number)) for number in (None, *range(len(apart)))}
