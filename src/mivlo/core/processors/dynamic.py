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
from mivlo.core.filters import SectionKind
from mivlo.core.moves import Acts, Compressor, Detector, DynamicMove, ThresholdOf
from mivlo.core.processors.dynamic_kernel import CELL, NUMBERS, RANGE, run_dynamic
from mivlo.core.processors.listening import NOTHING, SECTIONS, TOTAL_S, listening_values, reading_of_all
from mivlo.core.processors.memory import STEP_FORGOTTEN, forgotten_after_s
from mivlo.core.processors.moving import design, moving_table
from mivlo.core.processors.protocol import FORGOTTEN, GLIDE_S, Keys, Step, checked_block
from mivlo.core.units import Floats, positive

_NO_TRACE = np.zeros((0, 1, 2))


@dataclass(frozen=True, slots=True)
class Voice:
    """A move, or what else follows a level, as the kernel takes it.

    numbers : in the order of the kernel's columns. sections, read : what it listens to, and how a level is read.
    table : coefficients over the way of its gain. sources : the strip that it listens to, if it is another one.
    remembers_s : how long it takes to forget what was heard, before filters. mix : the treated share.
    """

    numbers: Floats
    sections: Floats
    read: Floats
    table: Floats
    sources: tuple[int, ...]
    remembers_s: float
    mix: float = 1.0


def voice_of(move: DynamicMove, rate: float) -> Voice:
    """A dynamic move as the kernel takes it."""
    of_strip = move.threshold_of is ThresholdOf.STRIP
    numbers = numbers_of(
        move, rate, range_db=move.range_db, hold_ms=move.hold_ms, below=move.acts is Acts.BELOW, of_strip=of_strip
    )
    sections, read = listening_values(move, rate)
    slowest = max(move.attack_ms, move.release_ms) * 1e-3 + (TOTAL_S if of_strip else 0.0)
    remembers = move.hold_ms * 1e-3 + STEP_FORGOTTEN * slowest
    return Voice(numbers, sections, read, moving_table(move, rate), move.listens_to, remembers)


def numbers_of(
    values: DynamicMove | Compressor, rate: float, *, range_db: float, hold_ms: float, below: bool, of_strip: bool
) -> Floats:
    """The columns of the kernel, in their order."""

    def share(time_ms: float) -> float:
        return 1.0 - math.exp(-CELL / (time_ms * 1e-3 * rate))

    out = np.array(
        [
            values.threshold_db,
            1.0 - 1.0 / values.ratio,
            values.knee_db,
            range_db,
            share(values.attack_ms),
            share(values.release_ms),
            round(hold_ms * 1e-3 * rate / CELL),
            values.stereo_link,
            below,
            of_strip,
            values.detector is Detector.PEAK,
        ],
        dtype=np.float64,
    )
    assert len(out) == NUMBERS
    return out


