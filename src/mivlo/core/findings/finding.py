"""What a finding is."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import StrEnum

from mivlo.core.findings.evidence import Evidence
from mivlo.core.moves import DynamicMove, Entry, Move
from mivlo.core.units import Note, hz_to_note

METHOD = 14
"""Version of the method; results of another version are made anew."""
SAME_OCT = 1.0 / 36.0
"""What is nearer is one and the same."""


def is_one_of(hz: float, places_hz: Sequence[float]) -> bool:
    """Whether a frequency is the same as one of these."""
    return any(abs(math.log2(hz / place)) < SAME_OCT for place in places_hz)


class Kind(StrEnum):
    RING = "ring"
    BOOM = "boom"
    BOX = "box"
    MUD = "mud"
    HONK = "honk"
    HARSH = "harsh"
    FIZZ = "fizz"
    SIBILANCE = "sibilance"
    PLOSIVE = "plosive"
    WHISTLE = "whistle"
    RUMBLE = "rumble"
    HUM = "hum"
    OWN_TONE = "own tone"


@dataclass(frozen=True, slots=True)
class Finding:
    """Something that stands out, its evidence, and the smallest move that brings it to its surroundings.

    frequency_hz, bandwidth_oct : centre and width of the bell that fits it (width at half of the gain in dB).
    excess_db : how far it stands over its surroundings.
    confidence : 0 to 1; of those at 0.8, about 80 % are real.
    share_of_time : share of the sounding time in which it stands out by 3 dB or more.
    moments : (from, to) in s, for what comes and goes; empty for what stays.
    similar : 0 to 1, how alike the moments are in level; None for what stays.
    worst_s : where it stands out most.
    loop_s : (from, to) in s in which it is listened to.
    ring_ms : time for 60 dB that the band rings on after the sound that excites it; None if it was not seen.
    own_ring_ms : how long a resonance of that width rings by itself, to compare with.
    slope : dB of excess per dB of the track's level; above 0 it grows on loud notes.
    harmonic : the nearest harmonic explanation, or "" if there is none.
    threshold_db : for what is there only now and then: level of the band in dBFS over which a dynamic move acts.
    after_db : what would still stand out there once all that is proposed is made, as the networks read it; None where a
        rule found it.
    takes_db : what the move takes from the rest of the track, as its change of level in dB (0 or below).
    tail : of a tone of its own that rings on, a cut of its tail only; None where tails are not told from strokes.
    stretches : times in which the move acts; none: always.
    says : what has to be told about the proposal, in a sentence or two; mostly empty.
    """

    kind: Kind
    frequency_hz: float
    bandwidth_oct: float
    excess_db: float
    confidence: float
    move: Move
    share_of_time: float = 1.0
    moments: tuple[tuple[float, float], ...] = ()
    similar: float | None = None
    worst_s: float = 0.0
    loop_s: tuple[float, float] = (0.0, 0.0)
    ring_ms: float | None = None
    own_ring_ms: float = 0.0
    slope: float = 0.0
    harmonic: str = ""
    threshold_db: float | None = None
    after_db: float | None = None
    takes_db: float = 0.0
    says: str = ""
    tail: DynamicMove | None = None
    stretches: tuple[tuple[float, float], ...] = ()
    evidence: Evidence = field(default_factory=Evidence)

    @property
    def entry(self) -> Entry:
        """The proposed move with the times in which it acts."""
        return Entry(move=self.move, stretches=self.stretches)

    @property
    def note(self) -> Note:
        return hz_to_note(self.frequency_hz)

    @property
    def rank(self) -> float:
        """How early it comes in a list."""
        return rank_of(self.kind, self.confidence, self.excess_db)


def rank_of(kind: Kind, confidence: float, excess_db: float) -> float:
    """Most certain and most disturbing first; tones that are no fault come last."""
    if kind is Kind.OWN_TONE:
        return -1.0 + excess_db / 100.0
    return confidence * (0.6 + min(excess_db, 16.0) / 40.0)
