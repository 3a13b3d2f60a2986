"""Making a working copy: a recording at the song's rate, with all that the page and the searches read of it."""

from __future__ import annotations

import json
import os
import shutil
import uuid
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack, contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import BinaryIO

import numpy as np
import numpy.typing as npt

from mivlo.audio.decode import inspect, read_blocks, resampled_blocks, resampled_length, shortfall
from mivlo.audio.room import check_room
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
    map_extent,
    map_hop,
)

PEAK_FRAMES = 256
WORKING_VERSION = 1
ANALYSIS_BANDS = 24
"""Bands an octave of the stored long-term levels: those that the bench draws."""
_MAP_COLUMNS_AT_ONCE = 1024  # a power of two: then its coarser levels are whole as well


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


ANALYSIS, SAMPLES, PEAKS = "analysis.json", "samples.f32", "peaks.npy"
"""The files of a working copy, beside those of the map."""


def map_name(level: int) -> str:
    """The file of a zoom level of the time map."""
    return f"map-{level}.npy"


def read_analysis(path: Path) -> Analysis | None:
    """What was written down of a working copy; None if another version wrote it, whose words are others."""
    try:
        return Analysis(**json.loads(path.read_text()))
    except (TypeError, ValueError):
        return None


def make_working(
    original: Path, name: str, place: Path, sample_rate: int, progress: Progress, *,
    silence: int = 0, keep_free: int = 0,
) -> Analysis:  # fmt: skip
    """Decode, resample and analyse a file, streaming, into a folder that appears only when it is complete.

    Samples, waveform and map begin with `silence` frames of silence; what is measured is measured of the sound alone.

    Raises
    ------
    DiskFull : there is no room for it besides `keep_free` bytes.
    BadAudio : nothing of it could be read.
    Cancelled : by `progress`.
    """
    info = inspect(original, name)
    expected = resampled_length(info.frames, info.sample_rate, sample_rate)
    needed = working_bytes(silence + expected, info.channels, sample_rate)
    check_room(place, needed, f"reading {name}", keep_free=keep_free)
    with _new_folder(place) as folder:
        read = _Counter(read_blocks(original, name))
        blocks = resampled_blocks(iter(read), info.sample_rate, sample_rate, info.channels)
        measured = _measure(blocks, folder, sample_rate, info.channels, expected, progress, silence)
        if read.frames == 0:
            raise BadAudio(f"Could not use {name}: nothing in it could be read. Export it again.")
        x = np.memmap(folder / SAMPLES, dtype=np.float32, mode="r", shape=(measured.frames, info.channels))
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
            notice=_notice(shortfall(info, read.frames)),
        )
        (folder / ANALYSIS).write_text(json.dumps(asdict(analysis)))
    return analysis


def _notice(missing: str) -> str:
    return f"{missing} The part that could be read was kept." if missing else ""


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
    """A folder that appears under its name only when it is complete; an older one makes way for it."""
    place.parent.mkdir(parents=True, exist_ok=True)
    temporary = place.with_name(f"{place.name}.{uuid.uuid4().hex}.part")
    temporary.mkdir()
    try:
        yield temporary
        try:
            temporary.rename(place)
        except OSError:  # an old one, or one that another process has made meanwhile: it can be made again
            old = place.with_name(f"{place.name}.{uuid.uuid4().hex}.part")
            place.rename(old)
            try:
                temporary.rename(place)
            except OSError:  # a third one was quicker: its copy is as good
                if not (place / ANALYSIS).exists():
                    raise
            shutil.rmtree(old, ignore_errors=True)
    finally:
        shutil.rmtree(temporary, ignore_errors=True)


@dataclass(frozen=True, slots=True)
class _Measured:
    frames: int
    loudness_lufs: float
    true_peak_dbtp: float
    levels_db: list[float]


def _measure(
    blocks: Iterator[Singles], folder: Path, rate: int, channels: int, expected: int, progress: Progress, silence: int
) -> _Measured:
    """One pass over the sound: samples and waveform to disk, behind silence; loudness, true peak, spectrum."""
    loudness, peak = LoudnessMeter(rate, channels), TruePeakMeter(channels)
    spectrum = LongTermSpectrum(rate, channels)
    peaks: list[npt.NDArray[np.float32]] = [np.zeros((silence // PEAK_FRAMES, 2), dtype=np.float32)]
    rest = np.zeros((silence % PEAK_FRAMES, channels), dtype=np.float32)
    frames = 0
    pending: list[Future[object]] = []
    meters: tuple[Callable[[Singles], object], ...] = (loudness.add, peak.add, spectrum.add)
    with (folder / SAMPLES).open("wb") as out, ThreadPoolExecutor(3) as pool:
        out.seek(4 * silence * channels)  # what was never written reads as zeros, and takes no room on most disks
        for x in blocks:
            for future in pending:
                future.result()
            # the meters release the interpreter lock: they run while the next block is decoded
            pending = [pool.submit(add, x) for add in meters]
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
    waveform = np.concatenate(peaks)
    with _new_array(folder / PEAKS, np.float32, waveform.shape) as file:
        file.write(waveform.tobytes())
    return _Measured(
        silence + frames,
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
    columns, deep = map_extent(len(x), rate)
    starts = range(0, columns, _MAP_COLUMNS_AT_ONCE)

    def part(first: int) -> Singles:
        count = min(_MAP_COLUMNS_AT_ONCE, columns - first)
        reach = time_map.reach
        low = max(0, first * hop - reach)
        high = min(len(x), (first + count + 4) * hop + reach)
        return time_map.columns(x[low:high], first * hop - low, count)

    lengths = [-(-columns // 2**level) for level in range(deep)]
    # straight to disk: three hours of map would fill a gigabyte of memory. Written, not mapped: on a full disk,
    # writing to a map kills the process
    within = min(len(lengths), _MAP_COLUMNS_AT_ONCE.bit_length())  # levels that a piece fills by itself
    rest: list[Singles] = []
    with ExitStack() as open_files, ThreadPoolExecutor(2) as pool:
        levels = [
            open_files.enter_context(_new_array(folder / map_name(i), np.uint8, (length, MAP_ROWS)))
            for i, length in enumerate(lengths)
        ]
        for i, power in enumerate(pool.map(part, starts)):
            for level in range(within):
                levels[level].write(map_bytes(power).tobytes())
                if level + 1 < within:
                    power = halve_columns(power)
            rest.append(power)
            progress((i + 1) / len(starts))
        power = np.concatenate(rest)
        for level in range(within, len(levels)):
            power = halve_columns(power)
            levels[level].write(map_bytes(power).tobytes())
    return columns, len(lengths)


def _new_array(path: Path, kind: npt.DTypeLike, shape: tuple[int, ...]) -> BinaryIO:
    """A file for an array that is written row by row, as `np.load` reads it."""
    file = path.open("wb")
    header = {"descr": np.lib.format.dtype_to_descr(np.dtype(kind)), "fortran_order": False, "shape": shape}
    np.lib.format.write_array_header_1_0(file, header)
    return file


def working_bytes(frames: int, channels: int, sample_rate: int) -> int:
    """What a working copy takes on disk, about: samples, and the map in all its levels."""
    columns = frames / map_hop(sample_rate)
    return round(4 * frames * channels + 2 * columns * MAP_ROWS + 8 * frames / PEAK_FRAMES + 100_000)
