"""The probe as something that a renderer puts behind a strip's moves for one listener."""

from __future__ import annotations

import math
from typing import Any

from mivlo.core.graph.streams import Insert
from mivlo.core.probe import Probe, ProbeStream
from mivlo.core.units import Floats

LONGEST_MEMORY_S = 1.0


class ProbeInsert:
    """The probe on the side of the comparison that is heard."""

    def __init__(self, stream: ProbeStream, sample_rate: int) -> None:
        self._stream, self._rate = stream, sample_rate
        self._on_untreated = False

    @property
    def active(self) -> bool:
        """Whether anything of it is still heard."""
        return self._stream.active

    @property
    def held_back_db(self) -> float:
        return self._stream.held_back_db

    @property
    def memory(self) -> int:
        return math.ceil(min(self._stream.memory_s, LONGEST_MEMORY_S) * self._rate)

    def set_probe(self, probe: Probe | None, *, on_untreated: bool, glide: bool) -> None:
        self._on_untreated = on_untreated
        self._stream.set_probe(probe, glide=glide)

    def hear_as(self, other: Insert | None) -> None:
        """Know the levels that another one has followed, so that it is safe from its start."""
        if isinstance(other, ProbeInsert):
            self._stream.restore(other._stream.state())

    def process(self, treated: Floats, untreated: Floats) -> tuple[Floats, Floats]:
        if self._on_untreated:
            return treated, self._stream.process(untreated, untreated)
        return self._stream.process(treated, untreated), untreated

    def state(self) -> Any:
        return self._stream.state()

    def restore(self, state: Any) -> None:
        self._stream.restore(state)
