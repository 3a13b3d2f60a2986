"""Treated sounds of a song's tracks that need not be computed again: found on disk, made in the background."""

from __future__ import annotations

import logging
import os
import threading
from collections.abc import Iterator, Mapping
from functools import lru_cache
from queue import Empty, SimpleQueue

import numpy as np

from mivlo.audio.treated import TreatedCache
from mivlo.config import settings
from mivlo.core.graph import Point, StripKind, Tap, TreatedSound, render
from mivlo.core.graph.streams import Samples
from mivlo.core.spectra import Singles
from mivlo.services.recordings.files import recordings
from mivlo.services.recordings.importing import song_sources
from mivlo.services.song.state import SongState, StripState

log = logging.getLogger("mivlo.treated")

SETTLED_S = 2.0
"""A song that was not changed for so long is at rest: what it sounds like is worth keeping."""
_BACKGROUND = 10
"""How far behind everything else the maker's thread stands (as `nice` counts)."""


@lru_cache
def treated_cache() -> TreatedCache:
    """The cache of this machine."""
    room = round(settings().treated_cache_gb * 1e9)
    return TreatedCache(settings().data_dir / "treated", room, settings().keep_free_bytes)


def known_treated(song: SongState, sources: Mapping[int, Samples] | None = None) -> dict[int, Samples]:
    """The tracks whose treated sound is known, by strip; those without moves sound as their recording.

    sources : the recordings, where the caller has them open already.
    """
    cache = treated_cache()
    if sources is None:
        sources = song_sources(song, skip_missing=True)
    found: dict[int, Samples] = {}
    for track in song.tracks:
        if track.id not in sources:
            continue
        if track.treatment.changes_nothing:
            found[track.id] = sources[track.id]
            continue
        known = cache.get(song.plan.sound(track.id), song.frames, track.channels)
        if known is not None:
            found[track.id] = known
    return found


def tapped(song: SongState, point: Point) -> TreatedSound:
    """What the song gives at a point, computed where it is sliced, from what is known already where that will do."""
    sources = song_sources(song)
    below = song.plan.below(point[0])
    known = {i: sound for i, sound in known_treated(song, sources).items() if i in below}
    return TreatedSound(song.plan, sources, point, song.strip(point[0]).frames, treated=known)


def arriving(song: SongState, strip: StripState) -> Singles | TreatedSound:
    """What reaches a strip's moves: a recording, or all that runs into a group or the mix."""
    if strip.kind is StripKind.TRACK:
        return recordings().samples(strip.recording, song.sample_rate)
    return tapped(song, (strip.id, Tap.UNTREATED))


def missing(song: SongState) -> list[StripState]:
    """The tracks whose treated sound has to be computed and could be kept."""
    known, cache = known_treated(song), treated_cache()
    wanted = [track for track in song.tracks if track.frames and track.id not in known]
    return [track for track in wanted if cache.has_room_for(song.frames, track.channels)]


def make_treated(song: SongState, track: StripState, stop: threading.Event) -> bool:
    """Render a track from its first frame to the song's last (it may ring on behind its recording) and keep it.

    Whether it was finished.
    """

    def blocks() -> Iterator[Singles]:
        for block in render(song.plan, song_sources(song), (track.id, Tap.BEHIND), 0, song.frames):
            if stop.is_set():
                raise InterruptedError
            yield block.astype(np.float32)

    try:
        treated_cache().put(song.plan.sound(track.id), blocks())
    except InterruptedError:
        return False
    return True


class TreatedMaker:
    """Makes treated sounds in a thread of its own, behind everything else; nobody waits for it.

    Attributes
    ----------
    made : how many sounds it has made so far.
    """

    def __init__(self) -> None:
        self.made = 0
        self._wanted: SimpleQueue[SongState] = SimpleQueue()
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None
        self._lock = threading.Lock()

    def want(self, song: SongState) -> None:
        """Have what is missing of a song made, once nothing newer has come for a while."""
        with self._lock:
            if self._thread is None:
                self._thread = threading.Thread(target=self._run, name="treated", daemon=True)
                self._thread.start()
        self._wanted.put(song)

    def stop(self) -> None:
        """End it; a sound that is half made is dropped."""
        self._stop.set()

    def _run(self) -> None:
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), _BACKGROUND)
        waiting: dict[int, SongState] = {}
        while not self._stop.is_set():
            try:
                song = self._wanted.get(timeout=SETTLED_S)
                waiting[song.id] = song  # a newer state takes an older one's place
            except Empty:
                for known in list(waiting.values()):
                    self._make(waiting.pop(known.id))

    def _make(self, song: SongState) -> None:
        for track in missing(song):
            if self._stop.is_set() or not self._wanted.empty():
                self._wanted.put(song)  # something was changed: first see what
                return
            try:
                self.made += make_treated(song, track, self._stop)
            except Exception:  # listening goes on without it
                log.exception("the treated sound of %s could not be kept", track.name)
                return


maker = TreatedMaker()
