"""What this machine keeps of the store's recordings: originals it has fetched, and working copies it has made.

fetched/ab/abcdef....wav        copies of originals, where the store lies elsewhere
working/ab/abcdef..._48000/     samples.f32, peaks.npy, map-0.npy ..., analysis.json
working/ab/abcdef..._48000_9600 the same of a recording that begins 9,600 frames behind the song's beginning

All of it can be made again from the store; a worker on another machine begins with an empty folder.
"""

from __future__ import annotations

import threading
from collections import defaultdict
from functools import lru_cache
from pathlib import Path
from typing import Any, BinaryIO, Protocol

import numpy as np
import numpy.typing as npt

from mivlo.audio.objects import ObjectStore
from mivlo.audio.originals import original_name
from mivlo.audio.working import (
    ANALYSIS,
    PEAKS,
    SAMPLES,
    WORKING_VERSION,
    Analysis,
    Progress,
    make_working,
    map_name,
    read_analysis,
)
from mivlo.core.errors import MivloError
from mivlo.core.spectra import Singles


class Recording(Protocol):
    """What names a recording: its content, the file it came in, and when it begins in the song."""

    @property
    def audio_sha256(self) -> str: ...

    @property
    def file_name(self) -> str: ...

    @property
    def starts_at_s(self) -> float: ...


class MissingRecording(MivloError):
    """The store does not have a recording any more."""


def silent_frames(starts_at_s: float, sample_rate: int) -> int:
    """Frames of silence in front of a recording that begins `starts_at_s` behind the song's beginning."""
    return round(starts_at_s * sample_rate)


def working_name(digest: str, starts_at_s: float, sample_rate: int) -> str:
    """The name of the folder of a working copy."""
    silence = silent_frames(starts_at_s, sample_rate)
    return f"{digest}_{sample_rate}{f'_{silence}' if silence else ''}"


class LocalCache:
    """Working copies of recordings at a song's rate, made when they are missing or of an older version.

    Parameters
    ----------
    root : a folder of this machine.
    store : where the originals are.
    keep_free : bytes that are left free on its disk.
    """

    def __init__(self, root: Path, store: ObjectStore, keep_free: int = 0) -> None:
        self.root, self._store, self._keep_free = root, store, keep_free

    def original(self, of: Recording) -> Path:
        """The original as a file of this machine, fetched if it lies elsewhere.

        Raises
        ------
        MissingRecording : the store does not have it.
        """
        name, place = self._original(of)
        if not place.is_file():
            try:
                self._store.fetch(name, place)
            except FileNotFoundError:
                raise self._missing(of) from None
        return place

    def open_original(self, of: Recording) -> BinaryIO:
        """The original to be read in part, where it lies: what is not read is not fetched.

        Raises
        ------
        MissingRecording : the store does not have it.
        """
        name, place = self._original(of)
        try:
            return place.open("rb") if place.is_file() else self._store.open(name)
        except FileNotFoundError:
            raise self._missing(of) from None

    def _original(self, of: Recording) -> tuple[str, Path]:
        """Its name in the store, and where it is on this machine once it is here."""
        name = original_name(of.audio_sha256, of.file_name)
        return name, self._store.here(name) or self.root / "fetched" / name.partition("/")[2]

    def _missing(self, of: Recording) -> MissingRecording:
        return MissingRecording(
            f"The recording {of.file_name} is missing in the store. Put it back from a backup of "
            f"{self._store.address}, or take the track out of the song."
        )

    def _folder(self, of: Recording, sample_rate: int) -> Path:
        return self.root / "working" / of.audio_sha256[:2] / working_name(of.audio_sha256, of.starts_at_s, sample_rate)

    def has(self, of: Recording, sample_rate: int) -> bool:
        """Whether a working copy is there and as this version makes it."""
        return self._known(self._folder(of, sample_rate)) is not None

    def _known(self, folder: Path) -> Analysis | None:
        place = folder / ANALYSIS
        try:
            found = _analysis(str(place), place.stat().st_mtime_ns)
        except OSError:
            return None
        return found if found is not None and found.version == WORKING_VERSION else None

    def make(self, of: Recording, sample_rate: int, progress: Progress = lambda share: None) -> Analysis:
        """Have a working copy: decode, resample and analyse the original, once per content and rate."""
        folder = self._folder(of, sample_rate)
        with _LOCKS[str(folder)]:  # asked for twice at once it is made once
            known = self._known(folder)
            if known is None:
                known = make_working(
                    self.original(of), of.file_name, folder, sample_rate, progress,
                    silence=silent_frames(of.starts_at_s, sample_rate), keep_free=self._keep_free,
                )  # fmt: skip
        return known

    def analysis(self, of: Recording, sample_rate: int) -> Analysis:
        """What is known of the working copy."""
        return self._known(self._folder(of, sample_rate)) or self.make(of, sample_rate)

    def samples(self, of: Recording, sample_rate: int) -> Singles:
        """The working copy, memory-mapped: (frames, channels) float32."""
        known = self.analysis(of, sample_rate)
        path = self._folder(of, sample_rate) / SAMPLES
        return np.asarray(np.memmap(path, dtype=np.float32, mode="r", shape=(known.frames, known.channels)))

    def peaks(self, of: Recording, sample_rate: int) -> npt.NDArray[np.float32]:
        """Lowest and highest sample of every PEAK_FRAMES frames: (m, 2)."""
        return self._array(of, sample_rate, PEAKS)

    def map_level(self, of: Recording, sample_rate: int, level: int) -> npt.NDArray[np.uint8]:
        """One zoom level of the time map: (columns, MAP_ROWS) bytes."""
        return self._array(of, sample_rate, map_name(level))

    def _array(self, of: Recording, sample_rate: int, name: str) -> npt.NDArray[Any]:
        self.analysis(of, sample_rate)
        path = self._folder(of, sample_rate) / name
        return _array(str(path), path.stat().st_mtime_ns)


_LOCKS: defaultdict[str, threading.Lock] = defaultdict(threading.Lock)


@lru_cache(maxsize=512)
def _analysis(path: str, written: int) -> Analysis | None:
    return read_analysis(Path(path))


@lru_cache(maxsize=512)
def _array(path: str, written: int) -> npt.NDArray[Any]:
    return np.asarray(np.load(path, mmap_mode="r"))
