"""Prints the table of figures, for known origins and for foreign ones: `python -m bench.findings`; with `tune` for the
half of each that is looked at while something is made, with `held` for the other.

Known are sound fonts, kits and synthesised voices like those that were trained on, though other instruments; foreign
are recordings of other origins (`recorded.py`). The networks heard none of them, nor did the second opinion by which
a clip is judged hear its source (`parted.py`); `shipped` asks the one that ships, which did. `-v` names each clip
with its repair and what was missed, `families` adds a line for each family of instruments, `roles` says of each clip
what it is, `fresh` takes other clips of the same sources with other damage; `lone` damages by a single bell, `shells`
by bodies whose modes ring, `rooms` by small rooms, not by two or three bells. `long` takes tracks of 32 to 48 s, four
takes of a source one after the other: a clip lasts 8 to 12 s, and what stays is told from what is played by how much
of it is heard. `spill` takes clips in whose microphone others of them are heard, 18 to 46 dB below; `song` tracks of
about a minute, with rests, of which that is true, with the others' tracks at hand, `song alone` the same without
them.
"""

from __future__ import annotations

import sys
from collections.abc import Collection, Iterable
from concurrent.futures import ProcessPoolExecutor

from bench.findings.damage import DAMAGES
from bench.findings.judge import (
    FRESH_TAKES,
    TAKES,
    Case,
    Verdict,
    cases,
    cases_beside,
    families,
    judge,
    long_cases,
    song_cases,
    table,
)
from bench.findings.parted import model_without
from bench.findings.sources import FOREIGN, KNOWN, RATE, require_packages
from bench.findings.unseen import UNSEEN
from mivlo.core.findings import Finding, Search
from mivlo.core.roles import Role
from mivlo.core.units import Floats


def chosen(half: str, words: Collection[str]) -> Iterable[Case]:
    """The clips of a half that the words of the command ask for."""
    how = next((how for how in DAMAGES if how in words), "bells")
    takes = FRESH_TAKES if "fresh" in words else TAKES
    if "song" in words:
        return song_cases(half)
    if "long" in words:
        return long_cases(half, how)
    return cases_beside(half, takes) if "spill" in words else cases(half, takes, how)


def verdicts_of(half: str, words: Collection[str]) -> list[Verdict]:
    """Every case of a half judged."""

    def search(x: Floats, case: Case) -> list[Finding]:
        role = Role(case.source.role) if "roles" in words else None
        others = [] if "alone" in words else [other[:, None] for other in case.others]
        model = None if "shipped" in words or half == UNSEEN else model_without(case.source)
        return Search(x[:, None], sample_rate=RATE, role=role, others=others, model=model).findings()

    verdicts: list[Verdict] = []
    for case in chosen(half, words):
        verdicts.append(judge(case, search))
        if "-v" in words:
            v = verdicts[-1]
            print(f"{v.name:44} repair {v.repair:5.2f}  said of clean {v.said_of_clean}  missed {', '.join(v.missed)}")
    return verdicts


def main(words: Collection[str]) -> None:
    require_packages()
    of = slice(1) if "tune" in words else slice(1, 2) if "held" in words else slice(2)
    columns = {UNSEEN: (UNSEEN,)} if UNSEEN in words else {"known": KNOWN[of], "foreign": FOREIGN[of]}
    with ProcessPoolExecutor(2) as pool:
        coming = [[pool.submit(verdicts_of, half, words) for half in halves] for halves in columns.values()]
        every = [[verdict for half in halves for verdict in half.result()] for halves in coming]
    print(f"{'':48}", *(f"{name:>22}" for name in columns))
    for rows in zip(*(table(verdicts) for verdicts in every), strict=True):
        what, _, wanted = rows[0]
        print(f"{what:48}", *(f"{measured:>22}" for _, measured, _ in rows), wanted and f"  must {wanted}")
    if "families" in words:
        for name, verdicts in zip(columns, every, strict=True):
            print(name, *families(verdicts), sep="\n  ")


if __name__ == "__main__":
    main(sys.argv[1:])
