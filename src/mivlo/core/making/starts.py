"""Ready starts for moves that listen. Figures: common practice, no source; thresholds are fitted to the passage."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum

from mivlo.core.moves import AdaptiveMove, DynamicMove, Key, KeyShape, Move, Shape, ThresholdOf


class StartName(StrEnum):
    PLOSIVES = "plosives"
    SIBILANCE = "sibilance"
    LOUD_NOTES = "loud_notes"
    HARSH = "harsh"
    GIVE_WAY = "give_way"
    FOLLOW = "follow"


@dataclass(frozen=True, slots=True)
class Start:
    """A ready start.

    title : what it is for. when : when to use it. moves : with a threshold that has to be fitted. share : of the time
    in which it acts, where nothing else says it.
    """

    name: StartName
    title: str
    when: str
    moves: tuple[Move, ...]
    share: float


_ANY_DB = -30.0


def _sibilance(frequency_hz: float) -> DynamicMove:
    return DynamicMove(
        Shape.BELL, frequency_hz, -12.0, -6.0, q=1.0, ratio=3.0, knee_db=6.0, attack_ms=1.0, hold_ms=15.0,
        release_ms=50.0, lookahead_ms=3.0, threshold_of=ThresholdOf.STRIP,
    )  # fmt: skip


STARTS: dict[StartName, Start] = {
    start.name: start
    for start in (
        Start(
            StartName.PLOSIVES, "pops", "Bursts of breath on p and b; low notes that are sung stay.",
            (
                DynamicMove(
                    Shape.LOW_SHELF, 120.0, _ANY_DB, -12.0, ratio=6.0, knee_db=3.0, attack_ms=2.0, hold_ms=30.0,
                    release_ms=90.0, lookahead_ms=8.0, key=Key(frequency_hz=65.0, shape=KeyShape.LOW),
                ),
            ),
            0.02,
        ),
        Start(
            StartName.SIBILANCE, "sibilance", "Sharp s and t in a voice; vowels stay as bright as they are.",
            (_sibilance(6_500.0), _sibilance(9_500.0)), 0.08,
        ),
        Start(
            StartName.LOUD_NOTES, "loud notes ring", "A resonance that only loud notes set off.",
            (
                DynamicMove(
                    Shape.BELL, 1_000.0, _ANY_DB, -6.0, q=4.0, ratio=3.0, knee_db=6.0, attack_ms=10.0, hold_ms=20.0,
                    release_ms=150.0, lookahead_ms=5.0,
                ),
            ),
            0.15,
        ),
        Start(
            StartName.HARSH, "harsh range", "A range that hurts when it is played hard, whatever the note.",
            (
                DynamicMove(
                    Shape.BELL, 2_800.0, -18.0, -4.0, q=1.2, ratio=2.0, knee_db=8.0, attack_ms=5.0, release_ms=100.0,
                    lookahead_ms=3.0, threshold_of=ThresholdOf.STRIP,
                ),
            ),
            0.25,
        ),
        Start(
            StartName.GIVE_WAY, "give way", "Room for another track while it sounds, and only then.",
            (
                DynamicMove(
                    Shape.BELL, 1_000.0, _ANY_DB, -2.0, q=1.0, ratio=20.0, knee_db=6.0, attack_ms=20.0, hold_ms=60.0,
                    release_ms=200.0, lookahead_ms=10.0,
                ),
            ),
            0.5,
        ),
        Start(
            StartName.FOLLOW, "whatever stands out", "Rings that change with the note; what is smooth stays.",
            (AdaptiveMove(200.0, 12_000.0, share=0.5, most_db=-6.0, attack_ms=10.0, release_ms=80.0),), 1.0,
        ),
    )
}  # fmt: skip

GROUP_GIVES_DB, TRACK_GIVES_DB = -1.0, -2.0
BELOW_ACTIVE_DB = 10.0
"""A move that gives way acts from so far below the median level of its key while that sounds."""


def started(
    name: StartName, *, frequency_hz: float | None = None, q: float | None = None, key: int | None = None,
    group: bool = False,
) -> tuple[Move, ...]:  # fmt: skip
    """The moves of a start, at a place and for a key where they are given."""
    out = []
    for move in STARTS[name].moves:
        if isinstance(move, DynamicMove):
            if frequency_hz is not None and name in (StartName.LOUD_NOTES, StartName.HARSH, StartName.GIVE_WAY):
                move = replace(move, frequency_hz=frequency_hz, q=q or move.q)
            if key is not None:
                move = replace(move, key=replace(move.key, source=key))
            if name is StartName.GIVE_WAY and group:
                move = replace(move, range_db=GROUP_GIVES_DB)
        out.append(move)
    return tuple(out)
