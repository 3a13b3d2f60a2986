"""A track's moves as a stream processor: blocks in, blocks out.

The same object serves the ear and the file. Any block size gives the same samples, because values
glide on a grid that is counted from the start of the stream, not from the start of a block.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from mivlo.core.errors import BadAudio, InvalidValue
from mivlo.core.filters import design_into
from mivlo.core.kernels import run_gliding, run_steady
from mivlo.core.moves import Move, SectionPlan, plan_sections, settling_time_s
from mivlo.core.units import Floats, positive

GLIDE_S = 0.02
"""Time in which a changed value reaches its new place."""

_GRID = 64
"""Samples between two designs while something glides; the coefficients are interpolated between."""


@dataclass(slots=True)
class _Slot:
    """One move in the stream: where its values are, where they go, and the filters' memory.

    `now`, `start` and `goal` hold log frequency, log q and gain in dB. `now` is true at the next
    grid point; until then `coefs` walk there. The share of the treated signal follows an S of its
    own from `mix_from` to `mix_to`, of which `mix_done` (0 to 1) is over.
    """

    key: str
    shape_key: tuple[str, int]
    plans: tuple[SectionPlan, ...]
    now: Floats
    start: Floats
    goal: Floats
    states: Floats
    coefs: Floats
    coef_step: Floats
    mix_from: float = 0.0
    mix_to: float = 0.0
    mix_done: float = 1.0
    total: int = 1
    left: int = 0
    walking: bool = False
    leaving: bool = False

    @property
    def mix(self) -> float:
        """Share of the treated signal now."""
        t = self.mix_done
        return self.mix_from + (self.mix_to - self.mix_from) * t * t * (3.0 - 2.0 * t)

    def aim(self, goal: Floats, mix: float, grids: int) -> None:
        """Go to `goal` and `mix` within `grids` cells of the grid, from wherever the values are."""
        if not np.array_equal(goal, self.goal):
            self.start, self.goal = self.now.copy(), goal
            self.total = self.left = grids
        if mix != self.mix_to:
            self.mix_from, self.mix_to, self.mix_done = self.mix, mix, 0.0

    def next_cell(self, sample_rate: float) -> None:
        """At a grid point: set out for the next one."""
        if self.left:
            self.left -= 1
            t = 1.0 - self.left / self.total
            share = t * t * (3.0 - 2.0 * t)
            self.now = self.goal.copy() if self.left == 0 else self.start + (self.goal - self.start) * share
            self.coef_step = (self.design(sample_rate) - self.coefs) / _GRID
            self.walking = True
        elif self.walking:
            self._stand(sample_rate)

    def arrive(self, sample_rate: float) -> None:
        """Stand still exactly at the goal."""
        self._stand(sample_rate)
        self.mix_from, self.mix_done = self.mix_to, 1.0

    def _stand(self, sample_rate: float) -> None:
        self.now = self.goal.copy()
        self.coefs = self.design(sample_rate)
        self.coef_step = np.zeros_like(self.coefs)
        self.left, self.walking = 0, False

    def advance(self, samples: int, per_sample: float) -> None:
        """Note that so many samples have passed."""
        if self.walking:
            self.coefs = self.coefs + self.coef_step * samples
        self.mix_done = min(1.0, self.mix_done + per_sample * samples)

    def design(self, sample_rate: float) -> Floats:
        """Coefficients for `now`: (sections, 5)."""
        out = np.empty((len(self.plans), 5))
        frequency, q = math.exp(self.now[0]), math.exp(self.now[1])
        for row, plan in zip(out, self.plans, strict=True):
            design_into(int(plan.kind), sample_rate, frequency, plan.q(q), float(self.now[2]), row)
        return out

    @property
    def moving(self) -> bool:
        return self.left > 0 or self.walking or self.mix_done < 1.0

    @property
    def silent(self) -> bool:
        """Whether the slot changes nothing and is not on its way."""
        return not self.moving and self.mix_to == 0.0


def _goal_of(move: Move) -> tuple[Floats, float]:
    gain = move.gain_db if move.shape.has_gain else 0.0
    return np.array([math.log(move.frequency_hz), math.log(move.q), gain]), 1.0 if move.enabled else 0.0


def checked_block(block: npt.ArrayLike, channels: int) -> Floats:
    """A copy of `block` as (n, channels) float64; BadAudio if it has another shape."""
    x = np.array(block, dtype=np.float64, order="C")
    if x.ndim != 2 or x.shape[1] != channels:
        raise BadAudio(f"A block of shape (n, {channels}) is needed, this one has {x.shape}.")
    return x


class Cascade:
    """Fixed sections as a stream processor; the plain sister of `Chain` for meters and weights.

    Parameters
    ----------
    sections : (s, 6) in scipy's order.
    channels : 1 or 2.
    """

    def __init__(self, sections: npt.ArrayLike, channels: int) -> None:
        sos = np.asarray(sections, dtype=np.float64).reshape(-1, 6)
        self.channels = channels
        self._coefs = np.ascontiguousarray(sos[:, [0, 1, 2, 4, 5]] / sos[:, 3:4])
        self._states = np.zeros((len(sos), channels, 4))

    def process(self, block: npt.ArrayLike) -> Floats:
        """Filter the next samples: (n, channels) in and out."""
        x = checked_block(block, self.channels)
        run_steady(x, self._coefs, self._states)
        return x


class Chain:
    """Stream processor for a list of moves.

    Parameters
    ----------
    sample_rate : Hz.
    channels : 1 or 2.
    moves : the treatment to start with; it is there at once, without a glide.

    Notes
    -----
    All sections are of minimum phase: `delay_samples` is 0, the output is aligned with the input.
    A move keeps its place by its key (its position in the list unless `keys` are given), so that a
    changed value glides; a changed shape or slope fades over from the old to the new one.
    """

    delay_samples = 0

    def __init__(self, sample_rate: float, channels: int, moves: Sequence[Move] = ()) -> None:
        positive("sample_rate", sample_rate)
        if channels not in (1, 2):
            raise InvalidValue("channels", channels, "it must be 1 or 2")
        self.sample_rate = float(sample_rate)
        self.channels = channels
        self._grids = max(1, round(GLIDE_S * sample_rate / _GRID))
        self._position = 0
        self._slots: list[_Slot] = []
        self.set_moves(moves, glide=False)

    @property
    def gliding(self) -> bool:
        """Whether some value is still on its way."""
        return self._gliding

    def set_moves(self, moves: Sequence[Move], *, keys: Sequence[str] | None = None, glide: bool = True) -> None:
        """Replace the treatment from the next sample on; values glide there over 20 ms."""
        names = [str(i) for i in range(len(moves))] if keys is None else list(keys)
        if len(names) != len(moves) or len(set(names)) != len(names):
            raise InvalidValue("keys", names, "there must be one of its own for each move")
        old = {slot.key: slot for slot in self._slots if not slot.leaving}
        slots: list[_Slot] = []
        for key, move in zip(names, moves, strict=True):
            shape_key = (str(move.shape), move.slope_db_per_octave if move.shape.has_slope else 0)
            goal, mix = _goal_of(move)
            slot = old.get(key)
            if slot is None or slot.shape_key != shape_key or slot.silent:
                slot = self._new_slot(key, shape_key, move, goal)  # silent: jump there, then fade in
            slot.aim(goal, mix, self._grids)
            slots.append(slot)
        staying = {id(slot) for slot in slots}
        for slot in self._slots:
            if id(slot) not in staying and not slot.silent:
                slot.leaving = True
                slot.aim(slot.goal, 0.0, self._grids)
                slots.append(slot)
        self._slots = slots
        if not glide:
            for slot in self._slots:
                slot.arrive(self.sample_rate)
        self._gather()

    def _new_slot(self, key: str, shape_key: tuple[str, int], move: Move, goal: Floats) -> _Slot:
        plans = plan_sections(move.shape, move.slope_db_per_octave)
        slot = _Slot(
            key=key,
            shape_key=shape_key,
            plans=plans,
            now=goal.copy(),
            start=goal.copy(),
            goal=goal.copy(),
            states=np.zeros((len(plans), self.channels, 4)),
            coefs=np.empty((len(plans), 5)),
            coef_step=np.zeros((len(plans), 5)),
        )
        slot.arrive(self.sample_rate)
        return slot

    def process(self, block: npt.ArrayLike) -> Floats:
        """Treat the next samples of the stream.

        Parameters
        ----------
        block : (n, channels), any n; float.

        Returns
        -------
        (n, channels) float64, aligned with the input.

        Raises
        ------
        BadAudio : another number of channels.
        """
        x = checked_block(block, self.channels)
        start, count = 0, len(x)
        while self._gliding and start < count:
            stop = min(count, start + _GRID - self._position % _GRID)
            self._glide_over(x[start:stop])
            self._position += stop - start
            start = stop
        if start < count:
            run_steady(x[start:] if start else x, self._coefs, self._states)
            self._position += count - start
        return x

    def _glide_over(self, part: Floats) -> None:
        """Treat in place a piece that crosses no grid point but may begin at one."""
        if self._position % _GRID == 0:
            for slot in self._slots:
                slot.next_cell(self.sample_rate)
        per_sample = 1.0 / (self._grids * _GRID)
        for slot in self._slots:
            if slot.silent:
                continue
            run_gliding(
                part,
                slot.coefs,
                slot.coef_step,
                slot.states,
                slot.mix_from,
                slot.mix_to,
                slot.mix_done,
                per_sample,
            )
            slot.advance(len(part), per_sample)
        if not any(slot.moving for slot in self._slots):
            self._gather()

    def _gather(self) -> None:
        """Drop what has faded out; lay the rest side by side for the fast kernel."""
        self._gliding = any(slot.moving for slot in self._slots)
        self._slots = [slot for slot in self._slots if not (slot.leaving and slot.silent)]
        heard = [slot for slot in self._slots if not slot.silent]
        count = sum(len(slot.plans) for slot in heard)
        self._coefs = np.empty((count, 5))
        self._states = np.zeros((count, self.channels, 4))
        at = 0
        for slot in heard:
            end = at + len(slot.plans)
            self._coefs[at:end] = slot.coefs
            self._states[at:end] = slot.states
            slot.states = self._states[at:end]  # one memory for both kernels
            at = end


LONGEST_PREROLL_S = 4.0


def warm_chain(
    samples: npt.ArrayLike,
    moves: Sequence[Move],
    start: int,
    *,
    sample_rate: float,
    keys: Sequence[str] | None = None,
) -> Chain:
    """A chain whose filters know what comes before frame `start` of `samples` (n, channels).

    It hears as much of it as it can remember (to -120 dB), at most LONGEST_PREROLL_S: from there on it
    gives what a chain that began at the first frame gives.
    """
    x = np.asanyarray(samples)
    chain = Chain(sample_rate, x.shape[1])
    chain.set_moves(moves, keys=keys, glide=False)
    back = int(min(settling_time_s(moves), LONGEST_PREROLL_S) * sample_rate)
    chain.process(x[max(0, start - back) : start])
    return chain


class TreatedSound:
    """A recording (n, channels) as it sounds treated, computed where it is sliced.

    Slices that follow each other go on with the same filters; another place is warmed up first.
    """

    def __init__(self, samples: npt.ArrayLike, moves: Sequence[Move], *, sample_rate: float) -> None:
        self._samples = np.asanyarray(samples)
        self._moves, self._rate = list(moves), sample_rate
        self._chain: Chain | None = None
        self._at = -1

    @property
    def shape(self) -> tuple[int, ...]:
        return self._samples.shape

    def __getitem__(self, stretch: slice) -> Floats:
        start, stop, _ = stretch.indices(len(self._samples))
        if self._chain is None or start != self._at:
            self._chain = warm_chain(self._samples, self._moves, start, sample_rate=self._rate)
        self._at = stop
        return self._chain.process(self._samples[start:stop])


def treat(samples: npt.ArrayLike, moves: Sequence[Move], *, sample_rate: float, block: int = 65_536) -> Floats:
    """Treat a whole recording at once: (n, channels) in, (n, channels) float64 out."""
    x = np.asarray(samples, dtype=np.float64)
    chain = Chain(sample_rate, x.shape[1], moves)
    out = np.empty_like(x)
    for start in range(0, len(x), block):
        out[start : start + block] = chain.process(x[start : start + block])
    return out
