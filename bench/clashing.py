"""How long all against all takes, and how it grows with tracks and minutes."""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import soundfile

from mivlo.core.clashes import survey
from mivlo.services.clashes.files import FileScene

RATE = 48_000


def _tracks(count: int, seconds: float) -> list[np.ndarray]:  # type: ignore[type-arg]
    """Stereo tracks that play notes of noise in bands of their own, which overlap."""
    random = np.random.default_rng(3)
    n = round(seconds * RATE)
    out = []
    for number in range(count):
        f = np.fft.rfftfreq(1 << 16, 1 / RATE)
        centre = 80.0 * 1.35**number
        shape = np.exp(-0.5 * (np.log2(np.maximum(f, 1.0) / centre) / 0.8) ** 2)
        grain = np.fft.irfft(shape * np.exp(2j * np.pi * random.random(len(f))), 1 << 16)
        x = np.tile(grain / np.std(grain), n // len(grain) + 1)[:n]
        notes = np.repeat(random.random(n // 12_000 + 1) > 0.4, 12_000)[:n]
        out.append(np.stack([x * notes * 0.05, x * notes * 0.04], axis=1).astype(np.float32))
    return out


def _all_against_all(count: int, seconds: float) -> float:
    sounds = _tracks(count, seconds)
    begun = time.perf_counter()
    survey(FileScene.of(sounds, sample_rate=RATE).scene)
    return time.perf_counter() - begun


def _command(*words: str) -> float:
    begun = time.perf_counter()
    subprocess.run([sys.executable, "-m", "mivlo.cli", *words], check=True, capture_output=True)
    return time.perf_counter() - begun


def measure() -> Iterator[tuple[str, str, str]]:
    """What, measured, asked for."""
    _all_against_all(2, 2.0)  # compiled code is loaded
    for count, seconds in ((4, 60.0), (8, 60.0), (16, 60.0), (16, 240.0)):
        took = _all_against_all(count, seconds)
        wanted = "60 s, aim 30" if (count, seconds) == (16, 240.0) else ""
        yield f"all against all, {count} stereo tracks of {seconds / 60:.0f} min", f"{took:.1f} s", wanted
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    samples = 16 * 240.0 * RATE * 2 * 4 / 1e9
    yield "its memory, without the tracks' samples", f"{peak - samples:.2f} GB", "2 GB"
    with tempfile.TemporaryDirectory() as folder:
        paths = [str(Path(folder) / f"{name}.wav") for name in "ab"]
        for path, x in zip(paths, _tracks(2, 9.0), strict=True):
            soundfile.write(path, x, RATE)
        yield "mivlo clash, two tracks of 9 s", f"{_command('clash', *paths, '--json'):.1f} s", "4 s"
        carve = _command("carve", *paths, "--keep", paths[0], "-o", str(Path(folder) / "out"))
        yield "mivlo carve, two tracks of 9 s", f"{carve:.1f} s", "8 s"


if __name__ == "__main__":
    for row in measure():
        print(*row, sep=" | ")
