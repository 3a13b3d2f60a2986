"""The smallest cut that frees one strip from another: searched by what the model predicts for every candidate."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from mivlo.core.auditory import COMPONENT_HZ, K_WEIGHTS, partial_loudness, sones, specific_loudness
from mivlo.core.clashes.finding import Clash
from mivlo.core.clashes.scene import Scene
from mivlo.core.filters import SectionKind, analogue_response_db
from mivlo.core.kept import Range, is_kept
from mivlo.core.making.starts import BELOW_ACTIVE_DB, StartName, started
from mivlo.core.making.thresholds import Trace, trace, under_active
from mivlo.core.moves import Channels, DynamicMove, Key, KeyShape, Shape, StaticMove
from mivlo.core.parallel import in_parallel
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats, octaves_to_q

CarveMove = StaticMove | DynamicMove

WORTH = 0.3
"""Sones that the one must gain for each sone that the other gives up."""
LEAST_GAIN = 0.002
"""Of the kept strip's loudness: a carve that gains less is none."""
MOST_LU = 0.5
"""What others give up beyond this counts against carves heavily."""
TRACK_GIVES_DB, GROUP_GIVES_DB = 4.0, 2.0
"""How deep a carve goes at most unless more is asked for; on a group, which holds many, whatever is asked for."""

_WIDTHS_OCT = (0.5, 0.9, 1.6)
_CENTRE_STEP_OCT = 0.3
_BELOW_OCT = 0.5  # a masker spreads upwards: the best place is often below what is covered
_DEPTHS = (1.0, 0.7, 0.45)
_PLACES = 6
_FINALISTS = 3
_SEARCH_FRAMES = 128
_KEY_OCT = (0.5, 3.0)
_GAIN_STEP_DB = 0.5
_OVER_LU_COSTS = 0.05  # of the kept strip's loudness, for each LU too much


@dataclass(frozen=True, slots=True)
class Effect:
    """What moves on one strip do for another.

    gained_sones : what the kept one gains among all others.
    lost_sones, lost_lu : what the yielding strip gives up, by itself; LU without gates.
    """

    gained_sones: float
    lost_sones: float
    lost_lu: float


@dataclass(frozen=True, slots=True)
class Carve:
    """A move on one strip that gives way to another, and what it is predicted to do.

    A keyed move has `keep`, the number in the scene, as the source of its key. channels : all, or the middle alone of a
    strip that is stereo.
    """

    on: int
    keep: int
    move: CarveMove
    effect: Effect
    channels: Channels = Channels.ALL


@dataclass(frozen=True)
class Halves:
    """The middle and the sides of a stereo strip at its place: powers (ears, frames, COMPONENTS) in the two ears.

    What an ear gets is both, and what they have in common: its power less these two.
    """

    middle: Singles
    side: Singles

    @classmethod
    def of(cls, power: Singles, middle: Singles) -> Halves:
        """From the powers (2, frames, COMPONENTS) of both channels and that of their mean (1, frames, COMPONENTS)."""
        side = np.maximum(np.mean(power, axis=0, keepdims=True) - middle, np.float32(0.0))
        return cls(np.repeat(middle, 2, axis=0), np.repeat(side, 2, axis=0))

    def times(self, weights: npt.NDArray[np.float32]) -> Halves:
        """Through faders and pans: weights of power (ears, 1, COMPONENTS or 1)."""
        return Halves(self.middle * weights, self.side * weights)

    def at(self, frames: npt.NDArray[np.int64]) -> Halves:
        return Halves(self.middle[:, frames], self.side[:, frames])

    def behind(self, factors: Singles, channels: Channels) -> Halves:
        """Behind a cut that leaves `factors` of the power (frames, COMPONENTS)."""
        return Halves(self.middle * factors, self.side if channels is Channels.MID else self.side * factors)

    def heard(self, power: Singles, factors: Singles) -> Singles:
        """What is heard of a strip of this power behind a cut of its middle that leaves `factors` of that."""
        common = power - self.middle - self.side
        return np.maximum(self.middle * factors + self.side + common * np.sqrt(factors), np.float32(0.0))


