"""What was begun and never finished goes; nothing else does."""

from __future__ import annotations

import os
import time
import uuid
from pathlib import Path

import pytest

from mivlo.audio.encode import Container, Depth
from mivlo.config import settings
from mivlo.core.units import Floats
from mivlo.services.handover.exporting import ExportOptions, request_export
from mivlo.services.recordings.sweeping import Swept, sweep
from mivlo.services.song import songs
from mivlo.store.database import session
from tests.conftest import bring_in, song_state

OLD = time.time() - 2 * 3600


@pytest.fixture
def root(db: None, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setattr(settings(), "data_dir", tmp_path / "data")
    return tmp_path / "data"


def _make(place: Path, *, old: bool) -> Path:
    place.parent.mkdir(parents=True, exist_ok=True)
    place.write_bytes(b"x" * 1000)
    if old:
        os.utime(place, (OLD, OLD))
        os.utime(place.parent, (OLD, OLD))
    return place


def _part(name: str = "") -> str:
    return f"{name}{'.' if name else ''}{uuid.uuid4().hex}.part"


def test_half_made_files_of_all_kinds_go_once_they_are_old(root: Path) -> None:
    gone = [
        _make(root / "incoming" / _part(), old=True),
        _make(root / "working" / "ab" / _part("abcd_48000") / "samples.f32", old=True),
        _make(root / "treated" / "ab" / _part("abcd"), old=True),
        _make(root / "exports" / _part("17") / "01_Cello.wav", old=True),
        _make(root / "fetched" / "ab" / _part("abcd.wav"), old=True),
    ]
    assert sweep() == Swept(5, 5000)
    assert not any(place.exists() for place in gone)
    assert sweep() == Swept(0, 0)


def test_what_is_new_whole_or_not_named_by_us_stays(root: Path) -> None:
    kept = [
        _make(root / "incoming" / _part(), old=False),
        _make(root / "incoming" / "mix.part", old=True),
        _make(root / "incoming" / f"{uuid.uuid4().hex}.wav", old=True),
        _make(root / "originals" / "ab" / _part("abcd"), old=True),
        _make(root / "working" / "ab" / "abcd_48000" / "samples.f32", old=True),
        _make(root / "treated" / "ab" / "abcd.f32", old=True),
        _make(root / "exports" / "17" / "01_Cello.wav", old=True),
        _make(root / _part("elsewhere"), old=True),
    ]
    half = root / "working" / "cd" / _part("cdef_48000")
    _make(half / "old.npy", old=True)
    kept.append(_make(half / "samples.f32", old=False))  # one of its files is being written
    assert sweep() == Swept(0, 0)
    assert all(place.exists() for place in kept)


def test_an_export_that_still_waits_keeps_its_folder(root: Path, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    with session() as s:
        song_id = songs.create_song(s, "Weir", 48_000).id
    bring_in(song_id, write_wav(noise))
    song = song_state(song_id)
    task = request_export(song.id, ExportOptions((song.tracks[0].id,), Depth.BITS_24, Container.WAV, False))
    place = _make(root / "exports" / _part(str(task.id)) / "01.wav", old=True)
    sweep()
    assert place.exists()
