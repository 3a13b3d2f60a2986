"""Contours of damaged and clean clips with what was done to them: what the network learns from and is tested on."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from bench.findings.clips import CACHE, clip, for_every_take
from bench.findings.damage import Bell, damage, draw_bell, draw_wider
from bench.findings.sources import RATE, Source, all_sources
from mivlo.core.findings.contours import all_contours
from mivlo.core.findings.frames import frame_levels, make_parts
from mivlo.core.units import Floats

DAMAGES = 3
TAKES = 4


@dataclass(frozen=True, slots=True)
class Example:
    """A clip as the network sees it. `bells` is empty for a clean one."""

    source: str
    half: str
    role: str
    contours: Floats
    bells: tuple[Bell, ...]


def contours_of(x: Floats) -> Floats:
    parts = make_parts(RATE)
    return all_contours([frame_levels([x[:, None]], p) for p in parts], parts)


def _path(source: Source, take: int) -> Path:
    return CACHE / "examples" / f"{source.name.replace(' ', '-')}-{take}.npz"


def _build(job: tuple[int, int]) -> str:
    source = all_sources()[job[0]]
    path = _path(source, job[1])
    if path.exists() or source.half not in ("more", "tune"):
        return ""
    path.parent.mkdir(parents=True, exist_ok=True)
    try:
        clean = clip(source, job[1])
    except Exception as refused:
        return f"{source.name}: {refused}"
    random = np.random.default_rng([job[0], job[1], 77])
    draw = draw_bell if source.half == "tune" else draw_wider
    views, done = [contours_of(clean)], [np.zeros((0, 4))]
    for _ in range(DAMAGES):
        damaged, bells = damage(clean, random, draw)
        views.append(contours_of(damaged))
        done.append(np.array([[b.frequency_hz, b.octaves, b.gain_db, b.hump] for b in bells]).reshape(-1, 4))
    lengths = np.array([len(d) for d in done])
    np.savez(path, contours=np.stack(views).astype(np.float32), bells=np.concatenate(done), lengths=lengths)
    return ""


def load(
    halves: tuple[str, ...], takes: int = TAKES, *, leave_out: Callable[[Source], bool] | None = None
) -> list[Example]:
    """All examples of these halves that have been built, without some sources."""
    out = []
    for source in all_sources():
        if source.half not in halves or (leave_out is not None and leave_out(source)):
            continue
        for take in range(takes):
            path = _path(source, take)
            if not path.exists():
                continue
            with np.load(path) as found:
                cuts = np.split(found["bells"], np.cumsum(found["lengths"])[:-1])
                for contours, rows in zip(found["contours"], cuts, strict=True):
                    bells = tuple(Bell(f, o, g, bool(h)) for f, o, g, h in rows)
                    out.append(Example(source.name, source.half, source.role, contours, bells))
    return out


if __name__ == "__main__":
    for_every_take(_build, *[int(a) for a in sys.argv[1:]] or (TAKES, 2))