class Carving:
    """What carves on one strip would do for another one of a scene.

    Parameters
    ----------
    scene : the strips. keep, on : which one keeps its place, and which one gives way.
    keeper : the sound (n, channels) of the one that keeps its place, as a move hears it, over the scene's frames.
    sample_rate : Hz. kept : ranges of the one that gives way that are spared.
    halves : middle and sides of the one that gives way, where it is stereo: a cut of the middle alone is tried as well.

    Some frames, evenly spread, stand for all while candidates are compared.
    """

    def __init__(
        self,
        scene: Scene,
        keep: int,
        on: int,
        keeper: Callable[[], npt.ArrayLike],
        *,
        sample_rate: float,
        kept: Sequence[Range] = (),
        halves: Callable[[], Halves | None] = lambda: None,
    ) -> None:
        self.keep, self.on, self._kept = keep, on, kept
        self._read_halves = halves if scene.power.shape[1] == 2 else lambda: None
        self._chosen = np.unique(np.linspace(0, max(0, scene.frames - 1), _SEARCH_FRAMES).astype(np.int64))
        self._scene = scene.at(self._chosen)
        self._frame_s, self._rate, self._keeper = scene.frame_s, sample_rate, keeper
        self._traces: dict[DynamicMove, Trace] = {}
        self._power = self._scene.power[on]
        self._rest = self._scene.of_others(keep, on)
        self._alone_with = not np.any(self._rest)
        self._own = self._scene.spread(self._scene.power[keep])
        self._alone = _loudness(specific_loudness(self._own))
        self._before = _loudness(partial_loudness(self._own, self._among_rest(self._power)))
        self._loudness = _loudness(specific_loudness(self._scene.spread(self._power)))
        self._energy = _energy(self._power)

    def _among_rest(self, power: Singles) -> Singles:
        return self._scene.spread(self._rest + power)

    @cached_property
    def _whole_halves(self) -> Halves | None:
        return self._read_halves()

    @cached_property
    def _halves(self) -> Halves | None:
        return None if self._whole_halves is None else self._whole_halves.at(self._chosen)

    def effect(self, move: CarveMove, channels: Channels = Channels.ALL) -> Effect:
        """What a move does to the strip as it is in the scene."""
        of_middle = self._halves if channels is Channels.MID else None
        power = _behind(self._factors(move, self._chosen), self._power, of_middle)
        spread = self._scene.spread(power)
        after = _loudness(partial_loudness(self._own, spread if self._alone_with else self._among_rest(power)))
        lu = 10.0 * np.log10(self._energy / _energy(power))
        return Effect(after - self._before, self._loudness - _loudness(specific_loudness(spread)), float(lu))

    def best(
        self,
        clash: Clash,
        *,
        most_db: float = TRACK_GIVES_DB,
        most_lu: float = MOST_LU,
        keyed: bool = True,
        static: bool = True,
        worth_sones: float = WORTH,
        least_gain: float = LEAST_GAIN,
    ) -> Carve | None:
        """The carve that is worth most for a clash, static or keyed, or None where none is worth it.

        worth_sones : what the kept one must gain for each sone that the other gives up; less finds more, at a price.
        least_gain : of the kept one's loudness.
        """
        depth = -abs(most_db)

        def worth(carve: Carve) -> float:
            over = max(0.0, carve.effect.lost_lu - most_lu) * _OVER_LU_COSTS * self._alone
            return carve.effect.gained_sones - worth_sones * carve.effect.lost_sones - over

        def tried(moves: Collection[CarveMove], on: Channels = Channels.ALL) -> list[Carve]:
            return in_parallel(lambda move: Carve(self.on, self.keep, move, self.effect(move, on), on), moves)

        places: list[CarveMove] = [m for m in _everywhere(clash, depth) if not is_kept(m.frequency_hz, self._kept)]
        if not places:
            return None
        found = sorted(tried(places), key=worth, reverse=True)
        if keyed:  # where a cut does most does not depend on when it acts
            gives_way = self._keyed(clash, depth)
            there = [replace(gives_way, frequency_hz=c.move.frequency_hz, q=c.move.q) for c in found[:_PLACES]]
            found = sorted([*(found if static else ()), *tried(there)], key=worth, reverse=True)
        finals = [_at_depth(c.move, round(depth * part, 1)) for c in found[:_FINALISTS] for part in _DEPTHS]
        middle = tried(finals, Channels.MID) if self._halves is not None else []
        finest = max([*tried(finals), *middle], key=worth)
        enough = worth(finest) > 0.0 and finest.effect.gained_sones >= least_gain * self._alone
        return finest if enough else None

    def _keyed(self, clash: Clash, range_db: float) -> DynamicMove:
        """A cut, anywhere, while the other one sounds in the range of the clash; the threshold fits its level there."""
        (move,) = started(StartName.GIVE_WAY)
        assert isinstance(move, DynamicMove)
        width = min(_KEY_OCT[1], max(_KEY_OCT[0], float(np.log2(clash.to_hz / clash.from_hz))))
        centre = round((clash.from_hz * clash.to_hz) ** 0.5, 1)
        key = Key(source=self.keep, frequency_hz=centre, q=round(octaves_to_q(width), 2), shape=KeyShape.BAND)
        move = replace(move, range_db=range_db, key=key)
        return under_active(move, self._traced(move), BELOW_ACTIVE_DB)

    @cached_property
    def _heard(self) -> Floats:
        return np.asarray(self._keeper(), dtype=np.float64)

    def _traced(self, move: DynamicMove) -> Trace:
        """What a keyed move reads and does. It depends on the key and the range, not on where the move cuts."""
        about = _anywhere(move)
        if about not in self._traces:
            silence = np.zeros((len(self._heard), 1))
            self._traces[about] = trace(about, silence, self._heard, sample_rate=self._rate)
        return self._traces[about]

    def _gains_db(self, move: CarveMove, frames: npt.NDArray[np.int64]) -> Floats:
        """(frames,) the gain of a move at its centre, mean over each frame."""
        if isinstance(move, StaticMove):
            return np.full(len(frames), move.gain_db)
        traced = self._traced(move)
        if len(traced.times_s) < 2:
            return np.zeros(len(frames))
        total = np.concatenate([[0.0], np.cumsum(traced.gain_db)])
        step_s = float(traced.times_s[1] - traced.times_s[0])
        edges = np.array([frames, frames + 1]) * self._frame_s / step_s
        low, high = np.clip(np.round(edges).astype(np.int64), 0, len(total) - 1)
        return np.asarray((total[high] - total[low]) / np.maximum(1, high - low))

    def carved(self, carve: Carve, power: Singles) -> tuple[Singles, Halves | None]:
        """Power (ears, frames, COMPONENTS) of all frames behind a carve, and its halves where they are known."""
        factors, halves = self._factors(carve.move, np.arange(power.shape[1])), self._whole_halves
        left = None if halves is None else halves.behind(factors, carve.channels)
        return _behind(factors, power, halves if carve.channels is Channels.MID else None), left

    def _factors(self, move: CarveMove, frames: npt.NDArray[np.int64]) -> Singles:
        """(frames, COMPONENTS) what a move leaves of a power."""
        steps, where = np.unique(np.round(self._gains_db(move, frames) / _GAIN_STEP_DB), return_inverse=True)
        factors = np.array([_bell_power(move, step * _GAIN_STEP_DB) for step in steps], dtype=np.float32)
        return np.asarray(factors[where])


