"""How long tests wait for what has to come: a busy machine is slow, not wrong."""

import time
from collections.abc import Callable
from functools import lru_cache

import httpx

PATIENCE_S = 120.0


def until(done: Callable[[], object], otherwise: str = "it does not come", most_s: float = PATIENCE_S) -> float:
    """Wait for something that nobody tells; how long it took."""
    began = time.monotonic()
    while not done():
        assert time.monotonic() - began < most_s, otherwise
        time.sleep(0.05)
    return time.monotonic() - began


# requests that say nothing else; httpx itself would give up after 5 s
for _step in ("connect", "read", "write", "pool"):
    setattr(httpx._config.DEFAULT_TIMEOUT_CONFIG, _step, PATIENCE_S)

# each request would read all certificates anew, which took most of the time of processes that test by requests
httpx._transports.default.create_ssl_context = lru_cache(httpx.create_ssl_context)  # type: ignore[attr-defined]
