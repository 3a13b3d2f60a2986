"""Sound files as streams of float32 blocks, with a clear sentence for whatever is wrong with them."""

from __future__ import annotations

import contextlib
import io
import os
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
import soxr

from mivlo.audio.containers import data_span, mp3_promise, ogg_promise
from mivlo.core.errors import BadAudio
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats

BLOCK_FRAMES = 65_536
LOWEST_RATE, HIGHEST_RATE = 8_000, 192_000
LONGEST_S = 3 * 3600
_UNKNOWN_FRAMES = 2**62
"""The decoder gives such counts where the header has none."""
LARGEST_BYTES = 20 * 1024**3
"""Three hours of stereo at 192 kHz and 32 bit fit."""
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
    doubt: str = ""  # what is odd about its container

    @property
    def is_lossy(self) -> bool:
        return self.subtype in _LOSSY

    @property
    def duration_s(self) -> float:
        return self.frames / self.sample_rate


_WIDTHS = {"PCM_S8": 1, "PCM_U8": 1, "PCM_16": 2, "PCM_24": 3, "PCM_32": 4, "FLOAT": 4, "DOUBLE": 8}
_LOSSY = ("VORBIS", "OPUS", "MPEG_LAYER_I", "MPEG_LAYER_II", "MPEG_LAYER_III")


def _open(path: Path) -> soundfile.SoundFile:
    """Open a file by what is in it; by its name, one called .raw would be taken for samples without a header."""
    if _is_bw64(path):
        return soundfile.SoundFile(_AsRf64(path))
    if path.suffix.lower() != ".raw":
        return soundfile.SoundFile(os.fsencode(path))
    descriptor = os.open(path, os.O_RDONLY)
    try:
        return soundfile.SoundFile(descriptor, closefd=True)
    except BaseException:
        with contextlib.suppress(OSError):
            os.close(descriptor)
        raise


def _is_bw64(path: Path) -> bool:
    with path.open("rb") as file:
        return file.read(4) == b"BW64"


class _AsRf64(io.FileIO):
    """A BW64 file under the name that its older like has, RF64: the decoder knows only that (ITU-R BS.2088)."""

    def readinto(self, buffer: Any) -> int | None:
        at, count = self.tell(), super().readinto(buffer)
        if at < 4 and count:
            first = b"RF64"[at : at + count]
            memoryview(buffer).cast("B")[: len(first)] = first
        return count


def inspect(path: Path, name: str | None = None) -> SoundInfo:
    """Read the header and check that it is a file we can use; BadAudio says why not."""
    name = name or path.name
    size = path.stat().st_size
    if size == 0:
        raise BadAudio(f"Could not read {name}: the file is empty. Export it again and drop it here.")
    if size > LARGEST_BYTES:
        raise BadAudio(
            f"Could not read {name}: it is larger than {LARGEST_BYTES / 1024**3:.0f} GB. Split it or export it as FLAC."
        )
    try:
        with _open(path) as file:
            rate, channels, frames = file.samplerate, file.channels, file.frames
            subtype, kind = file.subtype, file.format
    except (soundfile.LibsndfileError, TypeError) as error:
        raise BadAudio(f"Could not read {name}: this is not a sound file we know. Use {READABLE}.") from error
    stated, doubt = _stated(path, kind, frames, _WIDTHS.get(subtype, 0) * channels)
    found = SoundInfo(
        name=name,
        sample_rate=rate,
        channels=channels,
        frames=frames,
        stated_frames=max(stated, frames),
        subtype=subtype,
        format=kind,
        doubt=doubt,
    )
    _check(found)
    return found


