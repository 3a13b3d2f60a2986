"""Fixed filters, static moves and rungs, as a stream processor: blocks in, blocks out.

Any block size gives the same samples, because values glide on a grid that is counted from the start of
the stream, not from the start of a block.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from mivlo.core.errors import InvalidValue
from mivlo.core.filters import design_into
from mivlo.core.kernels import SHORT_FRAMES, run_gliding, run_steady, run_steady_short
from mivlo.core.moves import FixedMove, RungsMove, SectionPlan, move_sections, plan_sections
from mivlo.core.processors.memory import forgotten_after_s
from mivlo.core.processors.protocol import GLIDE_S, Keys, Step, checked_block
from mivlo.core.units import Floats, db_to_gain, positive

_GRID = 64
"""Samples between two designs while something glides; the coefficients are interpolated between."""


@dataclass(slots=True)
class _Slot:
    """One move in the stream: where its values are, where they go, and the filters' memory.

    `now`, `start` and `goal` hold log frequency, log q and gain in dB, of rungs the coefficients themselves (which stay
    stable on the straight way from one stable set to another). `now` is true at the next grid point; until then
    `coefs` walk there. The share of the treated signal follows an S of its
    own from `mix_from` to `mix_to`, of which `mix_done` (0 to 1) is over.
    """

    key: int | str
    shape_key: tuple[str, int]
    plans: tuple[SectionPlan, ...] | None
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
    memory_s: float = 0.0

    @property
    def mix(self) -> float:
        """Share of the treated signal now."""
        t = self.mix_done
        return self.mix_from + (self.mix_to - self.mix_from) * t * t * (3.0 - 2.0 * t)

    def aim(self, goal: Floats, mix: float, grids: int, sample_rate: float) -> None:
        """Go to `goal` and `mix` within `grids` cells of the grid, from wherever the values are."""
        if not np.array_equal(goal, self.goal):
            self.start, self.goal = self.now.copy(), goal
            self.total = self.left = grids
            self.memory_s = max(self.memory_s, self._memory_of(goal, sample_rate))
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
        self.memory_s = forgotten_after_s(self.coefs, sample_rate)

    def _memory_of(self, values: Floats, sample_rate: float) -> float:
        return forgotten_after_s(self._designed(values, sample_rate), sample_rate)

    def copy(self) -> _Slot:
        """The same, sharing nothing that changes."""
        arrays = {name: getattr(self, name).copy() for name in ("now", "start", "goal", "states", "coefs", "coef_step")}
        return replace(self, **arrays)

    def advance(self, samples: int, per_sample: float) -> None:
        """Note that so many samples have passed."""
        if self.walking:
            self.coefs = self.coefs + self.coef_step * samples
        self.mix_done = min(1.0, self.mix_done + per_sample * samples)

    def design(self, sample_rate: float) -> Floats:
        """Coefficients for `now`: (sections, 5)."""
        return self._designed(self.now, sample_rate)

    def _designed(self, values: Floats, sample_rate: float) -> Floats:
        if self.plans is None:
            return values.reshape(-1, 5)
        out = np.empty((len(self.plans), 5))
        frequency, q = math.exp(values[0]), math.exp(values[1])
        for row, plan in zip(out, self.plans, strict=True):
            design_into(int(plan.kind), sample_rate, frequency, plan.q(q), float(values[2]), row)
        return out

    @property
    def moving(self) -> bool:
        return self.left > 0 or self.walking or self.mix_done < 1.0

    @property
    def silent(self) -> bool:
        """Whether the slot changes nothing and is not on its way."""
        return not self.moving and self.mix_to == 0.0


def _goal_of(move: FixedMove, sample_rate: float) -> Floats:
    if isinstance(move, RungsMove):
        return _rungs_coefs(move, sample_rate).ravel()
    gain = move.gain_db if move.shape.has_gain else 0.0
    return np.array([math.log(move.frequency_hz), math.log(move.q), gain])


@lru_cache(maxsize=64)
def _rungs_coefs(move: RungsMove, sample_rate: float) -> Floats:
    """Coefficients of a level and of a section a band, doing nothing or not: (1 + count, 5)."""
    level_db, moves = move.made_of
    out = np.zeros((1 + move.count, 5))
    out[:, 0] = 1.0
    out[0, 0] = db_to_gain(level_db)
    for row, one in enumerate(moves, 1):
        out[row] = move_sections(one, sample_rate=sample_rate)[0, [0, 1, 2, 4, 5]]
    out.flags.writeable = False
    return out


def _kind_of(move: FixedMove) -> tuple[str, int]:
    """What can't glide to another value, but fades over."""
    if isinstance(move, RungsMove):
        return (move.mode, move.count)
    return (str(move.shape), move.slope_db_per_octave if move.shape.has_slope else 0)


