"""Clashes and carves of sounds that are not in a song: files, and what a benchmark makes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np

from mivlo.core.auditory import components, frame_length
from mivlo.core.clashes import (
    FILES_FULL_SCALE_DB,
    Carve,
    Clash,
    Limits,
    Loss,
    Scene,
    find_clashes,
    free,
    losses,
)
from mivlo.core.graph import treated_blocks
from mivlo.core.graph.streams import Samples
from mivlo.core.moves import DynamicMove, Move, Treatment
from mivlo.core.units import Floats

KEY_ID = 1000
"""Stands for the sound that a keyed carve listens to, in treatments of single files."""


@dataclass(frozen=True)
class Freed:
    """What frees one sound.

    carves : in the order of what they free. treatments : of each sound that gives way; keyed moves listen to KEY_ID.
    rendered : those sounds as they are then, (n, channels).
    """

    carves: tuple[Carve, ...]
    treatments: Mapping[int, Treatment]
    rendered: Mapping[int, Floats]


@dataclass(frozen=True)
class FileScene:
    """Sounds (n, channels) of one rate that start together, and how they stand in the ear."""

    sounds: tuple[Samples, ...]
    sample_rate: int
    scene: Scene

    @classmethod
    def of(
        cls, sounds: Sequence[Samples], *, sample_rate: int, full_scale_db: float = FILES_FULL_SCALE_DB
    ) -> FileScene:
        with ThreadPoolExecutor(2) as pool:
            powers = list(pool.map(lambda x: components(x[:], sample_rate=sample_rate), sounds))
        frame_s = frame_length(sample_rate) / sample_rate
        return cls(tuple(sounds), sample_rate, Scene.of(powers, full_scale_db=full_scale_db, frame_s=frame_s))

    def with_sounds(self, changed: Mapping[int, Floats]) -> FileScene:
        """The same with some sounds replaced."""
        sounds: list[Samples] = [changed.get(i, x) for i, x in enumerate(self.sounds)]
        return self.of(sounds, sample_rate=self.sample_rate, full_scale_db=self.scene.full_scale_db)

    def losses(self) -> list[Loss]:
        """What each sound loses."""
        return losses(self.scene)

    def free(self, keep: int, clashes: Sequence[Clash] | None = None, limits: Limits | None = None) -> Freed:
        """Find the carves that free a sound, and render them."""
        found = find_clashes(self.losses()) if clashes is None else clashes
        carves = free(self.scene, keep, found, lambda: self._whole(keep), sample_rate=self.sample_rate, limits=limits)
        treatments = {
            on: Treatment.of(listening_to(c.move, KEY_ID) for c in carves if c.on == on)
            for on in dict.fromkeys(c.on for c in carves)
        }
        rendered = {on: self._treated(on, treatment, keep) for on, treatment in treatments.items()}
        return Freed(tuple(carves), treatments, rendered)

    def _whole(self, number: int) -> Floats:
        """A sound as long as the longest."""
        x = np.asarray(self.sounds[number][:], dtype=np.float64)
        return np.pad(x, ((0, max(s.shape[0] for s in self.sounds) - len(x)), (0, 0)))

    def _treated(self, on: int, treatment: Treatment, keep: int) -> Floats:
        keys = {KEY_ID: self._whole(keep)} if any(e.move.listens_to for e in treatment.entries) else {}
        made = treated_blocks(self.sounds[on], treatment, sample_rate=self.sample_rate, keys=keys)
        return np.concatenate(list(made))


def listening_to(move: Move, source: int) -> Move:
    """A carve with the source of its key by another number."""
    if isinstance(move, DynamicMove) and move.listens_to:
        return replace(move, key=replace(move.key, source=source))
    return move
