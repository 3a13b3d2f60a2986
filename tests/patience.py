"""How long tests wait for what has to come: a busy machine is slow, not wrong."""

import httpx

PATIENCE_S = 120.0

# requests that say nothing else; httpx itself would give up after 5 s
for _step in ("connect", "read", "write", "pool"):
    setattr(httpx._config.DEFAULT_TIMEOUT_CONFIG, _step, PATIENCE_S)
