"""Prints the table of figures: `python -m bench.findings` for the held-out half, `... tune` for the one tuned on.

`... tune -v` names each clip with its repair and what was missed.
"""

from __future__ import annotations

import sys

from bench.findings.damage import RATE
from bench.findings.judge import Verdict, cases, judge, table
from mivlo.core.findings import find


def main(half: str = "held out", *, verbose: bool = False) -> None:
    verdicts: list[Verdict] = []
    for case in cases(half):
        verdicts.append(judge(case, lambda x: find(x[:, None], sample_rate=RATE)))
        if verbose:
            v = verdicts[-1]
            print(
                f"{v.name:44} repair {v.repair:5.2f}  said of clean {v.said_of_clean}  missed {', '.join(v.missed)}"
            )
    for what, measured, wanted in table(verdicts):
        print(f"{what:48} {measured:>16}   must {wanted}")


if __name__ == "__main__":
    main("tune" if "tune" in sys.argv else "held out", verbose="-v" in sys.argv)
