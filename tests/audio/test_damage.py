"""Files that are damaged in every way: each is read whole, or it is said that it is not."""

from __future__ import annotations

import io
import os
import struct
from functools import lru_cache
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from mivlo.audio import decode
from mivlo.audio.containers import data_span, mp3_promise, ogg_promise
from mivlo.audio.decode import FileSamples, inspect, read_blocks, shortfall
from mivlo.core.errors import BadAudio
from mivlo.core.units import Floats

FRAMES, RATE = 60_000, 48_000
FORMS = {
    "wav16": ("WAV", "PCM_16"), "wav24": ("WAV", "PCM_24"), "wavf": ("WAV", "FLOAT"), "wavex": ("WAVEX", "PCM_24"),
    "rf64": ("RF64", "PCM_24"), "ulaw": ("WAV", "ULAW"), "adpcm": ("WAV", "IMA_ADPCM"), "aiff": ("AIFF", "PCM_24"),
    "aiffc": ("AIFF", "FLOAT"), "w64": ("W64", "PCM_24"), "au": ("AU", "PCM_16"), "caf": ("CAF", "PCM_24"),
    "flac": ("FLAC", "PCM_24"), "vorbis": ("OGG", "VORBIS"), "opus": ("OGG", "OPUS"), "mp3": ("MP3", "MPEG_LAYER_III"),
}  # fmt: skip
LOSSLESS_BYTES = [name for name in FORMS if name not in ("flac", "vorbis", "opus", "mp3")]


@lru_cache
def _sound() -> Floats:
    return np.random.default_rng(3).standard_normal((FRAMES, 2)) * 0.1


@lru_cache
def _file(form: str) -> bytes:
    """As libsndfile writes it."""
    kind, subtype = FORMS[form]
    out = io.BytesIO()
    soundfile.write(out, _sound(), RATE, format=kind, subtype=subtype)
    return out.getvalue()


def _read(path: Path) -> tuple[int, str]:
    """Frames that could be read, and what is said of them; -1 where it was refused."""
    try:
        info = inspect(path)
        read = sum(len(x) for x in read_blocks(path))
    except BadAudio as refused:
        return -1, str(refused)
    return read, shortfall(info, read)


@pytest.mark.parametrize("form", FORMS)
def test_a_whole_file_is_read_without_a_word(form: str, tmp_path: Path) -> None:
    path = tmp_path / "whole"
    path.write_bytes(_file(form))
    read, says = _read(path)
    assert says == ""
    # ADPCM fills its last block up
    assert read >= FRAMES
    assert read - FRAMES < 2_500


@pytest.mark.parametrize("form", FORMS)
@given(share=st.floats(0.0, 0.9999))
@settings(max_examples=12, suppress_health_check=list(HealthCheck))
def test_a_file_that_was_cut_off_anywhere_says_so(form: str, share: float, tmp_path: Path) -> None:
    data = _file(form)
    path = tmp_path / "cut"
    path.write_bytes(data[: int(len(data) * share)])
    read, says = _read(path)
    allowed = 0.1 * RATE if form in ("vorbis", "opus", "mp3") else 0
    assert says or FRAMES - read <= allowed, (len(data), read)
    if form in LOSSLESS_BYTES and read >= 0:
        assert read >= FRAMES * share - 2_100 - len(data) / 1000  # what is there is kept
        assert ("ms are missing" in says) == (inspect(path).stated_frames - read < 0.1 * RATE)


@pytest.mark.parametrize("form", ["flac", "vorbis", "opus", "mp3"])
@given(at=st.floats(0.3, 0.95), with_what=st.binary(min_size=1, max_size=5_000))
@settings(max_examples=10, suppress_health_check=list(HealthCheck))
def test_what_lies_before_other_bytes_in_the_middle_is_kept(
    form: str, at: float, with_what: bytes, tmp_path: Path
) -> None:
    """Also an MP3 with junk between its frames."""
    data = _file(form)
    middle = int(len(data) * at)
    path = tmp_path / "junk"
    path.write_bytes(data[:middle] + with_what + data[middle + (len(with_what) if form != "mp3" else 0) :])
    read, says = _read(path)
    assert says or FRAMES - read <= 0.1 * RATE or form == "flac"
    assert read < 0 or read > FRAMES * (at - 0.35)


