"""Dynamic moves as a stream processor: a filter whose gain follows the level of a key.

How a level is read stands in `listening`, why the filter stays stable in `moving`.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from mivlo.core.errors import InvalidValue
from mivlo.core.moves import Acts, DynamicMove, ThresholdOf
from mivlo.core.processors.dynamic_kernel import CELL, NUMBERS, run_dynamic
from mivlo.core.processors.listening import SECTIONS, listening_values, reads_peaks
from mivlo.core.processors.memory import forgotten_after_s
from mivlo.core.processors.moving import moving_table
from mivlo.core.processors.protocol import FORGOTTEN, GLIDE_S, Keys, Step, checked_block
from mivlo.core.units import Floats, positive

_GRID = 64
"""Frames in which values stand still while they glide."""
_ALL_OF_A_STEP = math.log(36.0 * math.log(10.0) / 20.0 / FORGOTTEN)
"""Time constants after which a gain in dB has forgotten where it was."""
_NO_TRACE = np.zeros((0, 1, 2))


def _numbers(move: DynamicMove, rate: float) -> Floats:
    """A move as the kernel takes it; the order is that of its columns."""

    def share(time_ms: float) -> float:
        return 1.0 - math.exp(-CELL / (time_ms * 1e-3 * rate))

    values = np.array(
        [
            move.threshold_db,
            1.0 - 1.0 / move.ratio,
            move.knee_db,
            move.range_db,
            share(move.attack_ms),
            share(move.release_ms),
            round(move.hold_ms * 1e-3 * rate / CELL),
            move.stereo_link,
            move.acts is Acts.BELOW,
            move.threshold_of is ThresholdOf.STRIP,
            reads_peaks(move),
        ],
        dtype=np.float64,
    )
    assert len(values) == NUMBERS
    return values


@dataclass(slots=True)
class _Slot:
    """One move in the stream: its values, what it remembers, and where it is on its way to new values."""

    step: Step
    numbers: Floats
    sections: Floats
    read: Floats
    table: Floats
    before: Floats
    glide: float
    mix: float
    mix_goal: float
    band: Floats
    splits: Floats
    powers: Floats
    gain: Floats
    held: Floats
    at: Floats
    way: Floats
    states: Floats
    line: Floats

    @property
    def moving(self) -> bool:
        return self.glide < 1.0 or self.mix != self.mix_goal

    @property
    def silent(self) -> bool:
        return self.mix == 0.0 and self.mix_goal == 0.0

    def copy(self) -> _Slot:
        """The same, sharing nothing that changes."""
        changing = ("band", "splits", "powers", "gain", "held", "at", "way", "states", "line")
        arrays = {name: getattr(self, name).copy() for name in changing}
        return replace(self, **arrays)

    def table_now(self) -> Floats:
        if self.glide >= 1.0:
            return self.table
        t = self.glide * self.glide * (3.0 - 2.0 * self.glide)
        return np.ascontiguousarray(self.before + t * (self.table - self.before))


@dataclass(frozen=True, slots=True)
class _Memory:
    position: int
    slots: list[_Slot]


class DynamicProcessor:
    """Stream processor for a run of dynamic moves.

    Parameters
    ----------
    sample_rate : Hz.
    channels : 1 or 2.
    steps : the moves to start with. One that looks ahead stands alone.

    Notes
    -----
    Gains lag behind levels by one to two cells
    (at most a third of a millisecond at 48 kHz). Which moves there are stays as it is; their values glide.
    """

    aligned = CELL

    def __init__(self, sample_rate: float, channels: int, steps: Sequence[Step] = ()) -> None:
        positive("sample_rate", sample_rate)
        if channels not in (1, 2):
            raise InvalidValue("channels", channels, "it must be 1 or 2")
        self.sample_rate, self.channels = float(sample_rate), channels
        self._position = 0
        ahead = {step.move.lookahead_ms for step in steps}  # type: ignore[union-attr]
        if len(steps) > 1 and ahead != {0.0}:
            raise InvalidValue("steps", len(steps), "a move that looks ahead stands alone")
        self.latency = round(max(ahead, default=0.0) * 1e-3 * sample_rate)
        self._slots = [self._new(step) for step in steps]

    def _new(self, step: Step) -> _Slot:
        move: DynamicMove = step.move  # type: ignore[assignment]
        n = self.channels
        table = moving_table(move, self.sample_rate)
        sections, read = listening_values(move, self.sample_rate)
        mix = 1.0 if step.enabled else 0.0
        return _Slot(
            step, _numbers(move, self.sample_rate), sections, read, table, table, 1.0, mix, mix,
            np.zeros((SECTIONS, 2, 2)), np.zeros((2, 2)), np.zeros((2, 3)), np.zeros(n), np.zeros(n),
            np.tile(table[0], (n, 1)), np.zeros((n, 6)), np.zeros((n, 2)), np.zeros((self.latency, n)),
        )  # fmt: skip

    @property
    def gliding(self) -> bool:
        """Whether some value is still on its way."""
        return any(slot.moving for slot in self._slots)

    @property
    def memory_s(self) -> float:
        """Seconds after which the past is forgotten to -120 dB."""
        return sum(self._memory_of(slot) for slot in self._slots if not slot.silent)

    def _memory_of(self, slot: _Slot) -> float:
        move: DynamicMove = slot.step.move  # type: ignore[assignment]
        slowest = max(move.attack_ms, move.release_ms) * 1e-3
        heard = forgotten_after_s(slot.sections, self.sample_rate)
        total = 0.1 * _ALL_OF_A_STEP if move.threshold_of is ThresholdOf.STRIP else 0.0
        filtered = _longest_memory_s(slot.table, self.sample_rate)
        return max(heard, total) + move.hold_ms * 1e-3 + _ALL_OF_A_STEP * slowest + filtered

    def aim(self, steps: Sequence[Step], *, glide: bool = True) -> None:
        """Take new values of the same moves; they glide there over 20 ms, levels and gains by their own times."""
        if len(steps) != len(self._slots):
            raise InvalidValue("steps", len(steps), "another processor must take over")
        for slot, step in zip(self._slots, steps, strict=True):
            move: DynamicMove = step.move  # type: ignore[assignment]
            if move != slot.step.move:
                slot.before, slot.glide = slot.table_now(), 0.0
                slot.table = moving_table(move, self.sample_rate)
                slot.numbers = _numbers(move, self.sample_rate)
                slot.sections, slot.read = listening_values(move, self.sample_rate)
            slot.step = step
            slot.mix_goal = 1.0 if step.enabled else 0.0
            if not glide:
                slot.glide, slot.mix = 1.0, slot.mix_goal

    def process(self, block: npt.ArrayLike, keys: Keys | None = None) -> Floats:
        """Treat the next samples.

        Parameters
        ----------
        block : (n, channels), any n; float.
        keys : the sound of other strips, as far ahead as the block; one that is missing is silent.

        Returns
        -------
        (n, channels) float64, `latency` frames late.

        Raises
        ------
        BadAudio : another number of channels.
        """
        x = checked_block(block, self.channels)
        self._run(x, keys or {}, None)
        return x

    def trace(self, block: npt.ArrayLike, keys: Keys | None = None) -> list[Floats]:
        """Treat the next samples, and give for each move the level that it read and the gain that it moved by.

        Returns
        -------
        Of each move (cells, channels, 2): level in dBFS and gain in dB at the start of every cell.
        """
        x = checked_block(block, self.channels)
        cells = _cells(self._position + len(x)) - _cells(self._position)
        rows = [np.zeros((cells, self.channels, 2)) for _ in self._slots]
        self._run(x, keys or {}, rows)
        for slot, row in zip(self._slots, rows, strict=True):
            row[:, :, 1] *= math.copysign(1.0, slot.numbers[3])
        return rows

    def _run(self, x: Floats, keys: Keys, traces: list[Floats] | None) -> None:
        for i, slot in enumerate(self._slots):
            if slot.silent and traces is None:
                self._delay(slot, x)
                continue
            sources = slot.step.move.listens_to
            key = self._key(keys, sources[0], len(x)) if sources else x.copy() if self.latency else x
            self._delay(slot, x)
            at = 0
            while at < len(x):
                stop = len(x)
                if slot.moving:
                    stop = min(stop, at + _GRID - (self._position + at) % _GRID)
                trace = _NO_TRACE
                if traces is not None:
                    trace = traces[i][_cells(self._position + at) - _cells(self._position) :]
                self._piece(slot, x[at:stop], key[at:stop], self._position + at, trace)
                at = stop
        self._position += len(x)

    def _piece(self, slot: _Slot, x: Floats, key: Floats, frame: int, trace: Floats) -> None:
        per_frame = 1.0 / (GLIDE_S * self.sample_rate)
        grow = 0.0
        if slot.mix != slot.mix_goal:
            grow = math.copysign(per_frame, slot.mix_goal - slot.mix)
        run_dynamic(
            x, key, frame, slot.numbers, slot.sections, slot.read, slot.band, slot.splits, slot.powers, slot.gain,
            slot.held, slot.table_now(), slot.at, slot.way, slot.states, np.array([slot.mix, grow]), trace,
        )  # fmt: skip
        slot.glide = min(1.0, slot.glide + per_frame * len(x))
        slot.mix = min(1.0, max(0.0, slot.mix + grow * len(x)))
        if grow > 0.0 and slot.mix >= slot.mix_goal - 1e-9 or grow < 0.0 and slot.mix <= slot.mix_goal + 1e-9:
            slot.mix = slot.mix_goal

    def _key(self, keys: Keys, source: int, count: int) -> Floats:
        """The sound of another strip, with as many channels as this, or one."""
        key = keys.get(source)
        if key is None:
            return np.zeros((count, 1))
        if key.shape[1] > self.channels:  # a mono move hears the louder of both, sample by sample
            louder = np.argmax(np.abs(key), axis=1)
            return np.take_along_axis(key, louder[:, None], axis=1)
        return np.ascontiguousarray(key)

    def _delay(self, slot: _Slot, x: Floats) -> None:
        """Make x `latency` frames late, in place."""
        if self.latency:
            both = np.concatenate([slot.line, x])
            x[:], slot.line = both[: len(x)], both[len(x) :]

    def state(self) -> _Memory:
        """An exact copy of its memory."""
        return _Memory(self._position, [slot.copy() for slot in self._slots])

    def restore(self, state: _Memory) -> None:
        """Go on from a copy of the memory."""
        self._position = state.position
        self._slots = [slot.copy() for slot in state.slots]

    def report(self) -> Mapping[int | str, float]:
        """The moving part of each move's gain in dB, of the channel where it is largest."""
        return {
            slot.step.key: math.copysign(float(np.max(slot.gain)), slot.numbers[3]) if not slot.silent else 0.0
            for slot in self._slots
        }


def _cells(frame: int) -> int:
    """Cells that begin before a frame."""
    return -(-frame // CELL)


def _longest_memory_s(table: Floats, rate: float) -> float:
    """Seconds after which the slowest of these filters has forgotten its past to -120 dB."""
    a1, a2, a3 = table[:, 0], table[:, 1], table[:, 2]
    trace, product = 2.0 * (a1 - a3), (2.0 * a1 - 1.0) * (1.0 - 2.0 * a3) + 4.0 * a2 * a2
    root = np.sqrt((trace * trace - 4.0 * product).astype(np.complex128))
    radius = np.max(np.abs(np.stack([trace + root, trace - root])) / 2.0)
    return float(math.log(FORGOTTEN) / math.log(min(max(radius, 1e-9), 1.0 - 1e-9))) / rate
