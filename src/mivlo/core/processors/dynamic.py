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
from mivlo.core.processors.dynamic_kernel import (
    CELL,
    LOWEST_POWER,
    NUMBERS,
    RANGE,
    SOURCE,
    run_dynamic,
    vectors_of,
    working_room,
)
from mivlo.core.processors.dynamic_lanes import AT, GAIN, HELD, LANES, MEMORY, MIX, MIX_WAY, VALUES
from mivlo.core.processors.listening import NOTHING, TOTAL_S, listening_values, reading_of_all
from mivlo.core.processors.memory import STEP_FORGOTTEN, forgotten_after_s
from mivlo.core.processors.moving import design, in_steps, moving_table
from mivlo.core.processors.protocol import FORGOTTEN, GLIDE_S, Keys, Step, checked_block
from mivlo.core.units import Floats, positive
from mivlo.core.vectors import WIDE


@dataclass(frozen=True, slots=True)
class Voice:
    """A move, or what else follows a level, as the kernel takes it.

    numbers : in the order of the kernel's columns. sections : what it listens to. lane : that, and how a level is read,
    as a column of `dynamic_lanes`.
    table : coefficients over the way of its gain. sources : the strip that it listens to, if it is another one.
    remembers_s : how long it takes to forget what was heard, before filters. mix : the treated share.
    """

    numbers: Floats
    sections: Floats
    lane: Floats
    table: Floats
    sources: tuple[int, ...]
    remembers_s: float
    mix: float = 1.0


def voice_of(move: DynamicMove, rate: float) -> Voice:
    """A dynamic move as the kernel takes it."""
    of_strip = move.threshold_of is ThresholdOf.STRIP
    sections, read = listening_values(move, rate)
    numbers = numbers_of(
        move, rate, range_db=move.range_db, hold_ms=move.hold_ms, below=move.acts is Acts.BELOW, of_strip=of_strip,
        sections=sections,
    )  # fmt: skip
    slowest = max(move.attack_ms, move.release_ms) * 1e-3 + (TOTAL_S if of_strip else 0.0)
    remembers = move.hold_ms * 1e-3 + STEP_FORGOTTEN * slowest
    lane = lane_of(sections, read, move.detector)
    return Voice(numbers, sections, lane, moving_table(move, rate), move.listens_to, remembers)


def numbers_of(
    values: DynamicMove | Compressor,
    rate: float,
    *,
    range_db: float,
    hold_ms: float,
    below: bool,
    of_strip: bool,
    sections: Floats,
) -> Floats:
    """The columns of the kernel, in their order; it listens to itself."""

    def share(time_ms: float) -> float:
        return 1.0 - math.exp(-CELL / (time_ms * 1e-3 * rate))

    # with a threshold that counts from another level there is no such power
    edge_db = values.threshold_db + 0.5 * values.knee_db * (1.0 if below else -1.0)
    quiet = math.copysign(math.inf, 1.0 if below else -1.0) if of_strip else 10.0 ** (edge_db / 10.0) - LOWEST_POWER
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
            quiet,
            -1.0,
            values.detector is Detector.PEAK or of_strip or not np.array_equal(sections[1], NOTHING),
        ],
        dtype=np.float64,
    )
    assert len(out) == NUMBERS
    return out


def lane_of(sections: Floats, read: Floats, detector: Detector) -> Floats:
    """A column of `dynamic_lanes`, (VALUES,)."""
    turned = sections * np.array([1.0, 1.0, 1.0, -1.0, -1.0])
    lane = np.concatenate([turned[0], turned[1], read, [float(detector is Detector.PEAK)]])
    assert len(lane) == VALUES
    return lane


@dataclass(slots=True)
class _Slot:
    """One move in the stream: its values, and where it is on its way to new ones."""

    step: Step
    voice: Voice
    before: Floats
    glide: float
    mix: float
    mix_goal: float

    @property
    def moving(self) -> bool:
        return self.glide < 1.0 or self.mix != self.mix_goal

    @property
    def silent(self) -> bool:
        return self.mix == 0.0 and self.mix_goal == 0.0

    def table_now(self) -> Floats:
        if self.glide >= 1.0:
            return self.voice.table
        t = self.glide * self.glide * (3.0 - 2.0 * self.glide)
        return np.asarray(self.before + t * (self.voice.table - self.before))


