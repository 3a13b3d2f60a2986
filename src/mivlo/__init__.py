"""Mivlo: find and cut what rings, booms and masks on instrument tracks."""

import os

__version__ = "0.3.0"


def compute_in_one_thread() -> None:
    """To be called before numpy is loaded, by whoever starts a process.

    What is computed is too small for numpy's own threads to share: they would wait for each other at full speed.
    Several things are computed at a time instead.
    """
    for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
        os.environ.setdefault(name, "1")
