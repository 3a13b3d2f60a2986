"""The harsh range: which tracks of a group pile up between 2 and 5 kHz, one cut on the group against cuts on them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.optimize import brentq

from mivlo.core.auditory import COMPONENT_HZ, K_WEIGHTS
from mivlo.core.clashes.carving import GROUP_GIVES_DB
from mivlo.core.clashes.losses import loss_of
from mivlo.core.clashes.scene import Scene
from mivlo.core.errors import InvalidValue
from mivlo.core.moves import Shape, StaticMove, treatment_db
from mivlo.core.parallel import in_parallel
from mivlo.core.units import Floats, octaves_to_q

HARSH_HZ = (2_000.0, 5_000.0)
"""Where many tracks together tire the ear (common practice, no source)."""
MOST_TRACK_DB = 8.0
"""Cuts on tracks that would have to be deeper are not offered: the cut on the group is the smaller harm."""
PILED = 0.6
"""The loudest tracks that make up so much of the sum there are those that pile up."""
_MOST_FRAMES = 600
_RATE = 48_000.0


@dataclass(frozen=True, slots=True)
class Remedy:
    """One cut, on the group or on each of some members, that takes something from the sum in the harsh range.

    drop_db : what it takes from the sum's energy there. taken : sones that each member loses that is behind it, among
    all. gained : sones that the others regain.
    """

    cut: StaticMove
    drop_db: float
    taken: Mapping[int, float]
    gained: float


@dataclass(frozen=True, slots=True)
class Pile:
    """What tracks of a group add up to in the harsh range.

    share : of each member, of the energy of their sum there as the ear weights it (K, ITU-R BS.1770-5). piled : members
    that make up most of it, loudest first. on_tracks : None where they would have to be cut by over MOST_TRACK_DB.
    """

    share: Mapping[int, float]
    piled: tuple[int, ...]
    on_group: Remedy
    on_tracks: Remedy | None


def pile_up(scene: Scene, members: Sequence[int], *, depth_db: float = GROUP_GIVES_DB) -> Pile:
    """Which members pile up, and what a cut on their group takes against cuts on those members alone.

    Parameters
    ----------
    scene : all tracks at their places in the mix.
    members : the tracks of the group, at least one that sounds there.
    depth_db : how deep the cut on the group is, above 0.

    Raises
    ------
    InvalidValue : no member sounds in the harsh range.
    """
    scene = scene.at_most(_MOST_FRAMES)
    hz = np.asarray(COMPONENT_HZ)
    weights = np.where((hz >= HARSH_HZ[0]) & (hz <= HARSH_HZ[1]), K_WEIGHTS, 0.0)
    there = {i: scene.power[i].mean(axis=(0, 1), dtype=np.float64) * weights for i in members}
    total = np.sum([*there.values()], axis=0)
    if not total.any():
        raise InvalidValue("members", list(members), "none of them sounds between 2 and 5 kHz here")
    share = {i: float(p.sum() / total.sum()) for i, p in there.items()}
    piled = _piled(share)
    cut = _bell(total, depth_db)
    drop = _drop(total, [(total, cut)])
    before = _among_all(scene)
    on_group = _remedy(scene, before, members, cut, drop)
    deep = _depth_for(cut, there, piled, total, drop)
    on_tracks = None
    if deep is not None and len(piled) < len(members):
        on_tracks = _remedy(scene, before, piled, replace(cut, gain_db=-deep), drop)
    return Pile(share, piled, on_group, on_tracks)


def _piled(share: Mapping[int, float]) -> tuple[int, ...]:
    found: list[int] = []
    for i in sorted(share, key=lambda i: -share[i]):
        if sum(share[k] for k in found) >= PILED:
            break
        found.append(i)
    return tuple(found)


def _bell(total: Floats, depth_db: float) -> StaticMove:
    """A bell over the range, centred where the sum has most of it."""
    octaves = np.log2(COMPONENT_HZ)
    centre = float(2.0 ** (np.sum(octaves * total) / np.sum(total)))
    width = float(np.log2(HARSH_HZ[1] / HARSH_HZ[0]))
    return StaticMove(Shape.BELL, round(centre, 1), gain_db=-depth_db, q=round(octaves_to_q(width), 3))


def _power_ratio(cut: StaticMove) -> Floats:
    return np.asarray(10.0 ** (treatment_db([cut], COMPONENT_HZ, sample_rate=_RATE) / 10.0))


def _drop(total: Floats, parts: Sequence[tuple[Floats, StaticMove]]) -> float:
    """What cuts on parts of a sum take from it, in dB."""
    left = total.sum() - sum(float(np.sum(part * (1.0 - _power_ratio(cut)))) for part, cut in parts)
    return float(-10.0 * np.log10(left / total.sum()))


def _depth_for(
    cut: StaticMove, there: Mapping[int, Floats], piled: Sequence[int], total: Floats, drop: float
) -> float | None:
    """How deep the cut has to be on the tracks that pile up to take as much from the sum; None if too deep."""

    def over(depth: float) -> float:
        return _drop(total, [(there[i], replace(cut, gain_db=-depth)) for i in piled]) - drop

    if over(MOST_TRACK_DB) < 0.0:
        return None
    return round(float(brentq(over, 0.0, MOST_TRACK_DB, xtol=0.01)), 2)


def _among_all(scene: Scene) -> list[float]:
    """Sones of each strip in the presence of all others."""
    return in_parallel(lambda i: loss_of(scene, i)[0].among_all, range(scene.count))


def _remedy(scene: Scene, before: Sequence[float], on: Sequence[int], cut: StaticMove, drop: float) -> Remedy:
    power = scene.power.copy()
    power[list(on)] *= _power_ratio(cut).astype(np.float32)
    change = np.subtract(_among_all(replace(scene, power=power)), before)
    taken = {i: -float(change[i]) for i in on}
    return Remedy(cut, round(drop, 2), taken, float(np.sum(np.delete(change, list(on)))))
