"""Prints the table of figures: `python -m bench.clashes` for the held-out half, with `tune` for the one tuned on.

`-v` names each scene with what was found. `quick` leaves out carves and the comparison.
"""

from __future__ import annotations

import sys

from bench.clashes.judge import carve, look, table
from bench.clashes.scenes import scenes
from bench.findings.sources import require_packages


def main(half: str, *, verbose: bool, quick: bool) -> None:
    require_packages()
    found, carved = [], []
    for scene in scenes(half):
        one = look(scene, compare=not quick and scene.kind == "natural")
        found.append(one)
        if verbose:
            print(f"{scene.name:12} {scene.kind:12} place {one.place}  false {one.false}", flush=True)
        if not quick and scene.kind != "planted":
            carved.append(carve(scene))
            if verbose:
                c = carved[-1]
                print(
                    f"{'':12} gained {c.gained:.4f} of {c.promised:.4f} promised, lost {c.lost_lu:.2f} LU", flush=True
                )
    for what, measured, wanted in table(found, carved):
        print(f"{what:48} {measured:>16}   {wanted}")


if __name__ == "__main__":
    main("tune" if "tune" in sys.argv else "held out", verbose="-v" in sys.argv, quick="quick" in sys.argv)
