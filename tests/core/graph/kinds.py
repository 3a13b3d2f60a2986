"""Two kinds of moves that only tests know, as a later module would bring them: they lag and they listen."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from mivlo.core.processors import PROCESSORS, Keys, Step
from mivlo.core.units import Floats


class _Kind:
    needed: tuple[str, ...] = ()
    absent: tuple[str, ...] = ()
    implied: tuple[str, ...] = ()
    gathers = False

    def scaled(self, amount: float) -> Any:
        return self


@dataclass(frozen=True)
class Late(_Kind):
    """Gives back its input, late by so many frames: once the lag is made up for, nothing has happened."""

    frames: int
    mode: Literal["late"] = "late"

    @property
    def listens_to(self) -> tuple[int, ...]:
        return ()

    @property
    def structure(self) -> tuple[object, ...]:
        return (self.frames,)


@dataclass(frozen=True)
class GiveWay(_Kind):
    """Turns down while another strip sounds: by its rectified, smoothed level; `frames` of lag as a look-ahead has."""

    key: int
    frames: int = 0
    mode: Literal["give_way"] = "give_way"

    @property
    def listens_to(self) -> tuple[int, ...]:
        return (self.key,)

    @property
    def structure(self) -> tuple[object, ...]:
        return (self.frames,)


@dataclass(frozen=True)
class Echo(_Kind):
    """Feeds its output back: y[n] = x[n] + feedback y[n - 1], a memory of any length."""

    feedback: float
    mode: Literal["echo"] = "echo"

    @property
    def listens_to(self) -> tuple[int, ...]:
        return ()

    @property
    def structure(self) -> tuple[object, ...]:
        return ()


class _Processor:
    aligned = 1

    def __init__(self, rate: float, channels: int, steps: Sequence[Step]) -> None:
        (self.step,) = steps
        self.move: Any = self.step.move
        self.rate, self.channels = rate, channels
        self.latency = getattr(self.move, "frames", 0)
        self.line = deque([np.zeros(channels)] * self.latency)
        self.level = 0.0
        self.last = np.zeros(channels)
        self.gain = 1.0

    gliding = False

    @property
    def memory_s(self) -> float:
        return 0.0

    def aim(self, steps: Sequence[Step], *, glide: bool = True) -> None:
        (self.step,) = steps
        self.move = self.step.move

    def state(self) -> Any:
        return (deque(self.line), self.level, self.last.copy(), self.gain)

    def restore(self, state: Any) -> None:
        line, self.level, last, self.gain = state
        self.line, self.last = deque(line), last.copy()

    def report(self) -> Mapping[int | str, float]:
        return {self.step.key: float(20 * np.log10(self.gain))}

    def late(self, block: Floats) -> Floats:
        if not self.latency:
            return block
        out = np.empty_like(block)
        for n, frame in enumerate(block):
            self.line.append(frame.copy())
            out[n] = self.line.popleft()
        return out


class LateProcessor(_Processor):
    def process(self, block: Floats, keys: Keys) -> Floats:
        return self.late(block)


COEFFICIENT = 0.01


class GiveWayProcessor(_Processor):
    @property
    def memory_s(self) -> float:
        return float(np.log(1e-7) / np.log(1 - COEFFICIENT) / self.rate)

    def process(self, block: Floats, keys: Keys) -> Floats:
        key = keys.get(self.move.key)
        levels = np.zeros(len(block)) if key is None else np.max(np.abs(key), axis=1)
        out = self.late(block).copy()
        if not self.step.enabled:
            return out
        for n in range(len(block)):
            self.level += COEFFICIENT * (levels[n] - self.level)
            self.gain = 1.0 / (1.0 + 4.0 * self.level)
            out[n] *= self.gain
        return out


class EchoProcessor(_Processor):
    @property
    def memory_s(self) -> float:
        return float(np.log(1e-6) / np.log(self.move.feedback) / self.rate)

    def process(self, block: Floats, keys: Keys) -> Floats:
        out = block.copy()
        for n in range(len(block)):
            self.last = out[n] = out[n] + self.move.feedback * self.last
            self.last = self.last.copy()
        return out


@contextmanager
def known() -> Iterator[None]:
    """Register the kinds for as long as a test runs."""
    made = {"late": LateProcessor, "give_way": GiveWayProcessor, "echo": EchoProcessor}
    PROCESSORS.update(made)  # type: ignore[arg-type]
    try:
        yield
    finally:
        for name in made:
            del PROCESSORS[name]
