"""How sure a spot is and how deep its cut: the second opinion that ships, asked."""

from __future__ import annotations

from functools import lru_cache

from mivlo.core.findings.network import shipped_model
from mivlo.core.findings.opinion import Opinion, from_arrays


@lru_cache(maxsize=1)
def shipped_opinions() -> dict[str, Opinion]:
    """The opinions on "narrow" and on "broad" spots."""
    found = {sort: from_arrays(shipped_model().opinions, sort) for sort in ("narrow", "broad")}
    return {sort: opinion for sort, opinion in found.items() if opinion is not None}


def opinion_on(*, broad: bool) -> Opinion:
    """The one for a sort of spot."""
    return shipped_opinions()["broad" if broad else "narrow"]
