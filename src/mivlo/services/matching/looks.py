"""Looks at strips of a song, to refit moves to them."""

from __future__ import annotations

import numpy as np

from mivlo.core.findings.search import Search
from mivlo.core.graph import StripKind, Tap
from mivlo.services.making.hearing import sound_of, span_of
from mivlo.services.song.state import SongState, StripState


def look_at_strip(song: SongState, strip: StripState) -> Search:
    """A look at what reaches a strip's moves over the passage (its first minute)."""
    first, last = span_of(song)
    sound = sound_of(song, song.plan, (strip.id, Tap.UNTREATED), first, last)
    role = strip.role if strip.kind is StripKind.TRACK else None
    return Search(sound.astype(np.float32), sample_rate=song.sample_rate, role=role)
