"""The static moves of a strip as filters for other programs: an impulse response, and sections."""

from __future__ import annotations

import csv
import io

from mivlo.audio.encode import sound_bytes
from mivlo.core.errors import InvalidValue
from mivlo.core.moves import Channels, FixedMove, Phase, StaticMove, treatment_sections
from mivlo.core.phase import linear_taps, minimum_impulse
from mivlo.services.song.state import StripState


def static_moves(strip: StripState) -> list[FixedMove]:
    """The static moves that always act on all channels, with the amounts applied."""
    return [
        e.move
        for e in strip.treatment.heard()
        if isinstance(e.move, FixedMove) and e.enabled and not e.stretches and e.channels is Channels.ALL
    ]


def impulse_wav(strip: StripState, sample_rate: int, phase: Phase) -> bytes:
    """Their impulse response as a WAV file of 32 bit float; of linear phase its middle is the moment of the impulse.

    Raises
    ------
    InvalidValue : another phase than minimum or linear.
    """
    moves = static_moves(strip)
    if phase is Phase.LINEAR:
        return sound_bytes(linear_taps(tuple(moves), float(sample_rate)), sample_rate)
    if phase is Phase.MINIMUM:
        return sound_bytes(minimum_impulse(moves, sample_rate), sample_rate)
    raise InvalidValue("phase", str(phase), "an impulse response is of minimum or linear phase")


def _shape(move: FixedMove) -> str:
    return str(move.shape) if isinstance(move, StaticMove) else move.mode


def sections_csv(strip: StripState, sample_rate: int) -> str:
    """Their second-order sections, b0 to a2 with a0 = 1, in the order in which they act."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["move", "shape", "frequency_hz", "b0", "b1", "b2", "a0", "a1", "a2"])
    for number, move in enumerate(static_moves(strip), 1):
        for row in treatment_sections([move], sample_rate=sample_rate).tolist():
            writer.writerow([number, _shape(move), move.frequency_hz, *map(repr, row)])
    return out.getvalue()
