"""What a move hears: the sound that reaches it, and its key."""

from __future__ import annotations

from dataclasses import replace
from itertools import takewhile

import numpy as np

from mivlo.core.graph import Plan, Point, Tap, TreatedSound
from mivlo.core.graph.streams import part_of
from mivlo.core.making.thresholds import Trace, trace
from mivlo.core.moves import DynamicMove, Entry, Move
from mivlo.core.units import Floats
from mivlo.services.recordings.importing import song_sources
from mivlo.services.song.state import SongState, StripState

LONGEST_S = 60.0
"""So much of a passage is looked at, no more: what is asked for while something is dragged has to be quick."""
LEAD_S = 0.5


def passage_of(song: SongState) -> tuple[float, float]:
    """From when to when in s: the passage, or the whole song."""
    return song.passage_from_s or 0.0, song.duration_s if song.passage_to_s is None else song.passage_to_s


def span_of(song: SongState, from_s: float | None = None, to_s: float | None = None) -> tuple[int, int]:
    """Frames to be looked at: those that are asked for, else the passage, else the song; at most LONGEST_S."""
    passage = passage_of(song)
    start, stop = passage[0] if from_s is None else from_s, passage[1] if to_s is None else to_s
    first = max(0, min(round(start * song.sample_rate), song.frames))
    last = max(first, min(round(stop * song.sample_rate), song.frames))
    return first, min(last, first + round(LONGEST_S * song.sample_rate))


def sound_of(song: SongState, plan: Plan, point: Point, first: int, last: int) -> Floats:
    """What a plan of the song gives at a point between two frames, (n, channels)."""
    return TreatedSound(plan, song_sources(song, skip_missing=True), point, song.frames)[first:last]


def reaching(song: SongState, strip: StripState, entry: Entry, first: int, last: int) -> Floats:
    """The sound between two frames that reaches an entry of a strip, (n, channels); one that is new comes last."""
    before = tuple(takewhile(lambda e: e.id != entry.id, strip.treatment.heard()))
    plan = song.plan.with_treatments({strip.id: replace(strip.treatment, entries=before, amounts={})})
    return part_of(sound_of(song, plan, (strip.id, Tap.TREATED), first, last), entry.channels)


def key_of(song: SongState, move: Move, first: int, last: int) -> Floats | None:
    """The sound of the strip that a move listens to; silence where that is gone, None where it listens to itself."""
    if not move.listens_to:
        return None
    (source,) = move.listens_to
    if source not in song.plan.strips:
        return np.zeros((last - first, 1))
    return sound_of(song, song.plan, (source, Tap.KEY), first, last)


def traced(song: SongState, strip: StripState, entry: Entry, first: int, last: int) -> Trace:
    """Levels and gains of a dynamic move between two frames."""
    move = entry.move
    assert isinstance(move, DynamicMove)
    lead = max(0, first - round(LEAD_S * song.sample_rate))
    sound = reaching(song, strip, entry, lead, last)
    key = key_of(song, move, lead, last)
    whole = trace(move, sound, key, sample_rate=song.sample_rate, start_s=lead / song.sample_rate)
    kept = whole.times_s >= first / song.sample_rate
    return Trace(whole.times_s[kept], whole.level_db[kept], whole.gain_db[kept])
