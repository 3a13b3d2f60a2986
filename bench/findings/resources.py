"""Files inside a Qt resource file, by their names: in such a file Debian's `gcompris-qt-data` ships recordings.

The layout is that of Qt's resource compiler (`rcc --binary`, formats 1 to 3): a header with the places of a tree, of
the data and of the names, all numbers big-endian.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator
from pathlib import Path

_PACKED, _FOLDER, _ZSTD = 1, 2, 4


def files_in(path: Path) -> Iterator[tuple[str, bytes]]:
    """(name, contents) of each file; its folder is not named. Those that are packed with zstd are left out."""
    whole = path.read_bytes()
    magic, version, tree, data, names = struct.unpack_from(">4s4I", whole)
    if magic != b"qres" or not 1 <= version <= 3:
        raise ValueError(f"{path.name} is no Qt resource file of format 1 to 3.")
    step = 14 if version == 1 else 22

    def inside(first: int, count: int) -> Iterator[tuple[str, bytes]]:
        for at in range(tree + step * first, tree + step * (first + count), step):
            name_at, flags = struct.unpack_from(">IH", whole, at)
            if flags & _FOLDER:
                below, child = struct.unpack_from(">II", whole, at + 6)
                yield from inside(child, below)
                continue
            if flags & _ZSTD:
                continue
            (begin,) = struct.unpack_from(">I", whole, at + 10)
            (size,) = struct.unpack_from(">I", whole, data + begin)
            contents = whole[data + begin + 4 : data + begin + 4 + size]
            (length,) = struct.unpack_from(">H", whole, names + name_at)
            name = whole[names + name_at + 6 : names + name_at + 6 + 2 * length].decode("utf-16-be")
            # what is packed begins with its length unpacked
            yield name, zlib.decompress(contents[4:]) if flags & _PACKED else contents

    yield from inside(0, 1)
