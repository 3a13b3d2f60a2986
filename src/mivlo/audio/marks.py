"""What a WAV file carries beside its samples: when it began, and markers.

Chunks: `bext` (EBU Tech 3285: a time reference, in samples since midnight, at byte 338), `cue ` and its labels in
`LIST` of type `adtl` (IBM & Microsoft, Multimedia Programming Interface, 1991). They are kept byte by byte but for
places in samples, which are turned into those of another sample rate. RF64 and BW64 (EBU Tech 3306, ITU-R BS.2088) have
the same chunks; their sizes stand in `ds64`.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import BinaryIO

from mivlo.audio.containers import RIFF_NAMES, chunks

_LARGEST_CHUNK = 16 * 1024 * 1024
_MOST_MARKERS = 10_000
_TIME_AT, _BEXT_LEAST = 338, 346
_CUE = struct.Struct("<II4sIII")


@dataclass(frozen=True, slots=True)
class Marker:
    """A place in a sound, in frames, and what it is called; `id` tells it from the file's others."""

    id: int
    frame: int
    label: str = ""


@dataclass(frozen=True, slots=True)
class Marks:
    """What a file carries.

    bext : the whole chunk, None where there is none. markers : in the file's order. labels : the whole list of labels
    and notes to the markers.
    """

    bext: bytes | None = None
    markers: tuple[Marker, ...] = ()
    labels: bytes | None = None

    @property
    def time_reference(self) -> int | None:
        """Frames from midnight to the first one; None where the file says nothing."""
        return None if self.bext is None else int(struct.unpack_from("<Q", self.bext, _TIME_AT)[0])

    def at_rate(self, from_rate: int, to_rate: int) -> Marks:
        """The same places at another sample rate."""
        if from_rate == to_rate:
            return self

        def turned(frames: int) -> int:
            return round(frames * to_rate / from_rate)

        bext = self.bext
        if bext is not None:
            moved = bytearray(bext)
            struct.pack_into("<Q", moved, _TIME_AT, min(turned(self.time_reference or 0), 2**64 - 1))
            bext = bytes(moved)
        return replace(self, bext=bext, markers=tuple(replace(m, frame=turned(m.frame)) for m in self.markers))

    def behind_silence(self, frames: int) -> Marks:
        """The same places in a file that begins `frames` of silence earlier."""
        if not frames:
            return self
        bext = self.bext
        if bext is not None:
            moved = bytearray(bext)
            struct.pack_into("<Q", moved, _TIME_AT, max(0, (self.time_reference or 0) - frames))
            bext = bytes(moved)
        return replace(self, bext=bext, markers=tuple(replace(m, frame=m.frame + frames) for m in self.markers))

    def __bool__(self) -> bool:
        return self.bext is not None or bool(self.markers)


NO_MARKS = Marks()


def read_marks(path: Path) -> Marks:
    """What a WAV file carries; nothing for other files, or where it is damaged."""
    with path.open("rb") as file:
        return marks_in(file)


def marks_in(file: BinaryIO) -> Marks:
    """The same of an open file, of which little more than the marks is read."""
    found = NO_MARKS
    if file.read(4) not in RIFF_NAMES:
        return found
    for name, at, size in chunks(file, 12):
        if name == b"data" or size is None or size > _LARGEST_CHUNK:
            continue
        file.seek(at)
        content = file.read(size)
        if name == b"bext" and len(content) >= _BEXT_LEAST and found.bext is None:
            found = replace(found, bext=content)
        elif name == b"cue " and not found.markers:
            found = replace(found, markers=_read_cue(content))
        elif name == b"LIST" and content[:4] == b"adtl" and found.labels is None:
            found = replace(found, labels=content)
    names = dict(_read_labels(found.labels or b""))
    return replace(found, markers=tuple(replace(m, label=names.get(m.id, "")) for m in found.markers))


def _read_cue(content: bytes) -> tuple[Marker, ...]:
    count = struct.unpack_from("<I", content)[0] if len(content) >= 4 else 0
    count = min(count, (len(content) - 4) // _CUE.size, _MOST_MARKERS)
    records = [_CUE.unpack_from(content, 4 + _CUE.size * i) for i in range(count)]
    # (id, place in a play list, chunk, start of that chunk, start of block, place in frames)
    return tuple(Marker(record[0], record[5]) for record in records)


def _read_labels(content: bytes) -> Iterator[tuple[int, str]]:
    at = 4
    while at + 12 <= len(content):
        name, size, number = struct.unpack_from("<4sII", content, at)
        if name == b"labl" and size >= 4:
            yield number, content[at + 12 : at + 8 + size].split(b"\0")[0].decode("utf-8", "replace")
        at += 8 + size + size % 2


def add_marks(path: Path, marks: Marks) -> None:
    """Write what a file shall carry behind the samples of a WAV file that is complete; nothing where it is no WAV."""
    if not marks:
        return
    with path.open("r+b") as file:
        kind = file.read(4)
        if kind not in RIFF_NAMES:
            return
        file.seek(0, os.SEEK_END)
        if file.tell() % 2:
            file.write(b"\0")
        for name, content in _written(marks):
            file.write(struct.pack("<4sI", name, len(content)) + content + b"\0" * (len(content) % 2))
        whole = file.tell() - 8
        if kind == b"RIFF":
            file.seek(4)
            file.write(struct.pack("<I", whole))
        else:  # the whole's size is the first value of ds64, which is the first chunk
            file.seek(20)
            file.write(struct.pack("<Q", whole))


def _written(marks: Marks) -> Iterator[tuple[bytes, bytes]]:
    if marks.bext is not None:
        yield b"bext", marks.bext
    if marks.markers:
        records = [_CUE.pack(m.id, m.frame, b"data", 0, 0, m.frame) for m in marks.markers]
        yield b"cue ", struct.pack("<I", len(records)) + b"".join(records)
        if marks.labels is not None:
            yield b"LIST", marks.labels