@dataclass(frozen=True, slots=True)
class _Memory:
    """All that a chain remembers."""

    position: int
    slots: list[_Slot] = field(default_factory=list)


class StaticProcessor:
    """Stream processor for a run of static moves.

    Parameters
    ----------
    sample_rate : Hz.
    channels : 1 or 2.
    steps : the moves to start with; they are there at once, without a glide.

    Notes
    -----
    All sections are of minimum phase: the output is aligned with the input. A move keeps its place by its
    key, so that a changed value glides; a changed shape or slope fades over from the old to the new one.
    """

    latency = 0
    aligned = 1

    def __init__(self, sample_rate: float, channels: int, steps: Sequence[Step] = ()) -> None:
        positive("sample_rate", sample_rate)
        if channels not in (1, 2):
            raise InvalidValue("channels", channels, "it must be 1 or 2")
        self.sample_rate = float(sample_rate)
        self.channels = channels
        self._grids = max(1, round(GLIDE_S * sample_rate / _GRID))
        self._position = 0
        self._slots: list[_Slot] = []
        self.aim(steps, glide=False)

    @property
    def gliding(self) -> bool:
        """Whether some value is still on its way."""
        return self._gliding

    @property
    def memory_s(self) -> float:
        """Seconds after which the past is forgotten to -120 dB: that of all moves, one behind the other."""
        return sum(slot.memory_s for slot in self._slots if not slot.silent)

    def aim(self, steps: Sequence[Step], *, glide: bool = True) -> None:
        """Replace the moves from the next sample on; values glide there over 20 ms."""
        names = [step.key for step in steps]
        if len(set(names)) != len(names):
            raise InvalidValue("keys", names, "there must be one of its own for each move")
        old = {slot.key: slot for slot in self._slots if not slot.leaving}
        slots: list[_Slot] = []
        for step in steps:
            goal, mix = _goal_of(step.move, self.sample_rate), 1.0 if step.enabled else 0.0
            slot = old.get(step.key)
            if slot is None or slot.shape_key != _kind_of(step.move) or slot.silent:
                slot = self._new_slot(step.key, step.move, goal)  # silent: jump there, then fade in
            slot.aim(goal, mix, self._grids, self.sample_rate)
            slots.append(slot)
        staying = {id(slot) for slot in slots}
        for slot in self._slots:
            if id(slot) not in staying and not slot.silent:
                slot.leaving = True
                slot.aim(slot.goal, 0.0, self._grids, self.sample_rate)
                slots.append(slot)
        self._slots = slots
        if not glide:
            for slot in self._slots:
                slot.arrive(self.sample_rate)
        self._gather()

    def _new_slot(self, key: int | str, move: FixedMove, goal: Floats) -> _Slot:
        plans = None if isinstance(move, RungsMove) else plan_sections(move.shape, move.slope_db_per_octave)
        count = len(goal) // 5 if plans is None else len(plans)
        slot = _Slot(
            key=key,
            shape_key=_kind_of(move),
            plans=plans,
            now=goal.copy(),
            start=goal.copy(),
            goal=goal.copy(),
            states=np.zeros((count, self.channels, 4)),
            coefs=np.empty((count, 5)),
            coef_step=np.zeros((count, 5)),
        )
        slot.arrive(self.sample_rate)
        return slot

    def process(self, block: npt.ArrayLike, keys: Keys | None = None) -> Floats:
        """Treat the next samples of the stream.

        Parameters
        ----------
        block : (n, channels), any n; float.
        keys : not used.

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
            run = run_steady_short if count - start <= SHORT_FRAMES else run_steady
            run(x[start:] if start else x, self._coefs, self._states)
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
        count = sum(len(slot.coefs) for slot in heard)
        self._coefs = np.empty((count, 5))
        self._states = np.zeros((count, self.channels, 4))
        at = 0
        for slot in heard:
            end = at + len(slot.coefs)
            self._coefs[at:end] = slot.coefs
            self._states[at:end] = slot.states
            slot.states = self._states[at:end]  # one memory for both kernels
            at = end

    def state(self) -> _Memory:
        """An exact copy of its memory."""
        return _Memory(self._position, [slot.copy() for slot in self._slots])

    def restore(self, state: _Memory) -> None:
        """Go on from a copy of the memory."""
        self._position = state.position
        self._slots = [slot.copy() for slot in state.slots]
        self._gather()

    def report(self) -> Mapping[int | str, float]:
        """Static moves do not move."""
        return {}