def test_a_damaged_block_loses_a_moment_not_a_second(tmp_path: Path) -> None:
    data = bytearray(_file("flac"))
    data[len(data) // 2] ^= 0xFF
    path = tmp_path / "flipped.flac"
    path.write_bytes(data)
    read, says = _read(path)
    assert says
    assert 0.45 * FRAMES - 5_000 < read < 0.55 * FRAMES
    with soundfile.SoundFile(io.BytesIO(_file("flac"))) as whole:
        wanted = whole.read(read, dtype="float32", always_2d=True)
    assert np.array_equal(np.concatenate(list(read_blocks(path))), wanted)
    # read piece by piece in any order it is the same
    sound = FileSamples(path, keep_readable=True)
    assert np.array_equal(sound[10_000:50_000][: read - 10_000], wanted[10_000:])
    assert sound.ends_at == read


@pytest.mark.parametrize("form", ["wav16", "wav24", "wavf", "wavex", "ulaw"])
@pytest.mark.parametrize("size", [0, 1_000, 1_001, 2**31 - 1, 2**31, 2**32 - 1])
def test_sizes_that_a_header_may_say(form: str, size: int, tmp_path: Path) -> None:
    data = bytearray(_file(form))
    at = data.index(b"data")
    data[at + 4 : at + 8] = struct.pack("<I", size)
    path = tmp_path / "size.wav"
    path.write_bytes(data)
    read, says = _read(path)
    if size == 2**32 - 1:  # what is written by programs that do not know the length yet
        assert (read, says) == (FRAMES, "")
    elif size == 0:
        assert "it was not finished" in says
    elif size < 2_000:
        assert "its header leaves" in says
    else:
        assert read == FRAMES
        assert "the file ends after 1.2 s of" in says


@pytest.mark.parametrize("channels", [0, 3, 6, 255, 65_535])
@pytest.mark.parametrize("form", ["wav16", "wavf"])
def test_counts_of_channels_that_are_none(form: str, channels: int, tmp_path: Path) -> None:
    data = bytearray(_file(form))
    data[22:24] = struct.pack("<H", channels)
    path = tmp_path / "channels.wav"
    path.write_bytes(data)
    read, says = _read(path)
    assert read == -1
    assert "Could not" in says


@given(
    form=st.sampled_from(sorted(FORMS)),
    changes=st.lists(st.tuples(st.integers(0, 400), st.integers(0, 255)), max_size=8),
)
@settings(max_examples=150, suppress_health_check=list(HealthCheck))
def test_whatever_a_header_says_nothing_but_a_sentence_comes_of_it(
    form: str, changes: list[tuple[int, int]], tmp_path: Path
) -> None:
    data = bytearray(_file(form))
    for at, value in changes:
        data[min(at, len(data) - 1)] = value
    path = tmp_path / "header"
    path.write_bytes(data)
    read, says = _read(path)
    assert read >= 0 or says.startswith("Could not")


@given(
    rest=st.binary(max_size=3_000),
    magic=st.sampled_from(
        [b"", b"RIFF", b"RF64", b"FORM", b"riff", b".snd", b"caff", b"OggS", b"\xff\xfb\x90\x00", b"ID3"]
    ),
)
@settings(max_examples=200, suppress_health_check=list(HealthCheck))
def test_the_readers_of_headers_end_on_anything(rest: bytes, magic: bytes, tmp_path: Path) -> None:
    path = tmp_path / "anything"
    path.write_bytes(magic + rest + b"\0")
    for reader in (data_span, ogg_promise, mp3_promise):
        reader(path)


@pytest.mark.parametrize(
    "name", ["take.raw", "take.RAW", "take.wav", "notes", b"na\xffme.wav".decode(errors="surrogateescape")]
)
def test_a_name_decides_nothing(name: str, tmp_path: Path) -> None:
    path = tmp_path / name
    path.write_bytes(_file("wav16"))
    assert _read(path) == (FRAMES, "")
    path.write_bytes(os.urandom(5_000))
    assert "this is not a sound file we know" in _read(path)[1]


@pytest.mark.parametrize("filling", [b"", b"\0" * 4_000, b"LIST\x04\0\0\0INFO" + b"note" * 500])
def test_what_follows_the_sound_by_custom_is_no_damage(filling: bytes, tmp_path: Path) -> None:
    path = tmp_path / "tail.wav"
    path.write_bytes(_file("wav16") + filling)
    assert _read(path) == (FRAMES, "")


def test_the_promise_of_compressed_streams_is_what_the_decoder_gives(tmp_path: Path) -> None:
    """Against libsndfile's own count, for files that it has written itself; tags of MP3s count whole frames."""
    for form, promise in (("vorbis", ogg_promise), ("opus", ogg_promise), ("mp3", mp3_promise)):
        for rate, channels, frames in ((48_000, 2, 100_000), (24_000, 1, 30_001), (16_000, 2, 7_000)):
            path = tmp_path / f"{form}{rate}"
            kind, subtype = FORMS[form]
            soundfile.write(path, np.zeros((frames, channels)) + 0.01, rate, format=kind, subtype=subtype)
            found = promise(path)
            assert found is not None
            counted = soundfile.info(path).frames
            if form == "mp3":
                assert 0 < found.frames - counted < 4 * 1152
            elif form == "opus":  # counts at 48 kHz, whatever the rate
                assert found.frames == pytest.approx(frames * 48_000 / rate, abs=4)
            else:
                assert found.frames == counted


def test_a_small_file_that_unpacks_to_more_than_a_recording_may_have_is_refused(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Silence shrinks to nearly nothing, and a header may say that it is short."""
    monkeypatch.setattr(decode, "LONGEST_S", 10)
    path = tmp_path / "bomb.flac"
    soundfile.write(path, np.zeros((20 * 8_000, 1)), 8_000, subtype="PCM_16")
    assert path.stat().st_size < 20_000
    assert "longer than 3 hours" in _read(path)[1]
    data = bytearray(path.read_bytes())
    data[21] &= 0xF0
    data[22:26] = bytes(4)  # "the number of samples is not known" (RFC 9639, 8.2)
    path.write_bytes(data)
    assert "does not say how long it is" in _read(path)[1]
