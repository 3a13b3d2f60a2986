"""For every source that the networks never heard, a second opinion that never heard it either.

`python -m bench.findings.second` fits the opinion that ships to all of these sources, so that what the benchmark says
with it would flatter. So it parts the sources into PARTS, fits the same once more without each part, and keeps those
here: every clip is judged by networks, curves and a calibration that know nothing of its source.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import numpy as np

from bench.findings.origins import networks_without
from bench.findings.sources import Source
from mivlo.core.findings.network import Model
from mivlo.core.findings.opinion import Opinion, to_arrays
from mivlo.core.units import Floats

PARTS = 8
KEPT = Path(__file__).parent / "parted.npz"


def parted(sources: Sequence[str]) -> dict[str, int]:
    """In which of PARTS each source is."""
    names = sorted(set(sources))
    return dict(zip(names, np.random.default_rng(1).permutation(len(names)) % PARTS, strict=True))


def keep(opinions: Sequence[Mapping[str, Opinion]], part: Mapping[str, int]) -> None:
    """Keep the opinions on "narrow" and on "broad" spots that were fitted without each part."""
    arrays: dict[str, Floats] = {}
    for number, by_sort in enumerate(opinions):
        for sort, opinion in by_sort.items():
            arrays |= {f"{number}/{name}": value for name, value in to_arrays(opinion, sort).items()}
    np.savez_compressed(KEPT, names=np.array(list(part)), parts=np.array(list(part.values())), **arrays)  # type: ignore[arg-type]


def model_without(source: Source) -> Model:
    """The networks that ship, or were before they heard the origin of a source, and an opinion that never heard it.

    Raises
    ------
    KeyError : the opinions were fitted before there was such a source; run `python -m bench.findings.second` again.
    """
    return _model(_parts()[source.name], networks_without(source))


@lru_cache(maxsize=1)
def _parts() -> dict[str, int]:
    with np.load(KEPT) as found:
        return {str(name): int(part) for name, part in zip(found["names"], found["parts"], strict=True)}


@lru_cache(maxsize=3 * PARTS)
def _model(part: int, networks: Model) -> Model:
    return replace(networks, opinions=_opinions()[part])


@lru_cache(maxsize=1)
def _opinions() -> list[dict[str, Floats]]:
    with np.load(KEPT) as found:
        named = [(name.split("/", 1), found[name]) for name in found.files if "/" in name]
    return [{name: array for (part, name), array in named if part == str(number)} for number in range(PARTS)]
