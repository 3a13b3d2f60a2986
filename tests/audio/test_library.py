"""The sound library: content addresses, working copies, what is measured on the way in."""

from __future__ import annotations

import itertools
from pathlib import Path

import numpy as np
import pytest
import soundfile

from mivlo.audio.library import Analysis, Cancelled, Library
from mivlo.core.loudness import gated_loudness, true_peak
from mivlo.core.spectra import MAP_ROWS, TimeMap, halve_columns, map_bytes
from mivlo.core.units import Floats


@pytest.fixture
def files(tmp_path: Path) -> Library:
    return Library(tmp_path / "library")


def _make(files: Library, path: Path, rate: int = 48_000, **more) -> tuple[str, Analysis]:  # type: ignore[no-untyped-def]
    digest = files.keep_file(path)
    return digest, files.make_working(files.original(digest, path.suffix), path.name, digest, rate, **more)


def test_equal_content_is_stored_once(files: Library, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    first = files.keep_file(write_wav(noise, name="a.wav"))
    second = files.keep_file(write_wav(noise, name="b.wav"))
    assert first == second
    assert len(list((files.root / "originals").rglob("*.wav"))) == 1
    assert list((files.root / "incoming").iterdir()) == []


def test_a_working_copy_holds_the_samples_and_what_is_known_of_them(files: Library, marimba_wav: Path) -> None:
    digest, known = _make(files, marimba_wav)
    x, _ = soundfile.read(marimba_wav, dtype="float32", always_2d=True)
    assert np.array_equal(files.samples(digest, 48_000), x)
    assert known.loudness_lufs == pytest.approx(gated_loudness(x, sample_rate=48_000), abs=1e-6)
    assert known.true_peak_dbtp == pytest.approx(true_peak(x), abs=1e-6)
    assert known.notice == ""
    peaks = files.peaks(digest, 48_000)
    assert peaks[:, 1].max() == np.max(x)
    assert peaks[:, 0].min() == np.min(x)
    assert len(peaks) == -(-len(x) // 256)


def test_all_zoom_levels_of_the_map_are_there(files: Library, marimba_wav: Path) -> None:
    digest, known = _make(files, marimba_wav)
    lengths = [files.map_level(digest, 48_000, level).shape for level in range(known.map_levels)]
    assert lengths[0] == (known.map_columns, MAP_ROWS)
    assert all(b[0] == -(-a[0] // 2) for a, b in itertools.pairwise(lengths))
    assert lengths[-1][0] <= 128


def test_other_rates_are_resampled_to_the_songs(files: Library, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    digest, known = _make(files, write_wav(noise[:44_100], rate=44_100))
    assert known.frames == 48_000
    assert files.samples(digest, 48_000).shape == (48_000, 2)


def test_a_truncated_file_keeps_what_could_be_read_and_says_so(files: Library, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    path = write_wav(noise, name="take3.wav")
    path.write_bytes(path.read_bytes()[:144_044])  # 0.5 s of 24 bit stereo
    _, known = _make(files, path)
    assert known.frames == pytest.approx(24_000, abs=16)
    assert known.notice == (
        "Could not read all of take3.wav: the file ends after 0.5 s of 2.0 s. The part that could be read was kept."
    )


def test_a_cancelled_import_leaves_nothing_half_done(files: Library, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    def stop(share: float) -> None:
        raise Cancelled("stopped")

    path = write_wav(noise)
    with pytest.raises(Cancelled):
        _make(files, path, progress=stop)
    assert not files.has_working(files.keep_file(path), 48_000)
    assert not list((files.root / "working").rglob("*.part"))


def test_progress_rises_to_one(files: Library, write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    seen: list[float] = []
    _make(files, write_wav(np.tile(noise, (4, 1))), progress=seen.append)
    assert seen == sorted(seen)
    assert seen[-1] == 1.0


def test_names_cannot_leave_the_library(files: Library) -> None:
    place = files.original("ab" * 32, "./../../etc/passwd")
    assert place.parent.parent == files.root / "originals"


def test_each_level_of_a_long_map_is_the_halved_one_before(files: Library, write_wav) -> None:  # type: ignore[no-untyped-def]
    # longer than one piece of the map, so that levels are put together from several
    t = np.arange(8_000 * 40) / 8_000
    x = np.sin(2 * np.pi * 300 * t) * np.linspace(0.01, 0.5, len(t))
    digest, known = _make(files, write_wav(x[:, None], rate=8_000), rate=8_000)
    assert known.map_columns > 2 * 1_024
    whole = TimeMap(8_000).columns(x[:, None], 0, known.map_columns)
    for level in range(known.map_levels):
        stored = np.asarray(files.map_level(digest, 8_000, level)).astype(int)
        wanted = map_bytes(whole).astype(int)
        assert stored.shape == wanted.shape
        assert np.max(np.abs(stored - wanted)) <= 1, level  # rounding to half decibels
        whole = halve_columns(whole)
