"""What a move hears: the sound that reaches it, and its key."""

from __future__ import annotations

from dataclasses import replace
from itertools import takewhile

import numpy as np

from mivlo.core.graph import Tap, TreatedSound, compile
from mivlo.core.graph.streams import part_of
from mivlo.core.making.thresholds import Trace, trace
from mivlo.core.moves import DynamicMove, Entry, Move
from mivlo.core.units import Floats
from mivlo.services.recordings.importing import song_sources
from mivlo.services.song.state import SongState, StripState

LONGEST_S = 60.0
"""So much of a passage is looked at, no more: what is asked for while something is dragged has to be quick."""
LEAD_S = 0.5


def span_of(song: SongState, from_s: float | None = None, to_s: float | None = None) -> tuple[int, int]:
    """Frames to be looked at: those that are asked for, else the passage, else the song; at most LONGEST_S."""
    start = from_s if from_s is not None else song.passage_from_s or 0.0
    stop = to_s if to_s is not None else (song.passage_to_s if song.passage_to_s is not None else song.duration_s)
    first = max(0, min(round(start * song.sample_rate), song.frames))
    last = max(first, min(round(stop * song.sample_rate), song.frames))
    return first, min(last, first + round(LONGEST_S * song.sample_rate))


def reaching(song: SongState, strip: StripState, entry: Entry, first: int, last: int) -> Floats:
    """The sound between two frames that reaches an entry of a strip, (n, channels); one that is new comes last."""
    before = tuple(takewhile(lambda e: e.id != entry.id, strip.treatment.heard()))
    shorter = replace(strip, treatment=replace(strip.treatment, entries=before, amounts={}))
    strips = [s.strip() if s.id != strip.id else shorter.strip() for s in song.strips]
    plan = compile(strips, sample_rate=song.sample_rate)
    sound = TreatedSound(plan, song_sources(song, skip_missing=True), (strip.id, Tap.TREATED), song.frames)[first:last]
    return part_of(sound, entry.channels)


def key_of(song: SongState, move: Move, first: int, last: int) -> Floats | None:
    """The sound of the strip that a move listens to; silence where that is gone, None where it listens to itself."""
    if not move.listens_to:
        return None
    (source,) = move.listens_to
    if source not in song.plan.strips:
        return np.zeros((last - first, 1))
    sound = TreatedSound(song.plan, song_sources(song, skip_missing=True), (source, Tap.KEY), song.frames)
    return sound[first:last]


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
