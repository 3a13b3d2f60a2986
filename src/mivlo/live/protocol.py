"""Messages of a listening session; docs/live.md is their description for other clients.

Up: JSON text. Down: JSON text for states and reports, binary for sound, spectra and curves.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, TypeAdapter

from mivlo.core.moves import Move, Shape, StaticMove
from mivlo.core.probe import Probe, ProbeMode
from mivlo.core.spectra import quantise
from mivlo.core.units import Floats
from mivlo.live.engine import Block
from mivlo.live.modes import Scope, Signal

VERSION = 1
SOUND, SPECTRUM, CURVES = 1, 2, 3


class _Message(BaseModel):
    model_config = ConfigDict(extra="forbid")
    seq: int = 0


class Play(_Message):
    type: Literal["play"]


class Pause(_Message):
    type: Literal["pause"]


class Seek(_Message):
    type: Literal["seek"]
    at_s: float


class SetPassage(_Message):
    type: Literal["passage"]
    from_s: float | None = None
    to_s: float | None = None


class SetLoop(_Message):
    type: Literal["loop"]
    on: bool


class SetFocus(_Message):
    type: Literal["focus"]
    track_id: int | None


class SetScope(_Message):
    type: Literal["scope"]
    scope: Scope


class SetSignal(_Message):
    type: Literal["signal"]
    signal: Signal


class SetMatch(_Message):
    type: Literal["match"]
    on: bool


class ProbeValues(BaseModel):
    model_config = ConfigDict(extra="forbid")
    frequency_hz: float = Field(ge=10, le=24_000)
    octaves: float = 0.1
    gain_db: float = 12.0
    mode: ProbeMode = ProbeMode.BOOST
    margin_db: float = 6.0

    def probe(self) -> Probe:
        return Probe(self.frequency_hz, self.octaves, self.gain_db, self.mode, self.margin_db)


class SetProbe(_Message):
    type: Literal["probe"]
    probe: ProbeValues | None


class LiveMove(BaseModel):
    model_config = ConfigDict(extra="ignore")
    id: int
    shape: Shape
    frequency_hz: float
    q: float
    gain_db: float = 0.0
    slope_db_per_octave: int = 12
    enabled: bool = True

    def move(self) -> Move:
        return StaticMove(
            self.shape,
            self.frequency_hz,
            q=self.q,
            gain_db=self.gain_db,
            slope_db_per_octave=self.slope_db_per_octave,
            enabled=self.enabled,
        )


class SetMoves(_Message):
    """The moves of a track as they are while one of them is dragged; not saved."""

    type: Literal["moves"]
    track_id: int
    moves: list[LiveMove]


class SetAudition(_Message):
    """Hear one move of the focused track alone."""

    type: Literal["audition"]
    move_id: int | None


class Played(_Message):
    """What the client has played: sound frames so far, and how often it ran dry."""

    type: Literal["played"]
    frames: int
    dropped: int = 0


Message = Annotated[
    Play
    | Pause
    | Seek
    | SetPassage
    | SetLoop
    | SetFocus
    | SetScope
    | SetSignal
    | SetMatch
    | SetProbe
    | SetMoves
    | SetAudition
    | Played,
    Field(discriminator="type"),
]

_reader: TypeAdapter[Message] = TypeAdapter(Message)


def parse(text: str) -> Message:
    """A message from the client; pydantic.ValidationError where it is none."""
    return _reader.validate_json(text)


def sound(block: Block, seq: int, first_frame: int, sample_rate: int) -> bytes:
    """Header of 24 bytes (kind, playing, frames, seq, frame count, position in s), then float32 L R."""
    head = struct.pack(
        "<BBHIQd",
        SOUND,
        int(block.playing),
        len(block.samples),
        seq,
        first_frame,
        block.position / sample_rate,
    )
    return head + block.samples.tobytes()


def spectrum(untreated_db: Floats, treated_db: Floats) -> bytes:
    """Header of 4 bytes (kind, 0, points), then bytes of 0.5 dB above -120 dB: untreated, treated."""
    head = struct.pack("<BBH", SPECTRUM, 0, len(untreated_db))
    return head + quantise(untreated_db).tobytes() + quantise(treated_db).tobytes()


def curves(seq: int, track_id: int, total_db: Floats, keys: Sequence[int], each_db: Sequence[Floats]) -> bytes:
    """Header of 12 bytes (kind, count, points, seq, track), ids (uint32), then float32 dB: total, each."""
    head = struct.pack("<BBHII", CURVES, len(keys), len(total_db), seq, track_id)
    ids = np.array(keys, dtype=np.uint32).tobytes()
    return head + ids + np.array([total_db, *each_db], dtype=np.float32).tobytes()
