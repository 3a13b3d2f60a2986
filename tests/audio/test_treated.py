"""Treated sounds on disk: whole or not at all, bounded, the same bits as computed."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pytest

from mivlo.audio.treated import TreatedCache

X = np.random.default_rng(1).standard_normal((1_000, 2)).astype(np.float32)


def test_what_was_put_is_got_and_nothing_else(tmp_path: Path) -> None:
    cache = TreatedCache(tmp_path / "treated", 10**9)
    assert cache.get("a", 1_000, 2) is None
    cache.put("a", [X[:300], X[300:]])
    found = cache.get("a", 1_000, 2)
    assert found is not None
    assert np.array_equal(found, X)
    assert cache.get("a", 999, 2) is None  # another length is another sound
    assert cache.get("b", 1_000, 2) is None


def test_what_breaks_half_way_leaves_nothing(tmp_path: Path) -> None:
    cache = TreatedCache(tmp_path / "treated", 10**9)

    def broken():  # type: ignore[no-untyped-def]
        yield X[:300]
        raise OSError("no space left on device")

    with pytest.raises(OSError, match="no space"):
        cache.put("a", broken())
    assert cache.get("a", 1_000, 2) is None
    assert not [path for path in tmp_path.rglob("*") if path.is_file()]


def test_what_was_not_used_for_longest_goes_first_and_can_still_be_played(tmp_path: Path) -> None:
    cache = TreatedCache(tmp_path / "treated", 2 * X.nbytes)
    for at, name in enumerate("abc"):
        cache.put(name, [X])
        playing = cache.get("a", 1_000, 2)
        for path in tmp_path.rglob("*.f32"):
            if path == cache._place(name):
                os.utime(path, (at, at))
        os.utime(cache._place("a"), (100, 100))  # used just now
    assert cache.get("b", 1_000, 2) is None
    assert cache.get("c", 1_000, 2) is not None
    cache.most_bytes = 0
    cache.tidy()
    assert cache.get("a", 1_000, 2) is None
    assert playing is not None
    assert np.array_equal(playing, X)
