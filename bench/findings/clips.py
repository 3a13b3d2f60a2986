"""The clean clips on disk: rendering them takes longer than anything that is done with them."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import TypeVar

import numpy as np

from bench.findings.sources import Source, all_sources, require_packages
from mivlo.core.units import Floats

Job = TypeVar("Job")

CACHE = Path(os.environ.get("MIVLO_BENCH_CACHE", "var/bench/findings"))
FOLDS = {
    "struck": ("drums", "percussion", "mallets"),
    "blown and bowed": ("strings", "brass", "winds", "voice"),
    "keys and strings plucked": ("keys", "guitar", "bass"),
}
"""Families that are left out together, so that what is said of one is said by networks that never heard it."""


def without(fold: str) -> Path:
    """Where the networks are kept that never heard the families of a fold."""
    return CACHE / f"without-{fold.replace(' ', '-')}.npz"


"""Networks that know nothing of the half that is tuned on, not even its instruments in another font."""


def clip(source: Source, take: int) -> Floats:
    """The clip of a take, from the cache or made now."""
    path = CACHE / "clips" / f"{re.sub(r'[^a-z0-9]+', '-', source.name.lower())}-{take}.npy"
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        partial = path.with_suffix(f".{os.getpid()}.part.npy")
        np.save(partial, source.clip(take).astype(np.float32))
        partial.replace(path)
    return np.asarray(np.load(path), dtype=np.float64)


def _make(job: tuple[int, int]) -> str:
    source = all_sources()[job[0]]
    try:
        clip(source, job[1])
    except Exception as refused:
        return f"{source.name}: {refused}"
    return ""


def for_all(work: Callable[[Job], str], jobs: Sequence[Job], workers: int) -> None:
    """Do something for every job, in parallel; what it says is printed."""
    with ProcessPoolExecutor(workers) as pool:
        for done, said in enumerate(pool.map(work, jobs, chunksize=4)):
            if said or done % 50 == 0:
                print(done, len(jobs), said, flush=True)


def for_every_take(work: Callable[[tuple[int, int]], str], takes: int, workers: int) -> None:
    """As `for_all`, for (number of a source, take)."""
    require_packages()
    for_all(work, [(i, take) for take in range(takes) for i in range(len(all_sources()))], workers)


if __name__ == "__main__":
    for_every_take(_make, *[int(a) for a in sys.argv[1:]] or (2, 2))
