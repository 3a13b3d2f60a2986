"""Prints the table of figures, for known origins and for foreign ones: `python -m bench.findings` for what is held out,
with `tune` for what is looked at while something is made.

Known are sound fonts, kits and synthesised voices like those that were trained on, though other instruments; foreign
are recordings of other origins (`recorded.py`). `-v` names each clip with its repair and what was missed, `families`
adds a line for each family of instruments, `roles` says of each clip what it is, `fresh` takes other clips of the same
sources with other damage; `shells` damages by bodies whose modes ring, `rooms` by small rooms, not by single bells.
`long` takes tracks of 32 to 48 s, four takes of a source one after the other: a clip lasts 8 to 12 s, and what stays is
told from what is played by how much of it is heard.
"""

from __future__ import annotations

import sys

from bench.findings.damage import DAMAGES
from bench.findings.judge import FRESH_TAKES, TAKES, Verdict, cases, families, judge, long_cases, table
from bench.findings.sources import RATE, Source, require_packages
from mivlo.core.findings import Finding, find
from mivlo.core.units import Floats

HALVES = {True: ("tune", "foreign"), False: ("held out", "foreign held out")}


def verdicts_of(
    half: str,
    *,
    verbose: bool = False,
    roles: bool = False,
    fresh: bool = False,
    long: bool = False,
    how: str = "bells",
) -> list[Verdict]:
    """Every case of a half judged."""

    def search(x: Floats, source: Source) -> list[Finding]:
        return find(x[:, None], sample_rate=RATE, role=source.role if roles else None)

    verdicts: list[Verdict] = []
    for case in long_cases(half, how) if long else cases(half, FRESH_TAKES if fresh else TAKES, how):
        verdicts.append(judge(case, search))
        if verbose:
            v = verdicts[-1]
            print(f"{v.name:44} repair {v.repair:5.2f}  said of clean {v.said_of_clean}  missed {', '.join(v.missed)}")
    return verdicts


def main(
    *,
    tune: bool = False,
    verbose: bool = False,
    per_family: bool = False,
    roles: bool = False,
    fresh: bool = False,
    long: bool = False,
    how: str = "bells",
) -> None:
    require_packages()
    every = [verdicts_of(half, verbose=verbose, roles=roles, fresh=fresh, long=long, how=how) for half in HALVES[tune]]
    print(f"{'':48} {'known':>22} {'foreign':>22}")
    for (what, known, wanted), (_, foreign, _) in zip(*(table(verdicts) for verdicts in every), strict=True):
        print(f"{what:48} {known:>22} {foreign:>22}   must {wanted}")
    if per_family:
        for name, verdicts in zip(("known", "foreign"), every, strict=True):
            print(name, *families(verdicts), sep="\n  ")


if __name__ == "__main__":
    main(
        tune="tune" in sys.argv,
        verbose="-v" in sys.argv,
        per_family="families" in sys.argv,
        roles="roles" in sys.argv,
        fresh="fresh" in sys.argv,
        long="long" in sys.argv,
        how=next((how for how in DAMAGES if how in sys.argv), "bells"),
    )
