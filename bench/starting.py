"""How long the command line takes to start: whole processes, against those that only import what it can't do without.

Inside: the interpreter's start, imports, and for `find` a mono file of 10 s. The runs alternate; the median counts.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile

ROUNDS = 7


def _seconds(*command: str) -> float:
    start = time.perf_counter()
    subprocess.run([sys.executable, *command], check=True, stdout=subprocess.DEVNULL, env=os.environ)
    return time.perf_counter() - start


def _ratio(ours: tuple[str, ...], reference: tuple[str, ...]) -> tuple[float, float]:
    runs = [(_seconds(*ours), _seconds(*reference)) for _ in range(ROUNDS)]
    return statistics.median(a for a, _ in runs), statistics.median(a / b for a, b in runs)


def measure() -> list[tuple[str, str, str]]:
    helped, over_numpy = _ratio(("-m", "mivlo.cli", "--help"), ("-c", "import numpy"))
    with tempfile.TemporaryDirectory() as folder:
        take = Path(folder) / "take.wav"
        soundfile.write(take, np.random.default_rng(1).standard_normal(480_000) * 0.05, 48_000)
        found, over_base = _ratio(("-m", "mivlo.cli", "find", str(take)), ("-c", "import numpy, scipy.signal, numba"))
    return [
        ("`mivlo --help`: time, and over `import numpy`", f"{helped:.2f} s, {over_numpy:.1f}", "4"),
        (
            "`mivlo find` of 10 s: time, and over `import numpy, scipy.signal, numba`",
            f"{found:.2f} s, {over_base:.2f}",
            "1.5",
        ),
    ]
