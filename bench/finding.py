"""Speed and memory of the search, in processes of their own; reading the file is inside, starting Python is not."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import soundfile

RATE = 48_000

_MEASURE = """
import json, resource, sys, time
from mivlo.audio.decode import FileSamples
from mivlo.core.findings import Search
import numpy as np
warm = np.random.default_rng(0).standard_normal((RATE := 48_000, 1)) * 0.1
Search(warm, sample_rate=RATE).findings()
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
began, used = time.perf_counter(), time.process_time()
sound = FileSamples(__import__("pathlib").Path(sys.argv[1]))
search = Search(sound, sample_rate=RATE, role=sys.argv[2])
count = len(search.findings())
along = time.perf_counter()
search.along()
now = time.perf_counter()
print(json.dumps({"s": along - began, "along": now - along, "cpu": time.process_time() - used, "findings": count,
                  "mb": resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024}))
"""


def _file(folder: Path, seconds: int, channels: int) -> Path:
    """Music-like: bursts of filtered noise with tones that change."""
    path = folder / f"{seconds}-{channels}.wav"
    random = np.random.default_rng(1)
    with soundfile.SoundFile(path, "w", RATE, channels, "PCM_16") as file:
        for _ in range(seconds // 10):
            t = np.arange(10 * RATE) / RATE
            x = random.standard_normal((len(t), channels)) * 0.05 * np.exp(-(t % 0.5) / 0.1)[:, None]
            for _ in range(6):
                x += (
                    0.05
                    * np.sin(2 * np.pi * random.uniform(80, 2_000) * t)[:, None]
                    * (t > random.uniform(0, 8))[:, None]
                )
            file.write(np.clip(x, -1, 1))
    return path


def _run(path: Path, role: str) -> dict[str, float]:
    one_core = {**os.environ, "OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1", "NUMBA_NUM_THREADS": "1"}
    done = subprocess.run(
        [sys.executable, "-c", _MEASURE, str(path), role], env=one_core, capture_output=True, text=True, check=True
    )
    return dict(json.loads(done.stdout))


def measure() -> Iterator[tuple[str, str, str]]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        four = _run(_file(folder, 240, 2), "keys")
        yield "findings of 4 min stereo at 48 kHz, one core", f"{four['s']:.1f} s", "4 s"
        yield "the evidence at every frequency besides", f"{four['along']:.1f} s", ""
        yield "memory of that process at most", f"{four['mb']:.0f} MB", "600 MB"
        path = _file(folder, 3_600, 1)
        for role in ("voice", "strings"):
            hour = _run(path, role)
            yield f"findings of an hour of mono ({role}: moments in all of it)", f"{hour['s']:.1f} s", "60 s"
            yield "memory of that process at most", f"{hour['mb']:.0f} MB", "not growing with length"
