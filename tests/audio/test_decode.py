"""Reading files: formats against soundfile's own reading, resampling, and every kind of bad file."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from mivlo.audio.decode import FileSamples, inspect, read_blocks, resampled_blocks, resampled_length, until_readable
from mivlo.core.errors import BadAudio
from mivlo.core.units import Floats


@pytest.mark.parametrize(
    ("suffix", "subtype"),
    [
        ("wav", "PCM_16"), ("wav", "PCM_24"), ("wav", "PCM_32"), ("wav", "FLOAT"), ("wav", "DOUBLE"),
        ("flac", "PCM_16"), ("flac", "PCM_24"), ("aiff", "PCM_16"), ("aiff", "PCM_24"), ("ogg", "VORBIS"),
        ("mp3", "MPEG_LAYER_III"),
    ],
)  # fmt: skip
@pytest.mark.parametrize("channels", [1, 2])
def test_every_format_reads_as_soundfile_reads_it(
    tmp_path: Path, noise: Floats, suffix: str, subtype: str, channels: int
) -> None:
    path = tmp_path / f"take.{suffix}"
    soundfile.write(path, noise[:30_000, :channels], 44_100, subtype=subtype)
    wanted, rate = soundfile.read(path, dtype="float32", always_2d=True)
    info = inspect(path)
    ours = np.concatenate(list(read_blocks(path, block=4_096)))
    assert (info.sample_rate, info.channels) == (rate, channels)
    # the MP3 decoder rounds differently from block to block; all others are exact
    assert np.max(np.abs(ours - wanted)) <= (1e-6 if suffix == "mp3" else 0.0)


def test_recorded_sound_survives_flac_bit_for_bit(marimba_wav: Path, tmp_path: Path) -> None:
    x, rate = soundfile.read(marimba_wav, dtype="int16", always_2d=True)
    soundfile.write(tmp_path / "m.flac", x, rate, subtype="PCM_16")
    ours = np.concatenate(list(read_blocks(tmp_path / "m.flac")))
    assert np.array_equal(np.rint(ours * 32_768).astype(np.int16), x)


@pytest.mark.parametrize("from_rate", [8_000, 22_050, 44_100, 96_000, 192_000])
def test_resampling_keeps_a_tone_and_its_length(from_rate: int) -> None:
    hz, to_rate = 997.0, 48_000
    t = np.arange(from_rate * 2) / from_rate
    x = (0.5 * np.sin(2 * np.pi * hz * t))[:, None].astype(np.float32)
    blocks = (x[i : i + 5_000] for i in range(0, len(x), 5_000))
    y = np.concatenate(list(resampled_blocks(blocks, from_rate, to_rate, 1)))[:, 0]
    assert len(y) == resampled_length(len(x), from_rate, to_rate) == 96_000
    wanted = 0.5 * np.sin(2 * np.pi * hz * np.arange(len(y)) / to_rate)
    inner = slice(4_800, -4_800)  # the ends ring with the filter
    assert np.max(np.abs(y - wanted)[inner]) < 10 ** (-110 / 20)


def test_the_same_rate_is_passed_through_untouched(noise: Floats) -> None:
    x = noise.astype(np.float32)
    assert np.array_equal(next(resampled_blocks(iter([x]), 48_000, 48_000, 2)), x)


def test_an_empty_file_is_refused(tmp_path: Path) -> None:
    (tmp_path / "take.wav").touch()
    with pytest.raises(BadAudio, match=r"Could not read take\.wav: the file is empty"):
        inspect(tmp_path / "take.wav")


@pytest.mark.parametrize("name", ["notes.wav", "notes.txt", "picture.flac"])
def test_what_is_not_sound_is_refused_whatever_its_name(tmp_path: Path, name: str) -> None:
    (tmp_path / name).write_bytes(b"Dear engineer, the takes are on the other disk." * 50)
    with pytest.raises(BadAudio, match=f"Could not read {name}: this is not a sound file we know"):
        inspect(tmp_path / name)


def test_a_wrong_extension_does_not_matter(tmp_path: Path, noise: Floats) -> None:
    soundfile.write(tmp_path / "take.flac", noise, 48_000, subtype="PCM_16")
    (tmp_path / "take.flac").rename(tmp_path / "take.wav")
    assert inspect(tmp_path / "take.wav").frames == len(noise)


def test_more_than_two_channels_are_refused(write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    path = write_wav(np.tile(noise, (1, 3)), name="surround.wav")
    with pytest.raises(BadAudio, match=r"surround\.wav: it has 6 channels"):
        inspect(path)


def test_zero_length_is_refused(write_wav) -> None:  # type: ignore[no-untyped-def]
    with pytest.raises(BadAudio, match="its length is 0 s"):
        inspect(write_wav(np.zeros((0, 1))))


@pytest.mark.parametrize("bad", [np.nan, np.inf])
def test_values_that_are_not_numbers_are_refused_with_their_place(write_wav, noise: Floats, bad: float) -> None:  # type: ignore[no-untyped-def]
    x = noise.copy()
    x[72_000, 1] = bad
    with pytest.raises(BadAudio, match=r"at 1\.50 s it holds values that are not numbers"):
        list(read_blocks(write_wav(x, subtype="FLOAT")))


def test_rates_outside_the_range_are_refused(write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    with pytest.raises(BadAudio, match="its sample rate is 4000 Hz"):
        inspect(write_wav(noise[:4_000], rate=4_000))


def test_a_truncated_file_tells_what_it_promised(write_wav, noise: Floats) -> None:  # type: ignore[no-untyped-def]
    path = write_wav(noise)
    data = path.read_bytes()
    path.write_bytes(data[: len(data) // 4])
    info = inspect(path)
    assert info.stated_frames == len(noise)
    read = np.concatenate(list(read_blocks(path)))
    assert len(read) == pytest.approx(len(noise) / 4, abs=20)
    assert np.max(np.abs(read - noise[: len(read)])) < 1e-6


def test_what_is_made_of_a_damaged_file_ends_where_it_could_be_read(tmp_path: Path, noise: Floats) -> None:
    path = tmp_path / "take.flac"
    soundfile.write(path, noise, 44_100, subtype="PCM_16")
    path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
    sound = FileSamples(path, keep_readable=True)
    made = list(until_readable((2.0 * sound[i : i + 8_192] for i in range(0, sound.info.frames, 8_192)), sound))
    assert 0 < sum(map(len, made)) == sound.ends_at < sound.info.frames
    whole = np.asarray(noise[: sound.ends_at])
    assert np.max(np.abs(np.concatenate(made) - 2.0 * whole)) < 1e-4
    with pytest.raises(BadAudio, match="it is damaged"):
        FileSamples(path)[0 : sound.info.frames]


def test_what_is_made_of_a_whole_recording_is_passed_on_whole() -> None:
    blocks = [np.ones((3, 1)), np.ones((4, 1))]
    assert [len(b) for b in until_readable(iter(blocks), None)] == [3, 4]
