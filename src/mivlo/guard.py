"""Stops a database when the process that started this one is gone, however it went: `python -m mivlo.guard FOLDER`.

It waits for the end of its standard input, which the other process holds open. The word "done" before that end
means that nothing is left to be stopped.
"""

from __future__ import annotations

import signal
import sys
from pathlib import Path


def main() -> None:
    for number in (signal.SIGINT, signal.SIGHUP, signal.SIGTERM):
        signal.signal(number, signal.SIG_IGN)
    if sys.stdin.buffer.read() == b"done":
        return
    from mivlo.cluster import Cluster

    Cluster(Path(sys.argv[1]), 0).stop()


if __name__ == "__main__":
    main()
