"""Sound files as streams of float32 blocks, with a clear sentence for whatever is wrong with them."""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
import soxr

from mivlo.core.errors import BadAudio
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats

BLOCK_FRAMES = 65_536
LOWEST_RATE, HIGHEST_RATE = 8_000, 192_000
LONGEST_S = 3 * 3600
LARGEST_BYTES = 2 * 1024**3
READABLE = "WAV, FLAC, AIFF, OGG or MP3"


@dataclass(frozen=True, slots=True)
class SoundInfo:
    """What a sound file says of itself."""

    name: str
    sample_rate: int
    channels: int
    frames: int  # that can be read, as far as the header tells
    stated_frames: int  # that the header promises
    subtype: str
    format: str

    @property
    def duration_s(self) -> float:
        return self.frames / self.sample_rate


def _stated_wav_frames(path: Path, bytes_per_frame: int) -> int | None:
    """Frames that the data chunk of a RIFF file promises, None where it does not say."""
    with path.open("rb") as file:
        if file.read(4) != b"RIFF":
            return None
        file.seek(12)
        while len(head := file.read(8)) == 8:
            tag, size = struct.unpack("<4sI", head)
            if tag == b"data":
                return None if size >= 0xFFFFFF00 else size // bytes_per_frame
            file.seek(size + size % 2, 1)
    return None


_WIDTHS = {"PCM_U8": 1, "PCM_16": 2, "PCM_24": 3, "PCM_32": 4, "FLOAT": 4, "DOUBLE": 8}


def inspect(path: Path, name: str | None = None) -> SoundInfo:
    """Read the header and check that it is a file we can use; BadAudio says why not."""
    name = name or path.name
    size = path.stat().st_size
    if size == 0:
        raise BadAudio(f"Could not read {name}: the file is empty. Export it again and drop it here.")
    if size > LARGEST_BYTES:
        raise BadAudio(f"Could not read {name}: it is larger than 2 GB. Split it or export it as FLAC.")
    try:
        info = soundfile.info(str(path))
    except soundfile.LibsndfileError as error:
        raise BadAudio(f"Could not read {name}: this is not a sound file we know. Use {READABLE}.") from error
    width = _WIDTHS.get(info.subtype)
    stated = _stated_wav_frames(path, width * info.channels) if width else None
    found = SoundInfo(
        name=name,
        sample_rate=info.samplerate,
        channels=info.channels,
        frames=info.frames,
        stated_frames=max(stated or 0, info.frames),
        subtype=info.subtype,
        format=info.format,
    )
    _check(found)
    return found


def _check(info: SoundInfo) -> None:
    name = info.name
    if info.channels > 2:
        raise BadAudio(f"Could not use {name}: it has {info.channels} channels. Export it as mono or stereo tracks.")
    if not LOWEST_RATE <= info.sample_rate <= HIGHEST_RATE:
        raise BadAudio(
            f"Could not use {name}: its sample rate is {info.sample_rate} Hz. Between 8 and 192 kHz can be used."
        )
    if info.frames == 0:
        raise BadAudio(f"Could not use {name}: there is no sound in it, its length is 0 s.")
    if info.duration_s > LONGEST_S:
        raise BadAudio(f"Could not use {name}: it is longer than 3 hours. Cut it into parts.")


def _check_numbers(x: Singles, name: str, start: int, rate: int) -> None:
    """Refuse samples that are not numbers; `x` begins at the frame `start`."""
    finite = np.isfinite(x)
    if finite.all():
        return
    at = (start + int(np.argmin(finite.all(axis=1)))) / rate
    raise BadAudio(
        f"Could not use {name}: at {at:.2f} s it holds values that are not numbers. Render that track again."
    )


