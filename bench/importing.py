"""Import with analysis and map of a 4 minute stereo track at 44.1 kHz into a song at 48 kHz; opening it.

Inside the measured part of the import: reading, resampling, loudness, true peak, spectrum, waveform, map
in all levels, everything on disk. Not inside: the upload, starting Python. Opening is what the bench asks
for first: the map's frame, its coarsest level, the tiles of a passage, and the profile of the passage.
"""

from __future__ import annotations

import statistics
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile

from mivlo.audio.cache import LocalCache
from mivlo.audio.objects import ObjectStore
from mivlo.audio.originals import Originals
from mivlo.core.spectra import log_grid, long_term_levels

SECONDS, RATE, ROUNDS = 240, 44_100, 3


@dataclass(frozen=True)
class _Recording:
    audio_sha256: str
    file_name: str
    starts_at_s: float = 0.0


def measure() -> list[tuple[str, str, str]]:
    random = np.random.default_rng(1)
    imports, opens = [], []
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "four-minutes.wav"
        for round_ in range(ROUNDS + 1):
            tone = np.sin(2 * np.pi * (200 + round_) * np.arange(SECONDS * RATE) / RATE)[:, None] * 0.2
            soundfile.write(path, tone + random.standard_normal((SECONDS * RATE, 2)) * 0.05, RATE, subtype="PCM_24")
            store = ObjectStore(f"{folder}/store")
            recording = _Recording(Originals(store, Path(folder) / "incoming").keep_file(path), path.name)
            files = LocalCache(Path(folder), store)
            start = time.perf_counter()
            known = files.make(recording, 48_000)
            imports.append(time.perf_counter() - start)
            start = time.perf_counter()
            files.map_level(recording, 48_000, known.map_levels - 1).tobytes()
            files.map_level(recording, 48_000, 0)[:1_024].tobytes()
            x = files.samples(recording, 48_000)[48_000 : 48_000 * 9]
            long_term_levels(x, log_grid(), sample_rate=48_000, bands_per_octave=24)
            opens.append(time.perf_counter() - start)
    return [
        (
            "import of 4 min stereo with analysis and map (median of 3, first run left out)",
            f"{statistics.median(imports[1:]):.1f} s",
            "6 s",
        ),
        ("what the bench asks for when it opens", f"{1000 * statistics.median(opens[1:]):.0f} ms", "1 s"),
    ]
