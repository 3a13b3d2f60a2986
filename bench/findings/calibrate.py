"""Measure how often a spot is real, by its evidence, and put the table into the model that ships.

    python -m bench.findings.calibrate

Looks at the half that is tuned on: each clip damaged twice in other ways than it was trained on, and once clean, with
networks that share neither samples nor instruments with it. Those that ship know its instruments from other fonts and
would seem to be right more often than they are.
The table is an isotonic regression (`scipy.optimize.isotonic_regression`), thinned to a few points.
"""

from __future__ import annotations

import numpy as np
from scipy.optimize import isotonic_regression

from bench.findings.clips import APART, clip
from bench.findings.damage import Bell, damage
from bench.findings.dataset import contours_of
from bench.findings.judge import means
from bench.findings.sources import all_sources
from mivlo.core.findings.confidence import evidence_score
from mivlo.core.findings.cuts import Spot, fit_together, spots_of
from mivlo.core.findings.network import Model, read_contours, read_model
from mivlo.core.units import Floats

OUT = "src/mivlo/core/findings/model.npz"
Seen = list[tuple[float, bool]]


def _spots(x: Floats, model: Model, role: str) -> list[Spot]:
    """What is said of it, with and without knowing what it is."""
    contours = contours_of(x)
    readings = [read_contours(contours, model, role=known) for known in (None, role)]
    return [spot for reading in readings for spot in fit_together(spots_of(reading), reading)]


def _count(spots: list[Spot], bells: tuple[Bell, ...], seen: dict[str, Seen]) -> None:
    for spot in spots:
        real = any(means(spot.frequency_hz, spot.octaves, bell) for bell in bells)
        seen["broad" if spot.broad else "narrow"].append((evidence_score(spot), real))


def table(seen: Seen) -> Floats:
    """(2, n): evidence, rising, and the share of real ones among those with about so much of it."""
    at, real = np.array(sorted(seen), dtype=np.float64).T
    share = isotonic_regression(real).x
    # the ends are pulled towards what so few examples can say
    share = np.clip(share, 0.02, 1.0 - 1.0 / (np.sum(real) + 2.0))
    chosen = np.unique(np.linspace(0, len(at) - 1, min(25, len(at))).astype(int))
    middle = [float(np.mean(share[max(0, i - len(at) // 50) : i + len(at) // 50 + 1])) for i in chosen]
    return np.stack([at[chosen], np.maximum.accumulate(middle)])


def main(takes: int = 2) -> None:
    with APART.open("rb") as file:
        model = read_model(file)
    seen: dict[str, Seen] = {"narrow": [], "broad": []}
    for number, source in enumerate(s for s in all_sources() if s.half == "tune"):
        for take in range(takes):
            clean = clip(source, take)
            of_clean = _spots(clean, model, source.role)
            for again in range(2):
                _count(of_clean, (), seen)  # a track without trouble is as likely as one with some
                damaged, bells = damage(clean, np.random.default_rng([31, number, take, again]))
                _count(_spots(damaged, model, source.role), bells, seen)
    with np.load(OUT) as found:
        kept = {name: found[name] for name in found.files}
    for sort, rows in seen.items():
        kept[sort] = table(rows)
        print(sort, len(rows), np.round(kept[sort], 2).tolist())
    np.savez_compressed(OUT, **kept)


if __name__ == "__main__":
    main()
