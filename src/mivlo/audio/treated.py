"""Treated sounds on disk, by the name of all that they depend on. Each can be made again; the oldest unused go first.

treated/ab/abcdef....f32     single precision, interleaved; appears under its name only when it is whole
"""

from __future__ import annotations

import contextlib
import os
import platform
from collections.abc import Iterable
from functools import lru_cache
from hashlib import sha256
from pathlib import Path

import numpy as np

from mivlo.audio.room import free_bytes
from mivlo.audio.whole import written_whole
from mivlo.core.spectra import Singles


@lru_cache
def code_path() -> str:
    """What else than the plan decides about the bits: the compiler, and the processor that it compiles for."""
    import llvmlite.binding
    import numba

    return f"{numba.__version__}-{platform.machine()}-{llvmlite.binding.get_host_cpu_name()}"


class TreatedCache:
    """Treated sounds in a folder, up to a size.

    Parameters
    ----------
    root : the folder; it belongs to the cache alone.
    most_bytes : what all entries may take; those that were not used for longest go when there is more.
    keep_free : bytes that are left free on its disk: nobody needs what it keeps.
    """

    def __init__(self, root: Path, most_bytes: int, keep_free: int = 0) -> None:
        self.root, self.most_bytes, self._keep_free = root, most_bytes, keep_free

    def _place(self, sound: str) -> Path:
        name = sha256(f"{sound}-{code_path()}".encode()).hexdigest()
        return self.root / name[:2] / f"{name}.f32"

    def get(self, sound: str, frames: int, channels: int) -> Singles | None:
        """The sound of this name, memory-mapped: (frames, channels); None where it is not known."""
        place = self._place(sound)
        try:
            if place.stat().st_size != 4 * frames * channels or not frames:
                return None
            found = np.memmap(place, dtype=np.float32, mode="r", shape=(frames, channels))
            os.utime(place)
        except OSError:  # not there, or gone just now
            return None
        return np.asarray(found)  # a plain array of the same memory: slices of a map are slow to make

    def has_room_for(self, frames: int, channels: int) -> bool:
        """Whether a sound of this length could be kept at all."""
        size = 4 * frames * channels
        return size <= self.most_bytes and free_bytes(self.root) - size >= self._keep_free

    def put(self, sound: str, blocks: Iterable[Singles]) -> None:
        """Keep a sound; what is written half when something goes wrong never gets its name."""
        place = self._place(sound)
        place.parent.mkdir(parents=True, exist_ok=True)
        with written_whole(place) as partial, partial.open("wb") as file:
            for block in blocks:
                file.write(np.ascontiguousarray(block, dtype=np.float32).tobytes())
        self.tidy()

    def entries(self) -> list[tuple[Path, int]]:
        """What it keeps, with its bytes, longest unused first."""
        found = []
        for path in self.root.glob("??/*.f32"):
            with contextlib.suppress(OSError):
                known = path.stat()
                found.append((known.st_mtime, known.st_size, path))
        return [(path, size) for _, size, path in sorted(found)]

    def tidy(self) -> None:
        """Remove what was not used for longest until the rest fits. A sound that is being played stays readable."""
        entries = self.entries()
        total = sum(size for _, size in entries)
        for path, size in entries:
            if total <= self.most_bytes:
                break
            path.unlink(missing_ok=True)
            total -= size
