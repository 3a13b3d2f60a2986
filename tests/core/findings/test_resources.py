"""Files in a Qt resource file are found again, packed or not, in folders or not.

The files are laid here as Qt's resource compiler does it (from memory of `rcc.cpp`, format 1 and 2: a node is 14 or 22
bytes, a name is its length, a hash and UTF-16, what is packed begins with its length). The benchmark reads a real one.
"""

from __future__ import annotations

import struct
import zlib
from pathlib import Path

import pytest
from bench.findings.resources import files_in
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

PACKED, FOLDER = 1, 2


def _laid(contents: dict[str, bytes], version: int, packed: set[str]) -> bytes:
    """All files in one folder of the root."""
    names, data, begins, at = b"", b"", [], []
    for name in ("", "in", *contents):
        at.append(len(names))
        names += struct.pack(">HI", len(name), 0) + name.encode("utf-16-be")
    for name, content in contents.items():
        begins.append(len(data))
        kept = struct.pack(">I", len(content)) + zlib.compress(content) if name in packed else content
        data += struct.pack(">I", len(kept)) + kept
    later = b"" if version == 1 else bytes(8)
    tree = struct.pack(">IHII", at[0], FOLDER, 1, 1) + later
    tree += struct.pack(">IHII", at[1], FOLDER, len(contents), 2) + later
    for name, begin, place in zip(contents, begins, at[2:], strict=True):
        tree += struct.pack(">IHHHI", place, PACKED * (name in packed), 0, 0, begin) + later
    head = 20
    return struct.pack(">4s4I", b"qres", version, head, head + len(tree), head + len(tree) + len(data)) + (
        tree + data + names
    )


names = st.text(st.characters(codec="ascii", exclude_categories=["Cc"]), min_size=1, max_size=12)


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.dictionaries(names, st.binary(max_size=300), max_size=6), st.sampled_from([1, 2]), st.data())
def test_files_are_found_by_their_names(
    tmp_path: Path, contents: dict[str, bytes], version: int, data: st.DataObject
) -> None:
    packed = {name for name in contents if data.draw(st.booleans())}
    (tmp_path / "a.rcc").write_bytes(_laid(contents, version, packed))
    assert dict(files_in(tmp_path / "a.rcc")) == contents


def test_another_file_is_refused(tmp_path: Path) -> None:
    (tmp_path / "a.rcc").write_bytes(b"RIFF" + bytes(60))
    with pytest.raises(ValueError, match="no Qt resource file"):
        list(files_in(tmp_path / "a.rcc"))
