"""Samples to sound files: 16 bit with dither, 24 bit, 32 bit float; WAV or FLAC."""

from __future__ import annotations

import io
import os
from enum import StrEnum
from pathlib import Path
from types import TracebackType

import numpy as np
import numpy.typing as npt
import soundfile

from mivlo.audio.containers import chunks
from mivlo.audio.room import as_full


class Depth(StrEnum):
    """Bits of a written sample."""

    BITS_16 = "16"
    BITS_24 = "24"
    FLOAT_32 = "32f"


class Container(StrEnum):
    WAV = "wav"
    FLAC = "flac"


CONTAINERS = {".wav": Container.WAV, ".wave": Container.WAV, ".flac": Container.FLAC}
"""What the ending of a name, in small letters, asks for."""
BYTES = {Depth.BITS_16: 2, Depth.BITS_24: 3, Depth.FLOAT_32: 4}
"""Of a sample."""
LARGEST_PLAIN_WAV = 2**32 - 2**20
_SUBTYPES = {Depth.BITS_16: "PCM_16", Depth.BITS_24: "PCM_24", Depth.FLOAT_32: "FLOAT"}
_DITHER_SEED = 20_813  # fixed, so that the same export gives the same bytes


def sound_bytes(samples: npt.ArrayLike, sample_rate: int) -> bytes:
    """A short sound as a WAV file of 32 bit float, in memory."""
    out = io.BytesIO()
    soundfile.write(out, np.asarray(samples, dtype=np.float32), sample_rate, format="WAV", subtype="FLOAT")
    return out.getvalue()


def _format(container: Container, size: int) -> str:
    """What a file of so many bytes of samples is written as: a plain WAV can't hold 4 GB (EBU Tech 3306)."""
    return "RF64" if container is Container.WAV and size >= LARGEST_PLAIN_WAV else container.value.upper()


class SoundWriter:
    """Writes blocks to a file; counts the samples that had to be clipped.

    frames : how many will be written, as far as it is known.

    16 bit gets triangular dither of two steps' width (common practice; e.g. Lipshitz, Wannamaker &
    Vanderkooy, J. Audio Eng. Soc. 40, 1992, from memory). Float keeps what is above full scale.
    """

    def __init__(
        self, path: Path, sample_rate: int, channels: int, depth: Depth, container: Container, *, frames: int = 0
    ) -> None:
        if container is Container.FLAC and depth is Depth.FLOAT_32:
            depth = Depth.BITS_24  # FLAC holds whole numbers only
        self.depth, self._container = depth, container
        self.clipped = 0
        self._path = path
        self._random = np.random.default_rng(_DITHER_SEED)
        self._file = soundfile.SoundFile(
            os.fsencode(path), "w", sample_rate, channels, _SUBTYPES[depth],
            format=_format(container, frames * channels * BYTES[depth]),
        )  # fmt: skip

    def __enter__(self) -> SoundWriter:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            self._file.close()
        except soundfile.LibsndfileError as failed:
            if error is None:
                raise as_full(failed, self._path.parent) from failed
        else:
            if error is None and self._container is Container.WAV and self.depth is Depth.FLOAT_32:
                _forget_when(self._path)

    def write(self, block: npt.ArrayLike) -> None:
        """Append (n, channels); DiskFull where there is no room for it."""
        try:
            self._write(block)
        except (soundfile.LibsndfileError, AssertionError) as error:  # it does not say why
            raise as_full(error, self._path.parent) from error

    def _write(self, block: npt.ArrayLike) -> None:
        x = np.asarray(block, dtype=np.float64)
        if self.depth is Depth.FLOAT_32:
            self._file.write(x.astype(np.float32))
            return
        full = 32_768.0 if self.depth is Depth.BITS_16 else 8_388_608.0
        steps = x * full
        if self.depth is Depth.BITS_16:
            dither = self._random.random((*x.shape, 2))  # drawn frame by frame: the same however it is written
            steps = steps + dither[..., 0] - dither[..., 1]
        steps = np.rint(steps)
        self.clipped += int(np.count_nonzero((steps > full - 1) | (steps < -full)))
        steps = np.clip(steps, -full, full - 1)
        if self.depth is Depth.BITS_16:
            self._file.write(steps.astype(np.int16))
        else:
            self._file.write(steps.astype(np.int32) << 8)


def _forget_when(path: Path) -> None:
    """Take the time of writing out of a float WAV, which notes it beside its peaks: the same sound, the same bytes."""
    with path.open("r+b") as file:
        for name, at, _ in chunks(file, 12):
            if name == b"data":
                return
            if name == b"PEAK":  # version, then seconds since 1970
                file.seek(at + 4)
                file.write(bytes(4))
                return


def depth_of(subtype: str) -> Depth:
    """The depth that keeps what a file of this subtype holds."""
    if subtype in ("PCM_16", "PCM_U8", "PCM_S8"):
        return Depth.BITS_16
    if subtype in ("FLOAT", "DOUBLE", "PCM_32"):
        return Depth.FLOAT_32
    return Depth.BITS_24
