"""Recordings on disk: content addresses, working copies, a store elsewhere, what is measured on the way in."""

from __future__ import annotations

import itertools
import json
import os
import re
import shutil
import time
import uuid
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given
from hypothesis import strategies as st

from mivlo.audio import cache
from mivlo.audio.cache import LocalCache, MissingRecording
from mivlo.audio.objects import ObjectStore
from mivlo.audio.originals import Originals, original_name
from mivlo.audio.working import Analysis, Cancelled, Progress, make_working
from mivlo.core.loudness import gated_loudness, true_peak
from mivlo.core.spectra import MAP_ROWS, TimeMap, halve_columns, map_bytes
from mivlo.core.units import Floats

RATE = 48_000


@dataclass(frozen=True)
class Recording:
    audio_sha256: str
    file_name: str
    starts_at_s: float = 0.0


class Files:
    """A store, what comes in, and what a machine keeps of it, in folders of their own."""

    def __init__(self, root: Path, address: str) -> None:
        self.root, self.store = root, ObjectStore(address)
        self.originals = Originals(self.store, root / "incoming")
        self.local = LocalCache(root / "local", self.store)

    def bring_in(self, path: Path) -> Recording:
        return Recording(self.originals.keep_file(path), path.name)


@pytest.fixture
def files(tmp_path: Path) -> Files:
    return Files(tmp_path / "files", str(tmp_path / "files" / "store"))


@pytest.fixture
def elsewhere(tmp_path: Path) -> Files:
    """A store that is not on this machine."""
    return Files(tmp_path / "here", f"memory://{tmp_path.name}-{uuid.uuid4().hex}/store")


def _make(files: Files, path: Path, rate: int = RATE, **more) -> tuple[Recording, Analysis]:  # type: ignore[no-untyped-def]
    recording = files.bring_in(path)
    return recording, files.local.make(recording, rate, **more)