def _stated(path: Path, kind: str, frames: int, width: int) -> tuple[int, str]:
    """Frames that the container promises, and what is odd about it in words; `width`: bytes a frame, 0: it varies."""
    if kind == "OGG":
        promise = ogg_promise(path)
        if promise is None:
            return frames, ""
        return promise.frames, "" if promise.ends else "its end is missing"
    if kind == "MP3":
        promise = mp3_promise(path)
        # what the encoder added at both ends is not played
        return (promise.frames - _ADDED_BY_MP3 if promise else frames), ""
    span = data_span(path)
    if span is None:
        return frames, ""
    if span.behind > 1000:
        if span.stated == 0:
            return frames, "its header says that it is empty, but there is something behind it"
        return frames, f"its header leaves {span.behind / 1e6:.1f} MB out that stand behind"
    if span.present < span.stated and span.present:
        by_share = round(frames * span.stated / span.present)
        return max(frames + 1, span.stated // width if width else by_share), ""
    return frames, ""


_ADDED_BY_MP3 = 1105 + 1152
"""Frames of delay and filling that common encoders add, at least (common practice, no source)."""


def _check(info: SoundInfo) -> None:
    name = info.name
    if info.channels > 2:
        raise BadAudio(f"Could not use {name}: it has {info.channels} channels. Export it as mono or stereo tracks.")
    if not LOWEST_RATE <= info.sample_rate <= HIGHEST_RATE:
        raise BadAudio(
            f"Could not use {name}: its sample rate is {info.sample_rate} Hz. Between 8 and 192 kHz can be used."
        )
    if info.frames == 0:
        why = f" ({info.doubt}: it was not finished). Export it again" if info.doubt else ""
        raise BadAudio(f"Could not use {name}: there is no sound in it, its length is 0 s{why}.")
    if info.frames >= _UNKNOWN_FRAMES:
        raise BadAudio(f"Could not use {name}: its header does not say how long it is. Export it again.")
    if info.duration_s > LONGEST_S:
        raise BadAudio(f"Could not use {name}: it is longer than 3 hours. Cut it into parts.")


def shortfall(info: SoundInfo, read: int) -> str:
    """What is missing of a file of which `read` frames could be read, in a sentence; nothing where it is whole."""
    # encoders round the length of lossy files: less than 0.1 s is no damage
    missing, rate = info.stated_frames - read, info.sample_rate
    if missing > (0.1 * rate if info.is_lossy else 0):
        if missing < 0.1 * rate:
            return f"Could not read all of {info.name}: its last {max(0.1, 1e3 * missing / rate):.1f} ms are missing."
        ends, stated = read / rate, info.stated_frames / rate
        return f"Could not read all of {info.name}: the file ends after {ends:.1f} s of {stated:.1f} s."
    return f"{info.name} may not be whole: {info.doubt}." if info.doubt else ""


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

    Ends early where a damaged file can't be read on. Raises BadAudio at samples that are not numbers, and where there
    are more than its length may be, whatever its header says.
    """
    name = name or path.name
    start, whole = 0, True
    with _open(path) as file:
        while whole:
            try:
                x = file.read(block, dtype=dtype, always_2d=True)
            except soundfile.LibsndfileError:
                x, whole = _read_in_pieces(path, start, block, dtype), False
            if not len(x):
                return
            _check_numbers(x, name, start, file.samplerate)
            start += len(x)
            if start > LONGEST_S * file.samplerate:
                raise BadAudio(f"Could not use {name}: it is longer than 3 hours. Cut it into parts.")
            yield x


_PIECE = 1024


def _read_in_pieces(path: Path, start: int, frames: int, dtype: str) -> Singles:
    """As many frames as a damaged file gives from a place on; a large read would give none of them."""
    first = start // _PIECE * _PIECE  # wherever one begins: the same frames can be read
    parts: list[Singles] = []
    with contextlib.suppress(soundfile.LibsndfileError), _open(path) as file:
        file.seek(first)
        for _ in range(first, start + frames, _PIECE):
            x = file.read(_PIECE, dtype=dtype, always_2d=True)
            if not len(x):
                break
            parts.append(x)
    return np.concatenate(parts)[start - first :][:frames] if parts else np.zeros((0, 1), dtype=np.float32)


class FileSamples:
    """A file's samples as an array that is read where it is sliced: never whole in memory.

    Parameters
    ----------
    path : a sound file, kept as an attribute; `name` is how it is called in messages.
    keep_readable : where a damaged file can't be read on, give silence and note it in `ends_at`; else refuse it.

    Attributes
    ----------
    ends_at : frames that could be read so far as known; fewer than `info.frames` only in a damaged file.
    """

    def __init__(self, path: Path, name: str | None = None, *, keep_readable: bool = False) -> None:
        self.info = inspect(path, name)
        self.ends_at = self.info.frames
        self._keep = keep_readable
        self.path = path
        self._file = _open(path)

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
            x = _read_in_pieces(self.path, start, stop - start, "float32")
            return x if len(x) else np.zeros((0, self.info.channels), dtype=np.float32)


def until_readable(blocks: Iterable[Floats], sound: FileSamples | None, silence: int = 0) -> Iterator[Floats]:
    """Blocks that were made of a recording, up to where it could be read; all of them where it is read from no file.

    silence : frames in front of the recording.
    """
    if sound is None:
        yield from blocks
        return
    done = 0
    for block in blocks:
        done += len(block)
        ends = silence + sound.ends_at
        if done >= ends:  # the end, or where a damaged file can't be read on
            yield block[: len(block) - (done - ends)]
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


def samples_at(path: Path, rate: int) -> Singles | FileSamples:
    """A whole file's samples at a rate: read where they are sliced if it is the file's own, else made at once."""
    info = inspect(path)
    if info.sample_rate == rate:
        return FileSamples(path)
    return np.concatenate(list(resampled_blocks(read_blocks(path), info.sample_rate, rate, info.channels)))


def resampled_length(frames: int, from_rate: int, to_rate: int) -> int:
    """Frames of a recording at another rate: rounded up, so that nothing is lost."""
    return -(-frames * to_rate // from_rate)
