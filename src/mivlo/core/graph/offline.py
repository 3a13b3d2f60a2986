"""The renderer as plain functions, for files, looks and single recordings."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import numpy as np
import numpy.typing as npt

from mivlo.core.graph.plan import Plan, compile
from mivlo.core.graph.renderer import Point, Renderer, Tap, blocks
from mivlo.core.graph.streams import Samples
from mivlo.core.graph.strips import Strip
from mivlo.core.moves import Move, Treatment
from mivlo.core.units import Floats

_ONLY = 1


_NO_KEYS: Mapping[int, Samples] = {}


def single(treatment: Treatment, *, channels: int, sample_rate: float, keys: Mapping[int, Samples] = _NO_KEYS) -> Plan:
    """The plan of one track by itself; `keys` are the sounds that its moves listen to, by the ids in them.

    A reverb is rendered, too; `Treatment.exported` leaves it out.
    """
    strips = [Strip(id=_ONLY, treatment=treatment, channels=1 if channels == 1 else 2)]
    strips += [Strip(id=i, channels=1 if sound.shape[1] == 1 else 2) for i, sound in keys.items()]
    return compile(strips, sample_rate=int(sample_rate))


def render(
    plan: Plan,
    sources: Mapping[int, Samples],
    point: Point,
    start: int,
    stop: int,
    *,
    treated: Mapping[int, Samples] | None = None,
) -> Iterator[Floats]:
    """One tap of a plan over the frames start to stop, block after block; exact to -120 dB."""
    renderer = Renderer(plan, sources, at=start, treated=treated)
    renderer.want(point)
    for made in blocks(renderer, stop):
        yield made[point]


class TreatedSound:
    """A tap of a strip as an array, (frames, channels), computed where it is sliced.

    Slices that follow each other go on with the same memory; another place is warmed up first. `treated` are sounds
    behind the aftercare that are known already, by strip.
    """

    def __init__(
        self,
        plan: Plan,
        sources: Mapping[int, Samples],
        point: Point,
        frames: int,
        *,
        treated: Mapping[int, Samples] | None = None,
    ) -> None:
        self._plan, self._sources, self._point, self._known = plan, sources, point, treated
        self.shape = (frames, plan.strips[point[0]].channels)
        self._renderer: Renderer | None = None

    @classmethod
    def of(cls, samples: Samples, treatment: Treatment, *, sample_rate: float) -> TreatedSound:
        """A single recording with its treatment."""
        plan = single(treatment, channels=int(samples.shape[1]), sample_rate=sample_rate)
        return cls(plan, {_ONLY: samples}, (_ONLY, Tap.BEHIND), int(samples.shape[0]))

    def __len__(self) -> int:
        return self.shape[0]

    def __getitem__(self, stretch: slice) -> Floats:
        start, stop, _ = stretch.indices(self.shape[0])
        if self._renderer is None or self._renderer.position != start:
            self._renderer = Renderer(self._plan, self._sources, at=start, treated=self._known)
            self._renderer.want(self._point)
        parts = [made[self._point] for made in blocks(self._renderer, stop)]
        return np.concatenate(parts) if parts else np.zeros((0, self.shape[1]))


def treated_blocks(
    samples: Samples, treatment: Treatment, *, sample_rate: float, keys: Mapping[int, Samples] = _NO_KEYS
) -> Iterator[Floats]:
    """A single recording (n, channels) with its treatment, from its start to its end, block after block."""
    plan = single(treatment, channels=int(samples.shape[1]), sample_rate=sample_rate, keys=keys)
    return render(plan, {_ONLY: samples, **keys}, (_ONLY, Tap.BEHIND), 0, int(samples.shape[0]))


def treat(samples: npt.ArrayLike, treatment: Treatment | Sequence[Move], *, sample_rate: float) -> Floats:
    """Treat a whole recording at once, to the precision of a file in 32 bit float.

    Parameters
    ----------
    samples : (n, channels), 1 or 2 channels.
    treatment : a treatment, or moves in the order in which they act.
    sample_rate : Hz.

    Returns
    -------
    (n, channels), float64, aligned with the input.
    """
    x = np.asarray(samples)
    wanted = treatment if isinstance(treatment, Treatment) else Treatment.of(treatment)
    return TreatedSound.of(x, wanted, sample_rate=sample_rate)[: len(x)]
