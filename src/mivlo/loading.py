"""Programs that run for long load what they need at once; all of it stays."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def loading() -> Iterator[None]:
    """What is imported within is not searched for garbage: a sixth of the time meanwhile, and pauses for ever after."""
    gc.disable()
    try:
        yield
        gc.freeze()
    finally:
        gc.enable()
