"""What a WAV file carries beside its samples, read by an independent reader (wavinfo, from the registry)."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np
import pytest
import soundfile
import wavinfo
from hypothesis import given, settings
from hypothesis import strategies as st

from mivlo.audio import encode
from mivlo.audio.decode import FileSamples, inspect, read_blocks
from mivlo.audio.encode import Container, Depth, SoundWriter
from mivlo.audio.marks import NO_MARKS, Marker, Marks, add_marks, read_marks

RATE = 48_000


def bext(time_reference: int, description: bytes = b"second take") -> bytes:
    """A chunk as EBU Tech 3285 lays it out: texts, date, time, time reference, version, and 254 bytes behind."""
    texts = struct.pack("<256s32s32s10s8s", description, b"somebody", b"ref", b"2026-11-26", b"10:00:00")
    return texts + struct.pack("<QH", time_reference, 1) + bytes(254) + b"A=PCM,F=48000\r\n"


def labels(*names: str) -> bytes:
    out = b"adtl"
    for number, name in enumerate(names, 1):
        text = name.encode() + b"\0"
        out += struct.pack("<4sII", b"labl", 4 + len(text), number) + text + b"\0" * (len(text) % 2)
    return out


MARKS = Marks(bext(172_800_000), (Marker(1, 4_800, "verse"), Marker(2, 24_001, "chorus")), labels("verse", "chorus"))


def marked(path: Path, marks: Marks = MARKS, *, frames: int = 48_001, kind: str = "WAV") -> Path:
    x = np.random.default_rng(1).standard_normal((frames, 1)) * 0.1
    soundfile.write(path, x, RATE, subtype="PCM_24", format=kind)
    add_marks(path, marks)
    return path


def test_an_independent_reader_finds_time_reference_and_markers(tmp_path: Path) -> None:
    info = wavinfo.WavInfoReader(str(marked(tmp_path / "take.wav")))
    assert info.bext.time_reference == 172_800_000
    assert info.bext.description == "second take"
    assert [(c.name, c.sample_offset) for c in info.cues.cues] == [(1, 4_800), (2, 24_001)]
    assert [info.cues.label_and_note(n)[0] for n in (1, 2)] == ["verse", "chorus"]
    assert len(soundfile.read(tmp_path / "take.wav")[0]) == 48_001


@pytest.mark.parametrize("kind", ["WAV", "RF64"])
def test_what_was_written_is_read_back(tmp_path: Path, kind: str) -> None:
    path = marked(tmp_path / "take.wav", kind=kind)
    assert read_marks(path) == MARKS
    assert inspect(path).doubt == ""
    assert inspect(path).stated_frames == inspect(path).frames == 48_001


@settings(max_examples=30)
@given(st.integers(0, 2**40), st.lists(st.integers(0, 10**7), max_size=8), st.sampled_from([44_100, 96_000, 192_000]))
def test_places_follow_the_sample_rate(start: int, frames: list[int], rate: int) -> None:
    marks = Marks(bext(start), tuple(Marker(i, f) for i, f in enumerate(frames)))
    there = marks.at_rate(RATE, rate)
    assert there.time_reference is not None
    assert abs(there.time_reference / rate - start / RATE) <= 0.5 / rate + 1e-9
    for was, now in zip(marks.markers, there.markers, strict=True):
        assert abs(now.frame / rate - was.frame / RATE) <= 0.5 / rate + 1e-9
    assert there.at_rate(rate, rate) == there


@settings(max_examples=60)
@given(st.binary(max_size=400))
def test_damaged_chunks_are_no_marks(tmp_path_factory: pytest.TempPathFactory, rest: bytes) -> None:
    path = tmp_path_factory.mktemp("damaged") / "take.wav"
    path.write_bytes(b"RIFF\0\0\0\0WAVE" + rest)
    marks = read_marks(path)
    assert len(marks.markers) <= len(rest)


def test_files_without_marks_and_others_stay_as_they_are(tmp_path: Path) -> None:
    plain, flac = tmp_path / "plain.wav", tmp_path / "take.flac"
    for path in (plain, flac):
        soundfile.write(path, np.zeros((100, 1)), RATE)
    before = plain.read_bytes(), flac.read_bytes()
    add_marks(plain, NO_MARKS)
    add_marks(flac, MARKS)
    assert (plain.read_bytes(), flac.read_bytes()) == before
    assert read_marks(plain) == read_marks(flac) == NO_MARKS


def test_a_bw64_file_is_read_like_any_other(tmp_path: Path) -> None:
    path = marked(tmp_path / "take.wav", kind="RF64")
    x = soundfile.read(path, always_2d=True)[0]
    path.write_bytes(b"BW64" + path.read_bytes()[4:])  # ITU-R BS.2088: the same chunks under another name
    assert inspect(path).frames == len(x)
    assert np.array_equal(np.concatenate(list(read_blocks(path, dtype="float64"))), x)
    assert np.array_equal(FileSamples(path)[1_000:2_000], x[1_000:2_000].astype(np.float32))
    assert read_marks(path) == MARKS


def test_more_than_a_plain_wav_holds_is_written_as_rf64(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(encode, "LARGEST_PLAIN_WAV", 3_000)
    for frames, kind in ((999, "WAV"), (1_000, "RF64")):
        path = tmp_path / f"{frames}.wav"
        with SoundWriter(path, RATE, 1, Depth.BITS_24, Container.WAV, frames=frames) as writer:
            writer.write(np.full((frames, 1), 0.25))
        assert soundfile.info(path).format == kind
        assert np.allclose(soundfile.read(path)[0], 0.25)


def test_the_end_of_more_than_4_gb_is_read(tmp_path: Path) -> None:
    # a file with a hole: it takes no room on the disk
    path = tmp_path / "long.wav"
    frames = 90 * 60 * 192_000
    size = frames * 6
    head = b"RF64" + struct.pack("<I", 2**32 - 1) + b"WAVEds64" + struct.pack("<IQQQI", 28, size + 72, size, frames, 0)
    head += b"fmt " + struct.pack("<IHHIIHH", 16, 1, 2, 192_000, 192_000 * 6, 6, 24) + b"data" + b"\xff" * 4
    with path.open("wb") as file:
        file.write(head)
        file.seek(size - 6, 1)
        file.write(b"\0\0\x40\0\0\x40")  # half of full scale
    assert path.stat().st_size > 2**32
    sound = FileSamples(path)
    assert (sound.info.frames, sound.info.sample_rate) == (frames, 192_000)
    assert sound[frames - 2 : frames].tolist() == [[0.0, 0.0], [0.5, 0.5]]
