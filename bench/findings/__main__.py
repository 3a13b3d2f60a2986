"""Prints the table of figures: `python -m bench.findings` for the held-out half, `... tune` for the one tuned on.

`... tune -v` names each clip with its repair and what was missed; `... tune roles` says of each what it is.
"""

from __future__ import annotations

import sys

from bench.findings.judge import Verdict, cases, judge, table
from bench.findings.sources import RATE, Source
from mivlo.core.findings import Finding, find
from mivlo.core.units import Floats


def main(half: str = "held out", *, verbose: bool = False, roles: bool = False) -> None:
    def search(x: Floats, source: Source) -> list[Finding]:
        return find(x[:, None], sample_rate=RATE, role=source.role if roles else None)

    verdicts: list[Verdict] = []
    for case in cases(half):
        verdicts.append(judge(case, search))
        if verbose:
            v = verdicts[-1]
            print(
                f"{v.name:44} repair {v.repair:5.2f}  said of clean {v.said_of_clean}  missed {', '.join(v.missed)}"
            )
    for what, measured, wanted in table(verdicts):
        print(f"{what:48} {measured:>16}   must {wanted}")


if __name__ == "__main__":
    main("tune" if "tune" in sys.argv else "held out", verbose="-v" in sys.argv, roles="roles" in sys.argv)
