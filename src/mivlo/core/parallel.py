"""The same work on several things at once, in the threads that compiled code leaves free."""

from __future__ import annotations

from collections.abc import Callable, Collection
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

Item = TypeVar("Item")
Made = TypeVar("Made")

_THREADS = 2


def in_parallel(
    work: Callable[[Item], Made], items: Collection[Item], progress: Callable[[float], None] | None = None
) -> list[Made]:
    """What `work` makes of each item, in their order.

    `progress` is told the share that is done, and may raise to give up: what has not begun is left undone.
    """
    made: list[Made] = []
    pool = ThreadPoolExecutor(_THREADS)
    try:
        for one in pool.map(work, items):
            made.append(one)
            if progress is not None:
                progress(len(made) / len(items))
    finally:
        pool.shutdown(cancel_futures=True)
    return made
