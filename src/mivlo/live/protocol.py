"""Messages of a listening session; docs/live.md is their description for other clients.

Up: JSON text. Down: JSON text for states and reports, binary for sound, spectra and curves.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError

from mivlo.core.errors import MivloError
from mivlo.core.moves import LARGEST_ID, MOST_MOVES, Entry
from mivlo.core.moves.bounds import Id, Seconds
from mivlo.core.probe import Probe
from mivlo.core.spectra import quantise
from mivlo.core.units import Floats
from mivlo.description import flat_union, read_entry, sentence
from mivlo.live.engine import Block
from mivlo.live.modes import Scope, Signal

VERSION = 2
SOUND, SPECTRUM, CURVES = 1, 2, 3
MOST_CURVES = 255
REACH = 1 << 31
"""Added to a dynamic move's id: the curve of the whole gain that it can go to."""
LARGEST_MESSAGE = 16 * 2**20
"""Bytes; longer ones end the session."""
LONGEST_TEXT = 2**20
"""A message that says more than this is refused: none has that much to say."""

Count = Annotated[int, Field(ge=0, le=2**62)]


class NotUnderstood(MivloError):
    """A message that can't be one of ours; `seq` is its number, if it has one."""

    def __init__(self, why: str, seq: int | None = None) -> None:
        super().__init__(f"message not understood: {why}")
        self.seq = seq


class _Message(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    seq: Annotated[int, Field(ge=0, le=LARGEST_ID)] = 0


class Play(_Message):
    type: Literal["play"]


class Pause(_Message):
    type: Literal["pause"]


class Seek(_Message):
    type: Literal["seek"]
    at_s: Seconds


class SetPassage(_Message):
    type: Literal["passage"]
    from_s: Seconds | None = None
    to_s: Seconds | None = None


class SetLoop(_Message):
    type: Literal["loop"]
    on: bool


class SetFocus(_Message):
    type: Literal["focus"]
    track_id: Id | None


class SetScope(_Message):
    """`placed`: alone at the strip's own fader, pan and groups."""

    type: Literal["scope"]
    scope: Scope
    placed: bool = False


class SetCompanions(_Message):
    """What is heard with the focused strip where it is heard alone at its place."""

    type: Literal["companions"]
    track_ids: list[Id] = Field(max_length=500)


class SetSignal(_Message):
    type: Literal["signal"]
    signal: Signal


class SetMatch(_Message):
    type: Literal["match"]
    on: bool


class SetBypass(_Message):
    """Hear the song without any treatment, as loud as with all of them."""

    type: Literal["bypass"]
    on: bool


class SetMonitor(_Message):
    """Both channels as one, and softer."""

    type: Literal["monitor"]
    mono: bool
    dim: bool


class SetProbe(_Message):
    type: Literal["probe"]
    probe: Probe | None


class _LiveMove(BaseModel):
    model_config = ConfigDict(extra="ignore", allow_inf_nan=False)
    id: Id


LiveMove: Any = flat_union("LiveMove", base=_LiveMove)


class SetMoves(_Message):
    """The moves of a strip as they are while one of them is dragged; not saved. Null ends it."""

    type: Literal["moves"]
    track_id: Id
    moves: Annotated[list[LiveMove], Field(max_length=MOST_MOVES)] | None

    def entries(self) -> tuple[Entry, ...] | None:
        if self.moves is None:
            return None
        return tuple(read_entry(move.model_dump(mode="json"), entry_id=move.id) for move in self.moves)


class SetOnly(_Message):
    """Hear some moves of the focused strip alone; null: all of them."""

    type: Literal["only"]
    move_ids: Annotated[list[Id], Field(max_length=MOST_MOVES)] | None


class SetKey(_Message):
    """Hear what a move of the focused strip listens to, through its band; null: as before."""

    type: Literal["key"]
    move_id: Id | None


class Played(_Message):
    """What the client has played: sound frames so far, and how often it ran dry."""

    type: Literal["played"]
    frames: Count
    dropped: Count = 0


Message = Annotated[
    Play
    | Pause
    | Seek
    | SetPassage
    | SetLoop
    | SetFocus
    | SetScope
    | SetCompanions
    | SetSignal
    | SetMatch
    | SetBypass
    | SetMonitor
    | SetProbe
    | SetMoves
    | SetOnly
    | SetKey
    | Played,
    Field(discriminator="type"),
]

_reader: TypeAdapter[Message] = TypeAdapter(Message)


def parse(text: str) -> Message:
    """A message from the client.

    Raises
    ------
    NotUnderstood : it is none; the sentence says why.
    """
    if len(text) > LONGEST_TEXT:
        raise NotUnderstood(f"it is {len(text) / 2**20:.1f} MB long")
    try:
        return _reader.validate_json(text)
    except ValidationError as error:
        raise NotUnderstood(sentence(error, whole="it")[:400], _seq_of(error)) from error


def _seq_of(error: ValidationError) -> int | None:
    """The number of a message that was refused, where that can be told."""
    for problem in error.errors():
        given = problem.get("input")
        seq = given.get("seq") if isinstance(given, dict) else None
        if isinstance(seq, int) and 0 <= seq <= LARGEST_ID:
            return seq
    return None


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
    """Header of 12 bytes (kind, count, points, seq, track), ids (uint32), then float32 dB: total, each.

    At most MOST_CURVES are told; those that come last are left out.
    """
    keys, each_db = keys[:MOST_CURVES], each_db[:MOST_CURVES]
    head = struct.pack("<BBHII", CURVES, len(keys), len(total_db), seq, track_id)
    ids = np.array(keys, dtype=np.uint32).tobytes()
    return head + ids + np.array([total_db, *each_db], dtype=np.float32).tobytes()
