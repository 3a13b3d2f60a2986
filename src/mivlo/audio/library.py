"""The sound library: originals by their content, and working copies that can be made again.

originals/ab/abcdef....wav      never changed; the name is the SHA-256 of the content
working/ab/abcdef..._48000/     samples.f32, peaks.npy, map-0.npy ..., analysis.json
exports/<task>/                 what a hand-over made
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import uuid
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from mivlo.audio.decode import inspect, read_blocks, resampled_blocks, resampled_length
from mivlo.core.errors import BadAudio, MivloError
from mivlo.core.loudness import LoudnessMeter, TruePeakMeter
from mivlo.core.spectra import (
    MAP_ROWS,
    LongTermSpectrum,
    Singles,
    TimeMap,
    halve_columns,
    log_grid,
    map_bytes,
    map_hop,
)

PEAK_FRAMES = 256
WORKING_VERSION = 1
ANALYSIS_BANDS = 24
"""Bands an octave of the stored long-term levels: those that the bench draws."""
_MAP_COLUMNS_AT_ONCE = 1024  # a power of two: then its coarser levels are whole as well
_COARSEST_COLUMNS = 128


class Cancelled(MivloError):
    """The user stopped the task."""


Progress = Callable[[float], None]
"""Called with the share done (0 to 1); raises Cancelled to stop the work."""


@dataclass(frozen=True, slots=True)
class Analysis:
    """What is known of a working copy."""

    frames: int
    channels: int
    sample_rate: int
    loudness_lufs: float
    true_peak_dbtp: float
    map_columns: int
    map_levels: int
    levels_db: list[float]  # long-term level at log_grid(), in bands of 1/ANALYSIS_BANDS octave
    notice: str = ""
    version: int = WORKING_VERSION


class Upload:
    """A file on its way in: written and hashed as it comes, kept or dropped at the end."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self.path = folder / f"{uuid.uuid4().hex}.part"
        self._hash = hashlib.sha256()
        self._file = self.path.open("wb")
        self.size = 0

    def write(self, data: bytes) -> None:
        self._hash.update(data)
        self._file.write(data)
        self.size += len(data)

    def close(self) -> str:
        """Sync to disk; the content's SHA-256."""
        self._file.flush()
        os.fsync(self._file.fileno())
        self._file.close()
        return self._hash.hexdigest()

    def drop(self) -> None:
        self._file.close()
        self.path.unlink(missing_ok=True)