@dataclass(slots=True)
class _Slot:
    """One move in the stream: its values, what it remembers, and where it is on its way to new values."""

    step: Step
    voice: Voice
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
            return self.voice.table
        t = self.glide * self.glide * (3.0 - 2.0 * self.glide)
        return np.ascontiguousarray(self.before + t * (self.voice.table - self.before))


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
        ahead = {self._lookahead_ms(step) for step in steps}
        if len(steps) > 1 and ahead != {0.0}:
            raise InvalidValue("steps", len(steps), "a move that looks ahead stands alone")
        self.latency = round(max(ahead, default=0.0) * 1e-3 * sample_rate)
        self._slots = [self._new(step) for step in steps]

    def _voice(self, step: Step) -> Voice:
        return voice_of(step.move, self.sample_rate)

    def _lookahead_ms(self, step: Step) -> float:
        return float(step.move.lookahead_ms)

    def _new(self, step: Step) -> _Slot:
        n, voice = self.channels, self._voice(step)
        mix = voice.mix if step.enabled else 0.0
        return _Slot(
            step, voice, voice.table, 1.0, mix, mix,
            np.zeros((SECTIONS, 2, 2)), np.zeros((2, 2)), np.zeros((2, 3)), np.zeros(n), np.zeros(n),
            np.tile(voice.table[0], (n, 1)), np.zeros((n, 6)), np.zeros((n, 2)), np.zeros((self.latency, n)),
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
        heard = forgotten_after_s(slot.voice.sections, self.sample_rate)
        return heard + slot.voice.remembers_s + _longest_memory_s(slot.voice.table, self.sample_rate)

    def aim(self, steps: Sequence[Step], *, glide: bool = True) -> None:
        """Take new values of the same moves; they glide there over 20 ms, levels and gains by their own times."""
        if len(steps) != len(self._slots):
            raise InvalidValue("steps", len(steps), "another processor must take over")
        for slot, step in zip(self._slots, steps, strict=True):
            if step.move != slot.step.move:
                slot.before, slot.glide = slot.table_now(), 0.0
                slot.voice = self._voice(step)
            slot.step = step
            slot.mix_goal = slot.voice.mix if step.enabled else 0.0
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
            row[:, :, 1] *= math.copysign(1.0, slot.voice.numbers[RANGE])
        return rows

    def _run(self, x: Floats, keys: Keys, traces: list[Floats] | None) -> None:
        for i, slot in enumerate(self._slots):
            if slot.silent and traces is None:
                self._delay(slot, x)
                continue
            sources = slot.voice.sources
            key = self._key(keys, sources[0], len(x)) if sources else x.copy() if self.latency else x
            self._delay(slot, x)
            at = 0
            while at < len(x):
                stop = len(x)
                if slot.moving:
                    stop = min(stop, at + CELL - (self._position + at) % CELL)
                trace = _NO_TRACE
                if traces is not None:
                    trace = traces[i][_cells(self._position + at) - _cells(self._position) :]
                self._piece(slot, x[at:stop], key[at:stop], self._position + at, trace)
                at = stop
        self._position += len(x)

    def _piece(self, slot: _Slot, x: Floats, key: Floats, frame: int, trace: Floats) -> None:
        voice, per_frame = slot.voice, 1.0 / (GLIDE_S * self.sample_rate)
        left = slot.mix_goal - slot.mix
        grow = math.copysign(min(per_frame, abs(left) / max(len(x), 1)), left) if left else 0.0
        run_dynamic(
            x, key, frame, voice.numbers, voice.sections, voice.read, slot.band, slot.splits, slot.powers, slot.gain,
            slot.held, slot.table_now(), slot.at, slot.way, slot.states, np.array([slot.mix, grow]), trace,
        )  # fmt: skip
        slot.glide = min(1.0, slot.glide + per_frame * len(x))
        slot.mix += grow * len(x)
        if abs(left) <= per_frame * len(x) + 1e-9:
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
            slot.step.key: math.copysign(float(np.max(slot.gain)), slot.voice.numbers[RANGE])
            if not slot.silent
            else 0.0
            for slot in self._slots
        }


class CompressorProcessor(DynamicProcessor):
    """Compressors, one behind the other: as dynamic moves whose band is everything."""

    def _voice(self, step: Step) -> Voice:
        return compressor_voice(step.move, self.sample_rate)

    def _lookahead_ms(self, step: Step) -> float:
        return 0.0


_COMPRESSED_DB = 60.0
_COMPRESSOR_POINTS = 241


def compressor_voice(value: Compressor, rate: float) -> Voice:
    """A compressor as the kernel takes it."""
    numbers = numbers_of(value, rate, range_db=-_COMPRESSED_DB, hold_ms=0.0, below=False, of_strip=False)
    sections = np.array([NOTHING, NOTHING])
    if value.detector_low_cut_hz > 0.0:
        low_cut = max(value.detector_low_cut_hz, 1.0)
        sections[0] = design(SectionKind.LOW_CUT_2, low_cut, math.sqrt(0.5), 0.0, rate)
    table = np.zeros((_COMPRESSOR_POINTS, 6))
    table[:, 3] = 10.0 ** ((value.gain_db - _COMPRESSED_DB * np.linspace(0.0, 1.0, _COMPRESSOR_POINTS)) / 20.0)
    remembers = STEP_FORGOTTEN * max(value.attack_ms, value.release_ms) * 1e-3
    return Voice(numbers, sections, reading_of_all(rate), table, (), remembers, value.mix)


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
