"""How much sound a file's container promises, against what is there: read from its own headers.

Decoders quietly make do with what they find. So that nobody works with half a take without knowing, the promise is
read here. Layouts: RIFF/WAVE (IBM & Microsoft, Multimedia Programming Interface, 1991), RF64 (EBU Tech 3306), BW64
(ITU-R BS.2088), AIFF (Apple, 1989), Ogg (RFC 3533), Opus in Ogg (RFC 7845), MPEG audio (ISO/IEC 11172-3; the tag with
the count of frames is common practice without a standard), W64, AU and CAF as their makers describe them; all from
memory.
"""

from __future__ import annotations

import mmap
import os
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

RIFF_NAMES = (b"RIFF", b"RF64", b"BW64")
"""How files of this layout begin whose numbers have their lowest byte first."""
_UNKNOWN_32 = 0xFFFFFF00
"""Sizes from here on are what programs write that do not know the length yet."""


@dataclass(frozen=True, slots=True)
class DataSpan:
    """Where a container keeps its samples.

    Parameters
    ----------
    stated : bytes that it promises. present : those of them that are there.
    behind : bytes behind the promised ones that belong to nothing; they may be sound that the header leaves out.
    """

    stated: int
    present: int
    behind: int = 0


def data_span(path: Path) -> DataSpan | None:
    """The samples of a container that states how many bytes they take; None for others, or where it says nothing."""
    size = path.stat().st_size
    with path.open("rb") as file:
        magic = file.read(4)
        if magic in (*RIFF_NAMES, b"RIFX"):
            return _riff(file, size, ">" if magic == b"RIFX" else "<")
        if magic == b"FORM":
            return _aiff(file, size)
        if magic == b"riff":
            return _w64(file, size)
        if magic == b".snd":
            offset, stated = struct.unpack(">II", file.read(8).ljust(8, b"\0"))
            return None if stated >= _UNKNOWN_32 else _span(size, offset, stated)
        if magic == b"caff":
            return _caf(file, size)
    return None


def _span(size: int, offset: int, stated: int) -> DataSpan:
    return DataSpan(stated, max(0, min(stated, size - offset)))


def chunks(file: BinaryIO, at: int, order: str = "<") -> Iterator[tuple[bytes, int, int | None]]:
    """Name, place and size of each chunk of a RIFF or AIFF file; chunks begin at even places.

    The size of samples that are too many for their chunk's head stands in one called ds64; None where it is not known,
    and nothing comes behind them.
    """
    large: int | None = None
    while True:
        file.seek(at)
        head = file.read(8)
        if len(head) < 8:
            return
        name, size = struct.unpack(f"{order}4sI", head)
        if name == b"ds64":
            large = struct.unpack("<8xQ", file.read(16).ljust(16, b"\0"))[0]
        if name == b"data" and size >= _UNKNOWN_32:
            if large is None:
                yield name, at + 8, None
                return
            size = large
        yield name, at + 8, size
        at += 8 + size + size % 2


def _is_name(name: bytes) -> bool:
    return len(name) == 4 and all(32 <= sign < 127 for sign in name)


def _riff(file: BinaryIO, size: int, order: str) -> DataSpan | None:
    for name, at, stated in chunks(file, 12, order):
        if name != b"data":
            continue
        if stated is None:
            return None
        end = at + stated
        file.seek(end)
        next_name = file.read(5)  # some writers leave the filling out that makes its place even
        if size - end < 8 or _is_name(next_name[:4]) or _is_name(next_name[stated % 2 :][:4]):
            return _span(size, at, stated)
        # filled up with zeros it is whole
        return DataSpan(stated, stated, size - end if any(next_name) else 0)
    return None


def _aiff(file: BinaryIO, size: int) -> DataSpan | None:
    for name, at, stated in chunks(file, 12, ">"):
        if name == b"SSND" and stated is not None:
            file.seek(at)
            (offset,) = struct.unpack(">I", file.read(4).ljust(4, b"\0"))
            return _span(size, at + 8 + offset, max(0, stated - 8 - offset))
    return None


def _w64(file: BinaryIO, size: int) -> DataSpan | None:
    at = 40
    while at + 24 <= size:
        file.seek(at)
        name, length = struct.unpack("<16sQ", file.read(24))
        if name.startswith(b"data"):
            return _span(size, at + 24, length - 24)
        if length < 24:
            return None
        at += length + -length % 8
    return None


def _caf(file: BinaryIO, size: int) -> DataSpan | None:
    at = 8
    while at + 12 <= size:
        file.seek(at)
        name, length = struct.unpack(">4sq", file.read(12))
        if name == b"data":
            return None if length < 4 else _span(size, at + 16, length - 4)
        if length < 0:
            return None
        at += 12 + length
    return None


