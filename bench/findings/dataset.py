"""Contours of damaged and clean clips with what was done to them: what the networks learn from and are tested on.

python -m bench.findings.dataset        # sources as they are, then other instruments made from them

Of each clip there are the contours that most networks read and those of the closer look, under VIEWS.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from bench.findings.clips import CACHE, FOLDS, clip, for_every_take
from bench.findings.damage import Bell, Draw, Sound, damage, draw_bell, draw_wider
from bench.findings.made import made_up
from bench.findings.sources import RATE, Source, all_sources
from bench.findings.spill import another_of, damaged_beside, spill, spill_of_half
from bench.findings.variants import varied
from mivlo.core.findings.closer import closer_contours
from mivlo.core.findings.contours import all_contours
from mivlo.core.findings.frames import frame_levels, make_parts
from mivlo.core.units import Floats

TAKES = 2
VARIANTS = 5
"""Other instruments made from each take of what is learnt from, each damaged as the benchmark does, and wider."""
MADE_UP = 1_400
"""Instruments that nobody built, a clip of each."""
SPILLED = 1_200
"""Clips beside which others are heard."""


@dataclass(frozen=True, slots=True)
class Example:
    """A clip as a network sees it. `bells` is empty for a clean one; `beside` says whether others are heard in it."""

    source: str
    half: str
    role: str
    contours: Floats
    bells: tuple[Bell, ...]
    beside: bool = False


def contours_of(x: Floats) -> Floats:
    parts = make_parts(RATE)
    return all_contours([frame_levels([x[:, None]], p) for p in parts], parts)


def _closer_of(x: Floats) -> Floats:
    return closer_contours(x.astype(np.float32), sample_rate=RATE).astype(np.float16)


VIEWS: dict[str, Callable[[Floats], Floats]] = {"examples": contours_of, "closer": _closer_of}
"""By the folder that each is kept in."""


def _name(source: Source, take: int, variant: int | None = None) -> str:
    other = "" if variant is None else f"-other{variant}"
    return f"{source.name.replace(' ', '-')}-{take}{other}"


def _made_up_name(number: int) -> str:
    return f"made-up-{number}"


def _spilled_name(number: int) -> str:
    return f"spilled-{number}"


def _beside_name(source: Source) -> str:
    return f"{_name(source, 0)}-beside"


def _path(view: str, name: str) -> Path:
    return CACHE / view / f"{name}.npz"


def _build(job: tuple[int, int]) -> str:
    source = all_sources()[job[0]]
    if source.half not in ("more", "tune", "foreign"):
        return ""
    try:
        clean = clip(source, job[1])
    except Exception as refused:
        return f"{source.name}: {refused}"
    draw = draw_wider if source.half == "more" else draw_bell
    _keep(_name(source, job[1]), _damaged(lambda _: clean, draw, draw, draw), np.random.default_rng([*job, 77]))
    if source.half == "more":
        _vary(job, source, clean)
    elif job[1] == 0:

        def make(random: np.random.Generator) -> list[Sound]:
            return _beside(clean, spill_of_half(source, clean, random, range(TAKES)), random, draw_bell)

        _keep(_beside_name(source), make, np.random.default_rng([job[0], 79]))
    return ""


def _vary(job: tuple[int, int], source: Source, clean: Floats) -> None:
    """Other instruments from a clip; what sounds beside it is of the same fold, which may be left out together."""
    fold = next(roles for roles in FOLDS.values() if source.role in roles)
    like = [s for s in all_sources() if s.half == "more" and s.role in fold]
    for variant in range(VARIANTS):
        random = np.random.default_rng([*job, variant, 2_026])

        name, another = _name(source, job[1], variant), another_of(like, random, range(TAKES))
        made = _damaged(lambda random, other=another: varied(clean, random, other), draw_bell, draw_wider)
        _keep(name, made, random)


def _make_up(number: int) -> None:
    _keep(_made_up_name(number), _damaged(made_up, draw_bell, draw_wider), np.random.default_rng([number, 8_642]))


def _spill(number: int) -> None:
    """A clip of any instrument, another made from it or one that nobody built, and what is heard beside it."""
    sources = [s for s in all_sources() if s.half == "more"]

    def make(random: np.random.Generator) -> list[Sound]:
        another = another_of(sources, random, range(TAKES))
        kind = random.random()
        clean = made_up(random) if kind < 0.2 else another()
        if kind >= 0.5:
            clean = varied(clean, random, another)
        return _beside(clean, spill(clean, random, another), random, draw_bell, draw_wider)

    _keep(_spilled_name(number), make, np.random.default_rng([number, 9_753]))


def _beside(clean: Floats, beside: Floats, random: np.random.Generator, *draws: Draw) -> list[Sound]:
    """A clip with what is heard of others beside it, as it is and damaged."""
    return [(clean + beside, ()), *(damaged_beside(clean, beside, random, draw) for draw in draws)]


def _damaged(
    make: Callable[[np.random.Generator], Floats], *draws: Draw
) -> Callable[[np.random.Generator], list[Sound]]:
    """A clip as it is and damaged."""

    def sounds(random: np.random.Generator) -> list[Sound]:
        clean = make(random)
        return [(clean, ()), *(damage(clean, random, draw) for draw in draws)]

    return sounds


def _keep(name: str, make: Callable[[np.random.Generator], list[Sound]], random: np.random.Generator) -> None:
    """Sounds of one source, in a file for each view; what is there already stays."""
    wanted = [view for view in VIEWS if not _path(view, name).exists()]
    if not wanted:
        return
    sounds = make(random)
    done = [np.array([[b.frequency_hz, b.octaves, b.gain_db, b.hump] for b in bells]) for _, bells in sounds]
    lengths = np.array([len(d) for d in done])
    bells = np.concatenate([d.reshape(-1, 4) for d in done])
    for view in wanted:
        path = _path(view, name)
        path.parent.mkdir(parents=True, exist_ok=True)
        np.savez(path, contours=np.stack([VIEWS[view](x) for x, _ in sounds]), bells=bells, lengths=lengths)


def load(
    halves: tuple[str, ...],
    takes: int = TAKES,
    *,
    view: str = "examples",
    leave_out: Callable[[Source], bool] | None = None,
) -> list[Example]:
    """All examples of these halves that have been built, without some sources; with what was made of them."""
    out = []
    for source in all_sources():
        if source.half not in halves or (leave_out is not None and leave_out(source)):
            continue
        paths = [_path(view, _name(source, take, v)) for take in range(takes) for v in (None, *range(VARIANTS))]
        for path in (p for p in paths if p.exists()):
            out += _read(path, source.name, source.half, source.role)
        if (path := _path(view, _beside_name(source))).exists():
            out += _read(path, source.name, source.half, source.role, beside=True)
    if "more" in halves:
        made = [(_made_up_name(n), False) for n in range(MADE_UP)]
        if leave_out is None:  # in spill anything may be heard
            made += [(_spilled_name(n), True) for n in range(SPILLED)]
        for name, beside in made:
            if (path := _path(view, name)).exists():
                out += _read(path, name, "more", "", beside=beside)
    return out


def _read(path: Path, name: str, half: str, role: str, *, beside: bool = False) -> Iterator[Example]:
    with np.load(path) as found:
        cuts = np.split(found["bells"], np.cumsum(found["lengths"])[:-1])
        for contours, rows in zip(found["contours"], cuts, strict=True):
            yield Example(name, half, role, contours, tuple(Bell(f, o, g, bool(h)) for f, o, g, h in rows), beside)


if __name__ == "__main__":
    takes, workers = [int(a) for a in sys.argv[1:]] or (TAKES, 2)
    with ProcessPoolExecutor(workers) as pool:
        list(pool.map(_make_up, range(MADE_UP), chunksize=4))
        list(pool.map(_spill, range(SPILLED), chunksize=4))
    for_every_take(_build, takes, workers)
