"""How much louder or softer the treatment made the passage, measured in the background."""

from __future__ import annotations

import numpy as np

from mivlo.core.chain import warm_chain
from mivlo.core.loudness import level_match_lu
from mivlo.core.units import Floats, db_to_gain
from mivlo.live.engine import EngineTrack, pan_gains
from mivlo.live.modes import Passage, Scope

LONGEST_S = 60.0


def match_of(tracks: list[EngineTrack], focus: int | None, scope: Scope, passage: Passage, sample_rate: int) -> float:
    """Gain in LU that makes treated as loud as untreated over the passage (at most its first minute).

    Alone: of the focused track. In the mix: of the whole mix, with the focused track (or, without
    one, all tracks) treated or not.
    """
    stop = min(passage.stop, passage.start + int(LONGEST_S * sample_rate))
    passage = Passage(passage.start, stop)
    if scope is Scope.ALONE and focus is not None:
        track = next(track for track in tracks if track.id == focus)
        dry, wet = _both(track, passage, sample_rate)
        return level_match_lu(dry, wet, sample_rate=sample_rate)
    before = np.zeros((stop - passage.start, 2))
    after = np.zeros_like(before)
    any_solo = any(track.solo for track in tracks)
    for track in tracks:
        if track.mute or (any_solo and not track.solo):
            continue
        dry, wet = _both(track, passage, sample_rate)
        sides = np.array(pan_gains(track.pan, track.channels)) * db_to_gain(track.fader_db)
        compared = focus is None or track.id == focus
        before[: len(dry)] += (dry if compared else wet) * sides
        after[: len(wet)] += wet * sides
    return level_match_lu(before, after, sample_rate=sample_rate)


def _both(track: EngineTrack, passage: Passage, sample_rate: int) -> tuple[Floats, Floats]:
    """(untreated, treated) samples of the passage; a mono track as (n, 1)."""
    dry = np.asarray(track.samples[passage.start : passage.stop], dtype=np.float64)
    chain = warm_chain(track.samples, track.moves, passage.start, sample_rate=sample_rate)
    return dry, chain.process(dry)