class Library:
    """Sound on disk under one folder."""

    def __init__(self, root: Path) -> None:
        self.root = root

    def upload(self) -> Upload:
        return Upload(self.root / "incoming")

    def keep(self, upload: Upload, suffix: str) -> str:
        """Take an upload into the originals; equal content is stored once. Returns its SHA-256."""
        digest = upload.close()
        place = self.original(digest, suffix)
        if place.exists():
            upload.path.unlink()
        else:
            place.parent.mkdir(parents=True, exist_ok=True)
            upload.path.replace(place)
        return digest

    def keep_file(self, path: Path) -> str:
        """Copy a file of this machine into the originals. Returns its SHA-256."""
        upload = self.upload()
        with path.open("rb") as file:
            while data := file.read(1 << 20):
                upload.write(data)
        return self.keep(upload, path.suffix)

    def original(self, digest: str, suffix: str) -> Path:
        clean = "".join(c for c in suffix.lower() if c.isalnum())[:5]
        return self.root / "originals" / digest[:2] / f"{digest}.{clean or 'bin'}"

    def exports(self, task_id: int) -> Path:
        return self.root / "exports" / str(task_id)

    def working(self, digest: str, sample_rate: int) -> Path:
        return self.root / "working" / digest[:2] / f"{digest}_{sample_rate}"

    def has_working(self, digest: str, sample_rate: int) -> bool:
        return (self.working(digest, sample_rate) / "analysis.json").exists()

    def analysis(self, digest: str, sample_rate: int) -> Analysis:
        return _analysis(str(self.working(digest, sample_rate) / "analysis.json"))

    def samples(self, digest: str, sample_rate: int) -> Singles:
        """The working copy, memory-mapped: (frames, channels) float32."""
        known = self.analysis(digest, sample_rate)
        path = self.working(digest, sample_rate) / "samples.f32"
        return np.asarray(np.memmap(path, dtype=np.float32, mode="r", shape=(known.frames, known.channels)))

    def peaks(self, digest: str, sample_rate: int) -> npt.NDArray[np.float32]:
        """Lowest and highest sample of every PEAK_FRAMES frames: (m, 2)."""
        return _array(str(self.working(digest, sample_rate) / "peaks.npy"))

    def map_level(self, digest: str, sample_rate: int, level: int) -> npt.NDArray[np.uint8]:
        """One zoom level of the time map: (columns, MAP_ROWS) bytes."""
        return _array(str(self.working(digest, sample_rate) / f"map-{level}.npy"))

    def make_working(
        self,
        original: Path,
        name: str,
        digest: str,
        sample_rate: int,
        progress: Progress = lambda share: None,
    ) -> Analysis:
        """Decode, resample and analyse an original, streaming; made once per content and rate."""
        if self.has_working(digest, sample_rate):
            return self.analysis(digest, sample_rate)
        info = inspect(original, name)
        with _new_folder(self.working(digest, sample_rate)) as folder:
            expected = resampled_length(info.frames, info.sample_rate, sample_rate)
            read = _Counter(read_blocks(original, name))
            blocks = resampled_blocks(iter(read), info.sample_rate, sample_rate, info.channels)
            measured = _measure(blocks, folder, sample_rate, info.channels, expected, progress)
            if read.frames == 0:
                raise BadAudio(f"Could not use {name}: nothing in it could be read. Export it again.")
            x = np.memmap(folder / "samples.f32", dtype=np.float32, mode="r", shape=(measured.frames, info.channels))
            columns, levels = _write_map(x, folder, sample_rate, lambda share: progress(0.5 + 0.5 * share))
            analysis = Analysis(
                frames=measured.frames,
                channels=info.channels,
                sample_rate=sample_rate,
                loudness_lufs=measured.loudness_lufs,
                true_peak_dbtp=measured.true_peak_dbtp,
                map_columns=columns,
                map_levels=levels,
                levels_db=[round(float(v), 2) for v in measured.levels_db],
                notice=_shortfall(name, read.frames, info.stated_frames, info.sample_rate),
            )
            (folder / "analysis.json").write_text(json.dumps(asdict(analysis)))
        return analysis


def _shortfall(name: str, read: int, stated: int, rate: int) -> str:
    # encoders round the length of lossy files: less than 0.1 s is no damage
    if stated - read < 0.1 * rate:
        return ""
    return (
        f"Could not read all of {name}: the file ends after {read / rate:.1f} s of {stated / rate:.1f} s. "
        "The part that could be read was kept."
    )


class _Counter:
    """Counts the frames that pass."""

    def __init__(self, blocks: Iterator[Singles]) -> None:
        self._blocks = blocks
        self.frames = 0

    def __iter__(self) -> Iterator[Singles]:
        for x in self._blocks:
            self.frames += len(x)
            yield x


@contextmanager
def _new_folder(place: Path) -> Iterator[Path]:
    """A folder that appears under its name only when it is complete."""
    place.parent.mkdir(parents=True, exist_ok=True)
    temporary = place.with_name(f"{place.name}.{uuid.uuid4().hex}.part")
    temporary.mkdir()
    try:
        yield temporary
        try:
            temporary.rename(place)
        except OSError:  # somebody else made the same copy meanwhile
            if not (place / "analysis.json").exists():
                raise
    finally:
        shutil.rmtree(temporary, ignore_errors=True)


@dataclass(frozen=True, slots=True)
class _Measured:
    frames: int
    loudness_lufs: float
    true_peak_dbtp: float
    levels_db: list[float]