@dataclass(frozen=True, slots=True)
class _Memory:
    position: int
    slots: list[_Slot]
    lanes: Floats
    line: Floats


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
    wide = WIDE
    """Whether it steps whole vectors."""

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
        vectors = vectors_of(len(steps), channels)
        self._memory, self._line = np.zeros((vectors, MEMORY, LANES)), np.zeros((self.latency, channels))
        self._room = working_room(vectors)
        self._no_trace = np.zeros((len(steps), 0, channels, 2))
        for k, slot in enumerate(self._slots):
            self._lanes(self._memory, k)[AT : AT + 6] = slot.voice.table[0][:, None]
        self._take_voices()

    def _lanes(self, table: Floats, k: int) -> Floats:
        """The columns of a move, a view."""
        vector, lane = divmod(k * self.channels, LANES)
        return table[vector, :, lane : lane + self.channels]

    def _take_voices(self) -> None:
        """What the kernel needs to know of the moves; while one glides, its table is another."""
        voices = [slot.voice for slot in self._slots]
        self._values = np.zeros((len(self._memory), VALUES, LANES))
        for k, voice in enumerate(voices):
            self._lanes(self._values, k)[:] = voice.lane[:, None]
        self._numbers = np.array([voice.numbers for voice in voices]).reshape(len(voices), NUMBERS)
        self._tables = np.array([voice.table for voice in voices])
        self._strips = sorted({voice.sources[0] for voice in voices if voice.sources})
        for k, voice in enumerate(voices):
            if voice.sources:
                self._numbers[k, SOURCE] = self._strips.index(voice.sources[0])
            elif self.latency:  # it hears itself before it is made late
                self._numbers[k, SOURCE] = 0.0
        self._silent = all(slot.silent for slot in self._slots)
        self._settled = False

    def _voice(self, step: Step) -> Voice:
        return voice_of(step.move, self.sample_rate)

    def _lookahead_ms(self, step: Step) -> float:
        return float(step.move.lookahead_ms)

    def _new(self, step: Step) -> _Slot:
        voice = self._voice(step)
        mix = voice.mix if step.enabled else 0.0
        return _Slot(step, voice, voice.table, 1.0, mix, mix)

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
        self._take_voices()

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
        if self._silent:
            self._delay(x)
            self._position += len(x)
        else:
            self._run(x, keys or {}, self._no_trace)
        return x

    def trace(self, block: npt.ArrayLike, keys: Keys | None = None) -> list[Floats]:
        """Treat the next samples, and give for each move the level that it read and the gain that it moved by.

        Returns
        -------
        Of each move (cells, channels, 2): level in dBFS and gain in dB at the start of every cell.
        """
        x = checked_block(block, self.channels)
        cells = _cells(self._position + len(x)) - _cells(self._position)
        rows = np.zeros((len(self._slots), cells, self.channels, 2))
        self._run(x, keys or {}, rows)
        rows[..., 1] *= np.copysign(1.0, self._numbers[:, RANGE])[:, None, None]
        return list(rows)

    def _run(self, x: Floats, keys: Keys, trace: Floats) -> None:
        foreign = self._foreign(keys, x)
        self._delay(x)
        if self._settled:
            self._treat(x, foreign, self._tables, trace)
            return
        at = begun = 0
        while at < len(x):
            moving = [k for k, slot in enumerate(self._slots) if slot.moving]
            stop = min(len(x), at + CELL - self._position % CELL) if moving else len(x)
            self._piece(x[at:stop], foreign[:, at:stop], trace[:, begun:], moving)
            begun += _cells(self._position) - _cells(self._position - (stop - at))
            at = stop
            self._settled = not moving
            self._silent = self._settled and all(slot.silent for slot in self._slots)

    def _piece(self, x: Floats, foreign: Floats, trace: Floats, moving: list[int]) -> None:
        """Treat frames in which at most one cell begins while values glide."""
        per_frame = 1.0 / (GLIDE_S * self.sample_rate)
        tables = self._tables
        self._memory[:, MIX_WAY] = 0.0
        for k, slot in enumerate(self._slots):
            self._lanes(self._memory, k)[MIX] = slot.mix
        if moving:
            tables = np.array([slot.table_now() for slot in self._slots])
            self._memory[:, HELD] = np.maximum(self._memory[:, HELD], 0.0)  # none of them is at rest
        for k in moving:
            slot = self._slots[k]
            left = slot.mix_goal - slot.mix
            grow = math.copysign(min(per_frame, abs(left) / len(x)), left) if left else 0.0
            self._lanes(self._memory, k)[MIX_WAY] = grow
            slot.mix = slot.mix_goal if abs(left) <= per_frame * len(x) + 1e-9 else slot.mix + grow * len(x)
            slot.glide = min(1.0, slot.glide + per_frame * len(x))
        self._treat(x, foreign, tables, trace)

    def _treat(self, x: Floats, foreign: Floats, tables: Floats, trace: Floats) -> None:
        keys = np.ascontiguousarray(foreign)  # the kernel takes long to compile, once is enough
        run_dynamic(
            x, keys, self._position, self._numbers, tables, self._values, self._memory, self._room, trace, self.wide,
        )  # fmt: skip
        self._position += len(x)

    def _foreign(self, keys: Keys, x: Floats) -> Floats:
        """The sounds that moves listen to, (keys, n, channels)."""
        if self._strips:
            return np.array([self._key(keys, strip, len(x)) for strip in self._strips])
        return np.array([x]) if self.latency else x[None, :0]

    def _key(self, keys: Keys, source: int, count: int) -> Floats:
        """The sound of another strip, with as many channels as this."""
        key = keys.get(source)
        if key is None:
            return np.zeros((count, self.channels))
        if key.shape[1] > self.channels:  # a mono move hears the louder of both, sample by sample
            louder = np.argmax(np.abs(key), axis=1)
            return np.take_along_axis(key, louder[:, None], axis=1)
        return np.broadcast_to(key, (count, self.channels))

    def _delay(self, x: Floats) -> None:
        """Make x `latency` frames late, in place."""
        if self.latency:
            both = np.concatenate([self._line, x])
            x[:], self._line = both[: len(x)], both[len(x) :]

    def state(self) -> _Memory:
        """An exact copy of its memory."""
        return _Memory(self._position, [replace(slot) for slot in self._slots], self._memory.copy(), self._line.copy())

    def restore(self, state: _Memory) -> None:
        """Go on from a copy of the memory."""
        self._position = state.position
        self._slots = [replace(slot) for slot in state.slots]
        self._memory, self._line = state.lanes.copy(), state.line.copy()
        self._take_voices()

    def report(self) -> Mapping[int | str, float]:
        """The moving part of each move's gain in dB, of the channel where it is largest."""
        return {
            slot.step.key: 0.0
            if slot.silent
            else math.copysign(float(np.max(self._lanes(self._memory, k)[GAIN])), slot.voice.numbers[RANGE])
            for k, slot in enumerate(self._slots)
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
    sections = np.array([NOTHING, NOTHING])
    if value.detector_low_cut_hz > 0.0:
        low_cut = max(value.detector_low_cut_hz, 1.0)
        sections[0] = design(SectionKind.LOW_CUT_2, low_cut, math.sqrt(0.5), 0.0, rate)
    numbers = numbers_of(
        value, rate, range_db=-_COMPRESSED_DB, hold_ms=0.0, below=False, of_strip=False, sections=sections
    )
    table = np.zeros((_COMPRESSOR_POINTS, 6))
    table[:, 0] = 1.0
    table[:, 3] = 10.0 ** ((value.gain_db - _COMPRESSED_DB * np.linspace(0.0, 1.0, _COMPRESSOR_POINTS)) / 20.0)
    remembers = STEP_FORGOTTEN * max(value.attack_ms, value.release_ms) * 1e-3
    table = in_steps(table)
    lane = lane_of(sections, reading_of_all(rate), value.detector)
    return Voice(numbers, sections, lane, table, (), remembers, value.mix)


def _cells(frame: int) -> int:
    """Cells that begin before a frame."""
    return -(-frame // CELL)


def _longest_memory_s(table: Floats, rate: float) -> float:
    """Seconds after which the slowest of these filters has forgotten its past to -120 dB."""
    a, b, c = table[:, 0], table[:, 1], table[:, 2]
    trace, product = a + 1.0 - c, a * (1.0 - c) + b * b
    root = np.sqrt((trace * trace - 4.0 * product).astype(np.complex128))
    radius = np.max(np.abs(np.stack([trace + root, trace - root])) / 2.0)
    return float(math.log(FORGOTTEN) / math.log(min(max(radius, 1e-9), 1.0 - 1e-9))) / rate
