"""`make bench`: every measured promise, as one table. Names after it choose some of them."""

from __future__ import annotations

import platform
import sys

from bench import chain, finding, gesture, importing, mixing

PARTS = {
    "chain": chain.measure,
    "find": finding.measure,
    "import": importing.measure,
    "mix": mixing.measure,
    "gesture": gesture.measure,
}


def main() -> None:
    chosen = sys.argv[1:] or list(PARTS)
    print(f"Python {platform.python_version()}, {platform.machine()}\n")
    print("| what | measured | asked for |\n| --- | --- | --- |")
    for name in chosen:
        for what, measured, wanted in PARTS[name]():
            print(f"| {what} | {measured} | {wanted} |", flush=True)


if __name__ == "__main__":
    main()
