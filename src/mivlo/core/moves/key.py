"""What a move listens to: its own sound or another strip's, and which part of it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import ClassVar, Literal

from mivlo.core.errors import InvalidValue
from mivlo.core.moves.bounds import Hertz, Id, Quality, check
from mivlo.core.moves.usual import Usual

SELF: Literal["self"] = "self"
"""The source that is what reaches the move."""


class KeyShape(StrEnum):
    """Which part of a key is listened to; low and high have sides of 24 dB an octave."""

    BAND = "band"
    LOW = "low"
    HIGH = "high"


@dataclass(frozen=True, slots=True)
class Key:
    """What a move listens to.

    Parameters
    ----------
    source : "self", what reaches the move, or the id of another strip.
    frequency_hz : centre or corner of the part that is listened to; None: the move's own band.
    q : how narrow a band is; None: as the move.
    shape : None is the move's own band, or a band where a frequency is given.
    """

    __pydantic_config__: ClassVar[dict[str, str]] = {"extra": "forbid"}

    source: Literal["self"] | Id = SELF
    frequency_hz: Hertz | None = None
    q: Quality | None = None
    shape: KeyShape | None = None

    def __post_init__(self) -> None:
        if self.source != SELF and (not isinstance(self.source, int) or isinstance(self.source, bool)):
            raise InvalidValue("key.source", self.source, 'it must be "self" or a strip')
        if self.shape is not None:
            object.__setattr__(self, "shape", KeyShape(self.shape))
        check(self)
        if self.shape in (KeyShape.LOW, KeyShape.HIGH):
            if self.frequency_hz is None:
                raise InvalidValue("key.frequency_hz", None, f"a key that listens to the {self.shape} part needs it")
            if self.q is not None:
                raise InvalidValue("key.q", self.q, f"a {self.shape} part has none; leave it out")

    @property
    def listens_to(self) -> tuple[int, ...]:
        """The strip that it needs beside its own: none or one."""
        return () if self.source == SELF else (int(self.source),)


class Keyed(Usual):
    """What kinds of moves have in common that listen to a key."""

    __slots__ = ()
    key: Key

    @property
    def listens_to(self) -> tuple[int, ...]:
        """The strip whose sound it needs beside its own."""
        return self.key.listens_to


OWN = Key()
"""Listens to what reaches the move, in the move's own band."""