def _measure(
    blocks: Iterator[Singles], folder: Path, rate: int, channels: int, expected: int, progress: Progress
) -> _Measured:
    """One pass over the sound: samples and waveform to disk, loudness, true peak, spectrum."""
    loudness, peak = LoudnessMeter(rate, channels), TruePeakMeter(channels)
    spectrum = LongTermSpectrum(rate, channels)
    peaks: list[npt.NDArray[np.float32]] = []
    rest = np.empty((0, channels), dtype=np.float32)
    frames = 0
    pending: list[Future[None]] = []
    with (folder / "samples.f32").open("wb") as out, ThreadPoolExecutor(3) as pool:
        for x in blocks:
            for future in pending:
                future.result()
            # the meters release the interpreter lock: they run while the next block is decoded
            pending = [pool.submit(meter.add, x) for meter in (loudness, peak, spectrum)]
            out.write(np.ascontiguousarray(x).tobytes())
            rest = _add_peaks(np.concatenate([rest, x]), peaks)
            frames += len(x)
            progress(min(0.5, 0.5 * frames / max(expected, 1)))
        for future in pending:
            future.result()
        if len(rest):
            peaks.append(np.array([[rest.min(), rest.max()]], dtype=np.float32))
        out.flush()
        os.fsync(out.fileno())
    np.save(folder / "peaks.npy", np.concatenate(peaks) if peaks else np.zeros((0, 2), np.float32))
    return _Measured(
        frames,
        loudness.integrated_lufs(),
        peak.peak_dbtp(),
        spectrum.levels(log_grid(), bands_per_octave=ANALYSIS_BANDS).tolist(),
    )


def _add_peaks(x: Singles, peaks: list[npt.NDArray[np.float32]]) -> Singles:
    whole = len(x) // PEAK_FRAMES * PEAK_FRAMES
    if whole:
        parts = x[:whole].reshape(-1, PEAK_FRAMES * x.shape[1])
        peaks.append(np.stack([parts.min(axis=1), parts.max(axis=1)], axis=1))
    return x[whole:]


def _write_map(x: Singles, folder: Path, rate: int, progress: Progress) -> tuple[int, int]:
    """The time map in all its zoom levels; returns its columns at the finest, and the levels."""
    time_map, hop = TimeMap(rate), map_hop(rate)
    columns = max(1, -(-len(x) // hop))
    starts = range(0, columns, _MAP_COLUMNS_AT_ONCE)

    def part(first: int) -> Singles:
        count = min(_MAP_COLUMNS_AT_ONCE, columns - first)
        reach = time_map.reach
        low = max(0, first * hop - reach)
        high = min(len(x), (first + count + 4) * hop + reach)
        return time_map.columns(x[low:high], first * hop - low, count)

    lengths = [columns]
    while lengths[-1] > _COARSEST_COLUMNS:
        lengths.append(-(-lengths[-1] // 2))
    # straight to disk: three hours of map would fill a gigabyte of memory
    levels = [
        np.lib.format.open_memmap(folder / f"map-{i}.npy", mode="w+", dtype=np.uint8, shape=(length, MAP_ROWS))
        for i, length in enumerate(lengths)
    ]
    within = min(len(levels), _MAP_COLUMNS_AT_ONCE.bit_length())  # levels that a piece fills by itself
    rest: list[Singles] = []
    with ThreadPoolExecutor(2) as pool:
        for i, power in enumerate(pool.map(part, starts)):
            for level in range(within):
                at = (i * _MAP_COLUMNS_AT_ONCE) >> level
                levels[level][at : at + len(power)] = map_bytes(power)
                if level + 1 < within:
                    power = halve_columns(power)
            rest.append(power)
            progress((i + 1) / len(starts))
    power = np.concatenate(rest)
    for level in range(within, len(levels)):
        power = halve_columns(power)
        levels[level][:] = map_bytes(power)
    for written in levels:
        written.flush()
    return columns, len(levels)


@lru_cache(maxsize=256)
def _analysis(path: str) -> Analysis:
    return Analysis(**json.loads(Path(path).read_text()))


@lru_cache(maxsize=256)
def _array(path: str) -> npt.NDArray[Any]:
    return np.asarray(np.load(path, mmap_mode="r"))
