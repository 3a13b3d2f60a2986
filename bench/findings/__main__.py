"""Prints the table of figures, for known origins and for foreign ones: `python -m bench.findings` for what is held out,
with `tune` for what is looked at while something is made.

Known are sound fonts, kits and synthesised voices like those that were trained on, though other instruments; foreign
are recordings of other origins (`recorded.py`). `-v` names each clip with its repair and what was missed, `roles` says
of each what it is, `fresh` takes other clips of the same sources with other damage.
"""

from __future__ import annotations

import sys

from bench.findings.judge import FRESH_TAKES, TAKES, Verdict, cases, judge, table
from bench.findings.sources import RATE, Source, require_packages
from mivlo.core.findings import Finding, find
from mivlo.core.units import Floats

HALVES = {True: ("tune", "foreign"), False: ("held out", "foreign held out")}


def verdicts_of(half: str, *, verbose: bool = False, roles: bool = False, fresh: bool = False) -> list[Verdict]:
    """Every case of a half judged."""

    def search(x: Floats, source: Source) -> list[Finding]:
        return find(x[:, None], sample_rate=RATE, role=source.role if roles else None)

    verdicts: list[Verdict] = []
    for case in cases(half, FRESH_TAKES if fresh else TAKES):
        verdicts.append(judge(case, search))
        if verbose:
            v = verdicts[-1]
            print(f"{v.name:44} repair {v.repair:5.2f}  said of clean {v.said_of_clean}  missed {', '.join(v.missed)}")
    return verdicts


def main(*, tune: bool = False, verbose: bool = False, roles: bool = False, fresh: bool = False) -> None:
    require_packages()
    tables = [table(verdicts_of(half, verbose=verbose, roles=roles, fresh=fresh)) for half in HALVES[tune]]
    print(f"{'':48} {'known':>22} {'foreign':>22}")
    for (what, known, wanted), (_, foreign, _) in zip(*tables, strict=True):
        print(f"{what:48} {known:>22} {foreign:>22}   must {wanted}")


if __name__ == "__main__":
    main(tune="tune" in sys.argv, verbose="-v" in sys.argv, roles="roles" in sys.argv, fresh="fresh" in sys.argv)
