"""Static moves with another phase than their own, as stream processors: linear, or that of the analogue prototypes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy.typing as npt

from mivlo.core.moves import FixedMove
from mivlo.core.phase import CORRECTION_TAPS, analogue_taps, linear_taps
from mivlo.core.processors.convolution import CELL, Convolution
from mivlo.core.processors.protocol import Keys, Step
from mivlo.core.processors.static import StaticProcessor
from mivlo.core.units import Floats, positive


def taps_for(moves: Sequence[FixedMove], sample_rate: float) -> int:
    """How many taps the moves take with linear phase, switched on or not."""
    return len(linear_taps(tuple(moves), float(sample_rate)))


def _switched_on(steps: Sequence[Step]) -> tuple[FixedMove, ...]:
    return tuple(step.move for step in steps if step.enabled)


class LinearProcessor:
    """Static moves as one filter of linear phase. How long it is stays as it is; its values come in within a cell."""

    aligned = CELL

    def __init__(self, sample_rate: float, channels: int, steps: Sequence[Step]) -> None:
        self.sample_rate = positive("sample_rate", sample_rate)
        self._count = taps_for([step.move for step in steps], sample_rate)
        self._moves = _switched_on(steps)
        self._convolution = Convolution(self._taps(), channels)
        self.latency = self._count // 2 + CELL

    def _taps(self) -> Floats:
        taps = linear_taps(self._moves, self.sample_rate, self._count)
        middle, arm = len(taps) // 2, self._count // 2
        return taps[middle - arm : middle + arm + 1]

    @property
    def gliding(self) -> bool:
        """Whether values are on their way."""
        return self._convolution.gliding

    @property
    def memory_s(self) -> float:
        """Seconds after which the past is forgotten: all of it."""
        return (self._count + 2 * CELL) / self.sample_rate

    def aim(self, steps: Sequence[Step], *, glide: bool = True) -> None:
        """Take new values."""
        moves = _switched_on(steps)
        if moves != self._moves or not glide:
            self._moves = moves
            self._convolution.aim(self._taps(), glide=glide)

    def process(self, block: npt.ArrayLike, keys: Keys | None = None) -> Floats:
        """The next samples: (n, channels) in and out, `latency` frames late."""
        return self._convolution.process(block)

    def state(self) -> Any:
        """An exact copy of its memory."""
        return self._convolution.memory.copy()

    def restore(self, state: Any) -> None:
        """Go on from a copy of the memory."""
        self._convolution.memory = state.copy()

    def report(self) -> Mapping[int | str, float]:
        """Static moves do not move."""
        return {}


class AnalogueProcessor:
    """Static moves as they are, and behind them a filter that gives them the phase of their prototypes."""

    aligned = CELL

    def __init__(self, sample_rate: float, channels: int, steps: Sequence[Step]) -> None:
        self.sample_rate = positive("sample_rate", sample_rate)
        self._static = StaticProcessor(sample_rate, channels, steps)
        self._moves = _switched_on(steps)
        self._convolution = Convolution(analogue_taps(self._moves, self.sample_rate), channels)
        self.latency = CORRECTION_TAPS // 2 + CELL

    @property
    def gliding(self) -> bool:
        """Whether values are on their way."""
        return self._static.gliding or self._convolution.gliding

    @property
    def memory_s(self) -> float:
        """Seconds after which the past is forgotten to -120 dB."""
        return self._static.memory_s + (CORRECTION_TAPS + 2 * CELL) / self.sample_rate

    def aim(self, steps: Sequence[Step], *, glide: bool = True) -> None:
        """Take new values."""
        self._static.aim(steps, glide=glide)
        moves = _switched_on(steps)
        if moves != self._moves or not glide:
            self._moves = moves
            self._convolution.aim(analogue_taps(moves, self.sample_rate), glide=glide)

    def process(self, block: npt.ArrayLike, keys: Keys | None = None) -> Floats:
        """The next samples: (n, channels) in and out, `latency` frames late."""
        return self._convolution.process(self._static.process(block))

    def state(self) -> Any:
        """An exact copy of its memory."""
        return self._static.state(), self._convolution.memory.copy()

    def restore(self, state: Any) -> None:
        """Go on from a copy of the memory."""
        static, line = state
        self._static.restore(static)
        self._convolution.memory = line.copy()

    def report(self) -> Mapping[int | str, float]:
        """Static moves do not move."""
        return {}