def read_blocks(
    path: Path, name: str | None = None, *, block: int = BLOCK_FRAMES, dtype: str = "float32"
) -> Iterator[Singles]:
    """The file's own samples as (n, channels) blocks, float32 unless `dtype` says otherwise.

    Ends early where a damaged file can't be read on. Raises BadAudio at samples that are not
    numbers.
    """
    name = name or path.name
    start = 0
    with soundfile.SoundFile(str(path)) as file:
        while True:
            try:
                x = file.read(block, dtype=dtype, always_2d=True)
            except soundfile.LibsndfileError:
                return
            if not len(x):
                return
            _check_numbers(x, name, start, file.samplerate)
            start += len(x)
            yield x


class FileSamples:
    """A file's samples as an array that is read where it is sliced: never whole in memory.

    Parameters
    ----------
    path : a sound file; `name` is how it is called in messages.
    keep_readable : where a damaged file can't be read on, give silence and note it in `ends_at`; else refuse it.

    Attributes
    ----------
    ends_at : frames that could be read so far as known; fewer than `info.frames` only in a damaged file.
    """

    def __init__(self, path: Path, name: str | None = None, *, keep_readable: bool = False) -> None:
        self.info = inspect(path, name)
        self.ends_at = self.info.frames
        self._keep = keep_readable
        self._file = soundfile.SoundFile(str(path))

    @property
    def shape(self) -> tuple[int, int]:
        return (self.info.frames, self.info.channels)

    def __getitem__(self, stretch: slice) -> Singles:
        """(n, channels) float32. BadAudio at samples that are not numbers or where the file is damaged."""
        start, stop, _ = stretch.indices(self.info.frames)
        x = self._read(start, min(stop, self.ends_at))
        wanted = max(0, stop - start)
        if len(x) < wanted:
            if not self._keep:
                raise BadAudio(f"Could not read all of {self.info.name}: it is damaged. Export it again.")
            self.ends_at = min(self.ends_at, start + len(x))
            x = np.concatenate([x, np.zeros((wanted - len(x), self.info.channels), dtype=np.float32)])
        _check_numbers(x, self.info.name, start, self.info.sample_rate)
        return np.asarray(x)

    def _read(self, start: int, stop: int) -> Singles:
        """As many of the frames as can be read."""
        if stop <= start:
            return np.zeros((0, self.info.channels), dtype=np.float32)
        try:
            self._file.seek(start)
            return np.asarray(self._file.read(stop - start, dtype="float32", always_2d=True))
        except soundfile.LibsndfileError:
            return np.zeros((0, self.info.channels), dtype=np.float32)


def until_readable(blocks: Iterable[Floats], sound: object) -> Iterator[Floats]:
    """Blocks that were made of a recording, up to where it could be read; all of them for one that is whole."""
    if not isinstance(sound, FileSamples):
        yield from blocks
        return
    done = 0
    for block in blocks:
        done += len(block)
        if done >= sound.ends_at:  # the end, or where a damaged file can't be read on
            yield block[: len(block) - (done - sound.ends_at)]
            return
        yield block


def resampled_blocks(blocks: Iterator[Singles], from_rate: int, to_rate: int, channels: int) -> Iterator[Singles]:
    """The same sound at another rate (soxr, its best setting), cut to the rounded length."""
    if from_rate == to_rate:
        yield from blocks
        return
    stream = soxr.ResampleStream(from_rate, to_rate, channels, dtype="float32", quality="VHQ")
    taken = given = 0
    for x in blocks:
        taken += len(x)
        y = stream.resample_chunk(np.ascontiguousarray(x))
        given += len(y)
        yield y
    wanted = resampled_length(taken, from_rate, to_rate)
    y = stream.resample_chunk(np.zeros((0, channels), dtype=np.float32), last=True)
    y = y[: max(0, wanted - given)]
    missing = wanted - given - len(y)
    if missing > 0:
        y = np.concatenate([y, np.zeros((missing, channels), dtype=np.float32)])
    yield y


def resampled_length(frames: int, from_rate: int, to_rate: int) -> int:
    """Frames of a recording at another rate: rounded up, so that nothing is lost."""
    return -(-frames * to_rate // from_rate)