@dataclass(frozen=True, slots=True)
class Promise:
    """Frames that a compressed stream promises; `ends` is whether its last part says that it is the last."""

    frames: int
    ends: bool = True


def ogg_promise(path: Path) -> Promise | None:
    """What the pages of an Ogg file promise; None where its first stream is neither Vorbis nor Opus."""
    first: bytes | None = None
    serial, last, ended = -1, 0, False
    with path.open("rb") as file:
        size = os.fstat(file.fileno()).st_size
        at = 0
        while at + 27 <= size:
            file.seek(at)
            head = file.read(27)
            if head[:4] != b"OggS":
                at = _next_page(file, at + 1)
                if at < 0:
                    break
                continue
            flags, granule, number = struct.unpack("<xxxxxBqI", head[:18])
            lengths = file.read(head[26])
            if first is None:
                first, serial = file.read(32), number
            if number == serial:
                last = max(last, granule)
                ended = bool(flags & 4) and at + 27 + len(lengths) + sum(lengths) <= size
            at += 27 + len(lengths) + sum(lengths)
    if first is None:
        return None
    if first.startswith(b"OpusHead"):
        skipped = struct.unpack("<H", first[10:12])[0]
        return Promise(max(0, last - skipped), ended)
    return Promise(last, ended) if first.startswith(b"\x01vorbis") else None


def _next_page(file: BinaryIO, at: int) -> int:
    """Where the next page begins; -1 where none does."""
    file.seek(at)
    while data := file.read(1 << 16):
        found = data.find(b"OggS")
        if found >= 0:
            return at + found
        at += max(1, len(data) - 3)
        file.seek(at)
        if len(data) < 4:
            break
    return -1


_BITRATES = {  # kbit/s by index, MPEG 1 and 2, layer III
    3: (0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320),
    2: (0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160),
}
_RATES = {3: (44_100, 48_000, 32_000), 2: (22_050, 24_000, 16_000), 0: (11_025, 12_000, 8_000)}


def mp3_promise(path: Path) -> Promise | None:
    """Frames of an MPEG layer III stream by its tag or counted, whichever says more; None where there are none."""
    with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
        return _count_mp3(data)


def _count_mp3(data: mmap.mmap) -> Promise | None:
    at = 10 + _synchsafe(data[6:10]) if data[:3] == b"ID3" and len(data) > 10 else 0
    tagged = counted = 0
    samples = 1152
    first = True
    while True:
        length, samples_here, side = _mp3_frame(data, at)
        if not length:
            at = _next_mp3(data, at + 1)
            if at < 0:
                break
            continue
        if first:
            first, samples = False, samples_here
            tag = data.find(b"Xing", at, at + side + 8), data.find(b"Info", at, at + side + 8)
            place = max(tag)
            if place >= 0:
                flags, frames = struct.unpack(">II", data[place + 4 : place + 12].ljust(8, b"\0"))
                tagged = frames if flags & 1 else 0
                at += length
                continue  # the frame with the tag holds no sound
        counted += at + length <= len(data)
        at += length
    if first:
        return None
    return Promise(max(tagged, counted) * samples)


def _synchsafe(four: bytes) -> int:
    return sum((byte & 0x7F) << shift for byte, shift in zip(four, (21, 14, 7, 0), strict=False))


def _mp3_frame(data: mmap.mmap, at: int) -> tuple[int, int, int]:
    """Bytes and samples of the frame that begins here, and where its side information ends; zeros for none."""
    head = data[at : at + 4]
    if len(head) < 4 or head[0] != 0xFF or head[1] & 0xE6 != 0xE2:
        return 0, 0, 0
    version, index, rate = head[1] >> 3 & 3, head[2] >> 4, head[2] >> 2 & 3
    if version == 1 or index in (0, 15) or rate == 3:
        return 0, 0, 0
    old = version == 3
    samples = 1152 if old else 576
    kbits = _BITRATES[3 if old else 2][index]
    mono = head[3] >> 6 == 3
    side = 4 + ((17 if mono else 32) if old else (9 if mono else 17))
    return samples // 8 * 1000 * kbits // _RATES[version][rate] + (head[2] >> 1 & 1), samples, side


def _next_mp3(data: mmap.mmap, at: int) -> int:
    """Where two frames follow each other next; -1 where none do. One alone may be chance."""
    while (at := data.find(b"\xff", at)) >= 0:
        length = _mp3_frame(data, at)[0]
        if length and (_mp3_frame(data, at + length)[0] or at + length == len(data)):
            return at
        at += 1
    return -1
