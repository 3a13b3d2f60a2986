"""Clashes and carves of sounds that are not in a song: files, and what a benchmark makes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from threading import Lock

import numpy as np

from mivlo.core.auditory import components, frame_length
from mivlo.core.clashes import (
    FILES_FULL_SCALE_DB,
    Carve,
    Carving,
    Clash,
    Halves,
    Limits,
    Scene,
    Survey,
    free,
    survey,
)
from mivlo.core.graph import treated_blocks
from mivlo.core.graph.streams import Samples
from mivlo.core.moves import DynamicMove, Entry, Move, Treatment
from mivlo.core.parallel import in_parallel
from mivlo.core.units import Floats

KEY_ID = 1000
"""Stands for the sound that a keyed carve listens to, in treatments of single files."""


@dataclass(frozen=True)
class FileScene:
    """Sounds (n, channels) of one rate that start together, and how they stand in the ear."""

    sounds: tuple[Samples, ...]
    sample_rate: int
    scene: Scene
    _reading: Lock = field(default_factory=Lock, repr=False)
    """A file is read by one thread at a time."""

    @classmethod
    def of(
        cls, sounds: Sequence[Samples], *, sample_rate: int, full_scale_db: float = FILES_FULL_SCALE_DB
    ) -> FileScene:
        powers = in_parallel(lambda x: components(x[:], sample_rate=sample_rate), sounds)
        frame_s = frame_length(sample_rate) / sample_rate
        return cls(tuple(sounds), sample_rate, Scene.of(powers, full_scale_db=full_scale_db, frame_s=frame_s))

    def survey(self) -> Survey:
        """What each sound loses, and the clashes."""
        return survey(self.scene)

    def carve(self, clash: Clash, limits: Limits) -> Carve | None:
        """The carve that frees what a clash covers."""
        keep = clash.covered
        carving = Carving(
            self.scene, keep, clash.by, lambda: self._whole(keep), sample_rate=self.sample_rate,
            halves=lambda: self._halves(clash.by),
        )  # fmt: skip
        return carving.best(clash, most_db=limits.most_db, most_lu=limits.most_lu)

    def free(self, keep: int, clashes: Sequence[Clash], limits: Limits) -> list[Carve]:
        """The carves that free a sound."""
        return free(
            self.scene, keep, clashes, lambda: self._whole(keep), sample_rate=self.sample_rate, limits=limits,
            halves=self._halves,
        )  # fmt: skip

    def _halves(self, number: int) -> Halves | None:
        """Middle and sides of a sound; None of a mono one."""
        if self.sounds[number].shape[1] != 2:
            return None
        middle = np.mean(self._whole(number), axis=1, keepdims=True)
        power = self.scene.power[number]
        return Halves.of(power, components(middle, sample_rate=self.sample_rate)[:, : power.shape[1]])

    def _whole(self, number: int) -> Floats:
        """A sound as long as the longest."""
        with self._reading:
            x = np.asarray(self.sounds[number][:], dtype=np.float64)
        return np.pad(x, ((0, max(s.shape[0] for s in self.sounds) - len(x)), (0, 0)))


def treatments_of(carves: Iterable[Carve]) -> dict[int, Treatment]:
    """What carves are on each strip that gives way; keyed ones listen to KEY_ID."""
    made: dict[int, list[Entry]] = {}
    for carve in carves:
        entries = made.setdefault(carve.on, [])
        entries.append(Entry(id=len(entries) + 1, move=listening_to(carve.move, KEY_ID), channels=carve.channels))
    return {on: Treatment(entries=tuple(entries)) for on, entries in made.items()}


def carved_blocks(sound: Samples, treatment: Treatment, keeper: Samples, *, sample_rate: int) -> Iterator[Floats]:
    """A sound behind its carves, block after block; `keeper` is what keyed ones listen to."""
    keys = {KEY_ID: keeper} if any(e.move.listens_to for e in treatment.entries) else {}
    return treated_blocks(sound, treatment, sample_rate=sample_rate, keys=keys)


def listening_to(move: Move, source: int) -> Move:
    """A carve with the source of its key by another number."""
    if isinstance(move, DynamicMove) and move.listens_to:
        return replace(move, key=replace(move.key, source=source))
    return move
