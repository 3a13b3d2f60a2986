"""Prints the table of figures: `python -m bench.findings` for the held-out half, with `tune` for the one tuned on.

`-v` names each clip with its repair and what was missed, `roles` says of each what it is, `fresh` takes other clips
of the same sources with other damage.
"""

from __future__ import annotations

import sys

from bench.findings.judge import FRESH_TAKES, TAKES, Verdict, cases, judge, table
from bench.findings.sources import RATE, Source, require_packages
from mivlo.core.findings import Finding, find
from mivlo.core.units import Floats


def main(half: str = "held out", *, verbose: bool = False, roles: bool = False, fresh: bool = False) -> None:
    def search(x: Floats, source: Source) -> list[Finding]:
        return find(x[:, None], sample_rate=RATE, role=source.role if roles else None)

    require_packages()
    verdicts: list[Verdict] = []
    for case in cases(half, FRESH_TAKES if fresh else TAKES):
        verdicts.append(judge(case, search))
        if verbose:
            v = verdicts[-1]
            print(f"{v.name:44} repair {v.repair:5.2f}  said of clean {v.said_of_clean}  missed {', '.join(v.missed)}")
    for what, measured, wanted in table(verdicts):
        print(f"{what:48} {measured:>16}   must {wanted}")


if __name__ == "__main__":
    main(
        "tune" if "tune" in sys.argv else "held out",
        verbose="-v" in sys.argv,
        roles="roles" in sys.argv,
        fresh="fresh" in sys.argv,
    )
