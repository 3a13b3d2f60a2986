"""Contours of damaged and clean clips with what was done to them: what the networks learn from and are tested on.

python -m bench.findings.dataset        # sources as they are, then other instruments made from them
python -m bench.findings.dataset recordings # what networks go on with that shall hear recordings, too; the closer look

Of each clip there are the contours that most networks read and those of the closer look, under VIEWS.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from bench.findings.clips import CACHE, FOLDS, clip, for_all
from bench.findings.damage import Bell, Draw, Sound, damage, draw_bell, draw_wider
from bench.findings.made import made_up
from bench.findings.origins import learnt_by
from bench.findings.sources import RATE, Source, all_sources, require_packages
from bench.findings.spill import another_of, damaged_beside, spill, spill_of_half
from bench.findings.variants import varied
from mivlo.core.findings.closer import closer_contours
from mivlo.core.findings.contours import all_contours
from mivlo.core.findings.frames import frame_levels, make_parts
from mivlo.core.units import Floats


@dataclass(frozen=True, slots=True)
class Amount:
    """How much is made to learn from.

    takes, variants : of each source of the kind "more", and other instruments made from each take, each damaged as the
    benchmark does, and wider. recorded_takes, recorded_variants : the same of what the benchmark judges.
    made_up : instruments that nobody built, a clip of each. spilled : clips beside which others are heard.
    """

    takes: int = 2
    variants: int = 5
    recorded_takes: int = 2
    recorded_variants: int = 0
    made_up: int = 1_400
    spilled: int = 1_200
    views: tuple[str, ...] = ("examples", "closer")

    def of(self, source: Source) -> tuple[int, int]:
        """Takes of a source and variants of each."""
        if source.half == "more":
            return self.takes, self.variants
        return (0, 0) if learnt_by(source) is None else (self.recorded_takes, self.recorded_variants)


WHOLE = Amount()
JUDGED = Amount(variants=0, made_up=0, spilled=0)
"""Of what is watched while a network learns."""
RECORDINGS = Amount(1, 1, 2, 2, 500, 250, ("closer",))
"""To go on with: all recordings, and some of what was learnt from before, so that it is not forgotten."""


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


def _build(job: tuple[int, int, Amount]) -> str:
    number, take, amount = job
    source = all_sources()[number]
    try:
        clean = clip(source, take)
    except Exception as refused:
        return f"{source.name}: {refused}"
    draw = draw_wider if source.half == "more" else draw_bell
    make = _damaged(lambda _: clean, draw, draw, draw)
    _keep(_name(source, take), make, np.random.default_rng([number, take, 77]), amount.views)
    _vary(number, take, clean, amount)
    if source.half != "more" and take == 0:

        def beside(random: np.random.Generator) -> list[Sound]:
            return _beside(clean, spill_of_half(source, clean, random, range(2)), random, draw_bell)

        _keep(_beside_name(source), beside, np.random.default_rng([number, 79]), amount.views)
    return ""


def _like(source: Source) -> list[Source]:
    """What may sound beside a source: of the fold of families, or what the same network learns from."""
    if source.half == "more":
        fold = next(roles for roles in FOLDS.values() if source.role in roles)
        return [s for s in all_sources() if s.half == "more" and s.role in fold]
    return [s for s in all_sources() if s.half == source.half and learnt_by(s) == learnt_by(source)]


def _vary(number: int, take: int, clean: Floats, amount: Amount) -> None:
    """Other instruments from a clip."""
    source = all_sources()[number]
    takes, variants = amount.of(source)
    like = _like(source)
    for variant in range(variants):
        random = np.random.default_rng([number, take, variant, 2_026])
        another = another_of(like, random, range(takes))
        made = _damaged(lambda r, other=another: varied(clean, r, other), draw_bell, draw_wider)
        _keep(_name(source, take, variant), made, random, amount.views)


def _make_up(job: tuple[int, Amount]) -> str:
    number, amount = job
    random = np.random.default_rng([number, 8_642])
    _keep(_made_up_name(number), _damaged(made_up, draw_bell, draw_wider), random, amount.views)
    return ""


def _spill(job: tuple[int, Amount]) -> str:
    """A clip of any instrument, another made from it or one that nobody built, and what is heard beside it."""
    number, amount = job
    sources = [s for s in all_sources() if s.half == "more"]

    def make(random: np.random.Generator) -> list[Sound]:
        another = another_of(sources, random, range(amount.takes))
        kind = random.random()
        clean = made_up(random) if kind < 0.2 else another()
        if kind >= 0.5:
            clean = varied(clean, random, another)
        return _beside(clean, spill(clean, random, another), random, draw_bell, draw_wider)

    _keep(_spilled_name(number), make, np.random.default_rng([number, 9_753]), amount.views)
    return ""


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


def _keep(
    name: str,
    make: Callable[[np.random.Generator], list[Sound]],
    random: np.random.Generator,
    views: Sequence[str],
) -> None:
    """Sounds of one source, in a file for each view; what is there already stays."""
    wanted = [view for view in views if not _path(view, name).exists()]
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


def load(wanted: Callable[[Source], bool], *, view: str = "examples", amount: Amount = WHOLE) -> list[Example]:
    """All examples that have been built, up to an amount, of the sources that are wanted.

    Those that nobody built and clips in which any source may be heard are of none, and only the amount says how many.
    """
    out = []
    for source in filter(wanted, all_sources()):
        numbers = (None, *range(amount.variants))
        names = [(_name(source, take, n), False) for take in range(amount.takes) for n in numbers]
        for name, beside in (*names, (_beside_name(source), True)):
            out += _read(_path(view, name), source.name, source.half, source.role, beside=beside)
    made = [(_made_up_name(n), False) for n in range(amount.made_up)]
    for name, beside in made + [(_spilled_name(n), True) for n in range(amount.spilled)]:
        out += _read(_path(view, name), name, "more", "", beside=beside)
    return out


def _read(path: Path, name: str, half: str, role: str, *, beside: bool = False) -> Iterator[Example]:
    if not path.exists():
        return
    with np.load(path) as found:
        cuts = np.split(found["bells"], np.cumsum(found["lengths"])[:-1])
        for contours, rows in zip(found["contours"], cuts, strict=True):
            yield Example(name, half, role, contours, tuple(Bell(f, o, g, bool(h)) for f, o, g, h in rows), beside)


def build(amount: Amount, workers: int = 2) -> None:
    """Make all that is not there yet."""
    require_packages()
    for_all(_make_up, [(n, amount) for n in range(amount.made_up)], workers)
    takes = [(i, t, amount) for i, source in enumerate(all_sources()) for t in range(amount.of(source)[0])]
    for_all(_build, takes, workers)
    for_all(_spill, [(n, amount) for n in range(amount.spilled)], workers)


if __name__ == "__main__":
    build(RECORDINGS if "recordings" in sys.argv else WHOLE)
