"""Freeing one strip from everything that hides it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial

import numpy.typing as npt

from mivlo.core.clashes.carving import GROUP_GIVES_DB, MOST_LU, TRACK_GIVES_DB, WORTH, Carve, Carving, Halves
from mivlo.core.clashes.finding import Clash
from mivlo.core.clashes.scene import Scene
from mivlo.core.kept import Range

WORTH_CARVING = 0.05
"""Of a strip's loudness; where many strips sound, each takes less."""
MOST_MOVES = 4
MOST_A_STRIP = 2


@dataclass(frozen=True, slots=True)
class Limits:
    """What an engineer allows.

    most_db : so deep a move goes at most. most_moves : so many in all. most_lu : what all moves together may take from
    the others' loudness, where that is not worth more. worth_sones : what each must gain for a sone that is given up.
    untouched : strips that are left alone. groups : strips that stand for several, on which a move goes at most
    GROUP_GIVES_DB deep. kept : by strip, ranges that are spared.
    """

    most_db: float = TRACK_GIVES_DB
    most_moves: int = MOST_MOVES
    most_lu: float = MOST_LU
    worth_sones: float = WORTH
    untouched: frozenset[int] = frozenset()
    groups: frozenset[int] = frozenset()
    kept: Mapping[int, Sequence[Range]] = field(default_factory=dict)

    def deep_on(self, strip: int) -> float:
        """How deep a move on a strip goes at most, in dB."""
        return min(self.most_db, GROUP_GIVES_DB) if strip in self.groups else self.most_db


def free(
    scene: Scene,
    keep: int,
    clashes: Sequence[Clash],
    keeper: Callable[[], npt.ArrayLike],
    *,
    sample_rate: float,
    limits: Limits | None = None,
    worth: float = WORTH_CARVING,
    halves: Callable[[int], Halves | None] = lambda strip: None,
) -> list[Carve]:
    """The carves that free a strip, one after the other, each chosen with those before it in place.

    Parameters
    ----------
    scene : the strips. keep : the one to be freed. clashes : those of the scene, the worst first.
    keeper : its sound, see `Carving`. worth : a clash that takes less of its loudness is left alone. halves : middle
    and sides of a strip, None of one that is mono.

    The order is that of what they free: the first ones are those to take if only some are wanted.
    """
    allowed = limits or Limits()
    covering = [c for c in clashes if c.covered == keep and c.lost >= worth and c.by not in allowed.untouched]
    covering = covering[: 2 * allowed.most_moves]
    carves: list[Carve] = []
    known: dict[int, Halves | None] = {}

    def halves_of(strip: int) -> Halves | None:
        if strip not in known:
            known[strip] = halves(strip)
        return known[strip]

    for clash in covering:
        if len(carves) >= allowed.most_moves or sum(c.on == clash.by for c in carves) >= MOST_A_STRIP:
            continue
        spared = allowed.kept.get(clash.by, ())
        carving = Carving(
            scene, keep, clash.by, keeper, sample_rate=sample_rate, kept=spared, halves=partial(halves_of, clash.by)
        )
        left_lu = max(0.0, allowed.most_lu - sum(c.effect.lost_lu for c in carves))
        carve = carving.best(clash, most_db=allowed.deep_on(clash.by), most_lu=left_lu, worth_sones=allowed.worth_sones)
        if carve is not None:
            carves.append(carve)
            power = scene.power.copy()
            power[clash.by], known[clash.by] = carving.carved(carve, power[clash.by])
            scene = replace(scene, power=power)
    return sorted(carves, key=lambda c: c.effect.gained_sones, reverse=True)
