"""`make bench`: every measured promise, as one table. Names choose some of them: `python -m bench mix start`."""

from __future__ import annotations

import argparse
import platform
from importlib import import_module

PARTS = {
    "chain": "bench.chain",
    "clash": "bench.clashing",
    "crowd": "bench.crowded",
    "find": "bench.finding",
    "import": "bench.importing",
    "mix": "bench.mixing",
    "gesture": "bench.gesture",
    "listeners": "bench.listeners",
    "listening": "bench.listening",
    "start": "bench.starting",
    "twins": "bench.twins",
}
"""Names and modules; a module is loaded when it is asked for."""


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m bench", description=__doc__)
    says = f"any of {', '.join(PARTS)}; all if left out"
    parser.add_argument("part", metavar="PART", nargs="*", choices=[*PARTS, []], help=says)
    chosen = parser.parse_args().part or list(PARTS)
    print(f"Python {platform.python_version()}, {platform.machine()}\n")
    print("| what | measured | asked for |\n| --- | --- | --- |")
    for name in chosen:
        for what, measured, wanted in import_module(PARTS[name]).measure():
            print(f"| {what} | {measured} | {wanted} |", flush=True)


if __name__ == "__main__":
    main()