def _behind(factors: Singles, power: Singles, of_middle: Halves | None) -> Singles:
    """What a cut that leaves `factors` makes of a power; one of the middle alone, where halves are given."""
    return np.asarray(power * factors) if of_middle is None else of_middle.heard(power, factors)


def _everywhere(clash: Clash, depth_db: float) -> list[CarveMove]:
    """Cuts in and around a range, of several widths."""
    low, high = np.log2(clash.from_hz) - _BELOW_OCT, np.log2(clash.to_hz)
    return [
        StaticMove(Shape.BELL, round(float(2.0**octave), 1), q=round(octaves_to_q(width), 2), gain_db=depth_db)
        for octave in np.arange(low + _CENTRE_STEP_OCT / 2.0, high, _CENTRE_STEP_OCT)
        for width in _WIDTHS_OCT
    ]


def _anywhere(move: DynamicMove) -> DynamicMove:
    """A move for all that hear and do the same, wherever they cut."""
    return replace(move, frequency_hz=1000.0, q=1.0)


def _at_depth(move: CarveMove, depth_db: float) -> CarveMove:
    if isinstance(move, StaticMove):
        return replace(move, gain_db=depth_db)
    return replace(move, range_db=depth_db)


def _bell_power(move: CarveMove, gain_db: float) -> Floats:
    """(COMPONENTS,) what a move at a gain leaves of a power."""
    db = analogue_response_db(SectionKind.BELL, move.frequency_hz, COMPONENT_HZ, q=move.q, gain_db=gain_db)
    return np.asarray(10.0 ** (db / 10.0))


def _loudness(specific: Singles) -> float:
    """Sones, mean over the frames, of (ears, frames, BANDS); the better ear counts in each band."""
    in_time = sones(specific.max(axis=0))
    return float(np.sum(in_time, dtype=np.float64)) / max(1, len(in_time))


def _energy(power: Singles) -> float:
    return float(np.sum(power.sum(axis=(0, 1), dtype=np.float64) * K_WEIGHTS)) + 1e-30