def test_equal_content_is_stored_once(files: Files, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    first = files.bring_in(write_wav(noise, name="a.wav")).audio_sha256
    second = files.bring_in(write_wav(noise, name="b.wav")).audio_sha256
    assert first == second
    assert len(list((files.root / "store" / "originals").rglob("*.wav"))) == 1
    assert list((files.root / "incoming").iterdir()) == []


def test_a_working_copy_holds_the_samples_and_what_is_known_of_them(files: Files, marimba_wav: Path) -> None:
    recording, known = _make(files, marimba_wav)
    x, _ = soundfile.read(marimba_wav, dtype="float32", always_2d=True)
    assert np.array_equal(files.local.samples(recording, 48_000), x)
    assert known.loudness_lufs == pytest.approx(gated_loudness(x, sample_rate=48_000), abs=1e-6)
    assert known.true_peak_dbtp == pytest.approx(true_peak(x), abs=1e-6)
    assert known.notice == ""
    peaks = files.local.peaks(recording, 48_000)
    assert peaks[:, 1].max() == np.max(x)
    assert peaks[:, 0].min() == np.min(x)
    assert len(peaks) == -(-len(x) // 256)


def test_all_zoom_levels_of_the_map_are_there(files: Files, marimba_wav: Path) -> None:
    recording, known = _make(files, marimba_wav)
    lengths = [files.local.map_level(recording, 48_000, level).shape for level in range(known.map_levels)]
    assert lengths[0] == (known.map_columns, MAP_ROWS)
    assert all(b[0] == -(-a[0] // 2) for a, b in itertools.pairwise(lengths))
    assert lengths[-1][0] <= 128


def test_other_rates_are_resampled_to_the_songs(files: Files, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    recording, known = _make(files, write_wav(noise[:44_100], rate=44_100))
    assert known.frames == 48_000
    assert files.local.samples(recording, 48_000).shape == (48_000, 2)


def test_a_truncated_file_keeps_what_could_be_read_and_says_so(files: Files, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    path = write_wav(noise, name="take3.wav")
    path.write_bytes(path.read_bytes()[:144_044])  # 0.5 s of 24 bit stereo
    _, known = _make(files, path)
    assert known.frames == pytest.approx(24_000, abs=16)
    assert known.notice == (
        "Could not read all of take3.wav: the file ends after 0.5 s of 2.0 s. The part that could be read was kept."
    )


def test_a_cancelled_import_leaves_nothing_half_done(files: Files, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    def stop(share: float) -> None:
        raise Cancelled("stopped")

    path = write_wav(noise)
    with pytest.raises(Cancelled):
        _make(files, path, progress=stop)
    assert not files.local.has(files.bring_in(path), RATE)
    assert not list(files.root.rglob("*.part"))


def test_progress_rises_to_one(files: Files, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    seen: list[float] = []
    _make(files, write_wav(np.tile(noise, (4, 1))), progress=seen.append)
    assert seen == sorted(seen)
    assert seen[-1] == 1.0


@given(st.text(max_size=40))
def test_names_cannot_leave_the_store(file_name: str) -> None:
    name = original_name("ab" * 32, file_name)
    assert re.fullmatch(r"originals/ab/(ab){32}\.[a-z0-9]{1,5}", name)


def test_each_level_of_a_long_map_is_the_halved_one_before(files: Files, write_wav) -> None:  # type: ignore[no-untyped-def]
    # longer than one piece of the map, so that levels are put together from several
    t = np.arange(8_000 * 40) / 8_000
    x = np.sin(2 * np.pi * 300 * t) * np.linspace(0.01, 0.5, len(t))
    recording, known = _make(files, write_wav(x[:, None], rate=8_000), rate=8_000)
    assert known.map_columns > 2 * 1_024
    whole = TimeMap(8_000).columns(x[:, None], 0, known.map_columns)
    for level in range(known.map_levels):
        stored = np.asarray(files.local.map_level(recording, 8_000, level)).astype(int)
        wanted = map_bytes(whole).astype(int)
        assert stored.shape == wanted.shape
        assert np.max(np.abs(stored - wanted)) <= 1, level  # rounding to half decibels
        whole = halve_columns(whole)


def test_a_working_copy_of_another_version_is_made_again_for_whoever_reads_it(
    files: Files, write_wav, noise: Floats
) -> None:  # type: ignore[no-untyped-def]
    recording, known = _make(files, write_wav(noise))
    before = files.local.samples(recording, RATE)
    (written,) = files.root.rglob("analysis.json")
    for other in ({**json.loads(written.read_text()), "version": 0}, {"version": 99, "of": "another time"}):
        written.write_text(json.dumps(other))
        os.utime(written, ns=(1, time.monotonic_ns()))
        assert not files.local.has(recording, RATE)
        assert files.local.analysis(recording, RATE) == known
        assert np.array_equal(files.local.samples(recording, RATE), before)  # what is mapped stays readable too
        assert files.local.has(recording, RATE)
    assert not list(files.root.rglob("*.part"))


def test_working_copies_that_are_gone_are_made_again(files: Files, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    recording, known = _make(files, write_wav(noise))
    peaks = np.array(files.local.peaks(recording, RATE))
    shutil.rmtree(files.root / "local")
    assert np.array_equal(files.local.peaks(recording, RATE), peaks)
    assert files.local.analysis(recording, RATE) == known


def test_what_is_asked_for_many_times_at_once_is_made_once(
    files: Files, write_wav, noise: Floats, monkeypatch: pytest.MonkeyPatch
) -> None:  # type: ignore[no-untyped-def]
    recording = files.bring_in(write_wav(noise))
    made: list[Path] = []

    def counted(original: Path, name: str, place: Path, rate: int, progress: Progress, **more: int) -> Analysis:
        made.append(place)
        return make_working(original, name, place, rate, progress, **more)

    monkeypatch.setattr(cache, "make_working", counted)
    with ThreadPoolExecutor(6) as pool:
        found = list(pool.map(lambda _: files.local.analysis(recording, RATE), range(6)))
    assert len(made) == 1
    assert found == [found[0]] * 6


def test_a_machine_with_an_empty_folder_needs_nothing_but_the_store(
    elsewhere: Files, tmp_path: Path, marimba_wav: Path
) -> None:
    recording, known = _make(elsewhere, marimba_wav)
    assert elsewhere.store.here(original_name(recording.audio_sha256, recording.file_name)) is None
    other = LocalCache(tmp_path / "another machine", elsewhere.store)
    assert not other.has(recording, RATE)
    assert np.array_equal(other.samples(recording, RATE), elsewhere.local.samples(recording, RATE))
    assert other.analysis(recording, RATE) == known
    assert other.original(recording).read_bytes() == marimba_wav.read_bytes()


def test_a_recording_that_the_store_has_lost_is_told_by_its_name(elsewhere: Files, files: Files) -> None:
    for some in (elsewhere, files):
        with pytest.raises(MissingRecording, match=r"The recording Cello.wav is missing in the store"):
            some.local.samples(Recording("ab" * 32, "Cello.wav"), RATE)


def test_what_is_read_in_part_is_not_fetched(elsewhere: Files, files: Files, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    path = write_wav(noise, name="Take.wav")
    for kept in (elsewhere, files):
        with kept.local.open_original(kept.bring_in(path)) as file:
            assert file.read(4) == b"RIFF"
        assert not (kept.local.root / "fetched").exists()
        with pytest.raises(MissingRecording, match=r"The recording Cello.wav is missing in the store"):
            kept.local.open_original(Recording("a" * 64, "Cello.wav"))


def test_a_store_elsewhere_gives_back_what_it_was_given(elsewhere: Files, tmp_path: Path) -> None:
    for content in (b"first", b"second"):  # the later one takes the earlier one's place, whole
        path = tmp_path / "file.bin"
        path.write_bytes(content)
        elsewhere.store.put("exports/1/file.bin", path)
        assert not path.exists()
        with elsewhere.store.open("exports/1/file.bin") as file:
            assert file.read() == content
    assert elsewhere.store.exists("exports/1/file.bin")
    assert not elsewhere.store.exists("exports/2/file.bin")
    with pytest.raises(FileNotFoundError):
        elsewhere.store.open("exports/2/file.bin")
