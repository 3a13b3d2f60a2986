"""The figures: what is found of what was planted, what is said of controls, what carves do on the rendered sound."""

from __future__ import annotations

import math
import time
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.stats import spearmanr

from bench.clashes import reference
from bench.clashes.scenes import ClashScene
from bench.findings.sources import RATE
from mivlo.core.clashes import Carve, Clash, Limits
from mivlo.core.loudness import gated_loudness
from mivlo.core.units import Floats
from mivlo.services.clashes.files import FileScene, carved_blocks, treatments_of

FALSE = 0.1


@dataclass(frozen=True, slots=True)
class Found:
    """What was found in a scene. place : of the planted clash in the list, from 0; None where it is not in it."""

    scene: ClashScene
    place: int | None
    false: int
    kept: tuple[float, ...]
    reference: tuple[float, ...]
    seconds: float


@dataclass(frozen=True, slots=True)
class Carved:
    """What freeing the first track of a scene did."""

    scene: ClashScene
    carves: tuple[Carve, ...]
    gained: float
    promised: float
    lost_lu: float
    gained_sones: float
    lost_sones: float
    seconds: float


def overlap(a: tuple[float, float], b: tuple[float, float]) -> float:
    """What two ranges share of what they cover together, in octaves."""
    low, high = max(a[0], b[0]), min(a[1], b[1])
    return max(0.0, math.log2(high / low)) / math.log2(max(a[1], b[1]) / min(a[0], b[0])) if high > low else 0.0


def _is(clash: Clash, scene: ClashScene) -> bool:
    p = scene.planted
    assert p is not None
    right = clash.covered == p.covered and clash.by == p.by
    return right and overlap((clash.from_hz, clash.to_hz), (p.from_hz, p.to_hz)) >= 0.3


def look(scene: ClashScene, *, compare: bool) -> Found:
    """Find the clashes of a scene."""
    begun = time.perf_counter()
    heard = FileScene.of([x[:, None] for x in scene.tracks], sample_rate=RATE)
    surveyed = heard.survey()
    lost, clashes = surveyed.losses, surveyed.clashes
    seconds = time.perf_counter() - begun
    place = next((n for n, c in enumerate(clashes) if _is(c, scene)), None) if scene.planted else None
    other = tuple(reference.kept(scene.tracks, RATE)) if compare else ()
    kept = tuple(loss.kept_share for loss in lost)
    return Found(scene, place, sum(c.lost > FALSE for c in clashes), kept, other, seconds)


def carve(scene: ClashScene) -> Carved:
    """Free the first track of a scene, and measure it on the rendered sound."""
    begun = time.perf_counter()
    sounds = [x[:, None] for x in scene.tracks]
    heard = FileScene.of(sounds, sample_rate=RATE)
    surveyed = heard.survey()
    carves = heard.free(0, surveyed.clashes, Limits())
    after = list(sounds)
    for on, treatment in treatments_of(carves).items():
        after[on] = np.concatenate(list(carved_blocks(sounds[on], treatment, sounds[0], sample_rate=RATE)))
    seconds = time.perf_counter() - begun
    before, then = surveyed.losses, FileScene.of(after, sample_rate=RATE).survey().losses
    lu = sum(_lufs(a) - _lufs(b) for a, b in zip(sounds[1:], after[1:], strict=True))
    lost = sum(a.loudness - b.loudness for a, b in zip(before[1:], then[1:], strict=True))
    gained = then[0].among_all - before[0].among_all
    share = then[0].kept_share - before[0].kept_share
    promised = sum(c.effect.gained_sones for c in carves) / max(before[0].loudness, 1e-9)
    return Carved(scene, tuple(carves), share, promised, lu, gained, lost, seconds)


def _lufs(x: Floats) -> float:
    return gated_loudness(x, sample_rate=RATE)


def table(found: Sequence[Found], carved: Sequence[Carved]) -> list[tuple[str, str, str]]:
    """What, measured, and what is asked for (must; aim)."""
    planted = [f for f in found if f.scene.planted]
    controls = [f for f in found if f.scene.kind.startswith(("other", "far"))]
    compared = [f for f in found if f.reference]
    rows = []
    if planted:
        first, second = (np.mean([f.place is not None and f.place < n for f in planted]) for n in (1, 2))
        rows.append(("planted clash first / among the first two", f"{first:.0%} / {second:.0%}", "55 / 80; 80 / 90 %"))
        rows.append(
            ("planted clash anywhere in the list", f"{np.mean([f.place is not None for f in planted]):.0%}", "")
        )
    for kind in sorted({f.scene.kind for f in controls}):
        own = [f.false for f in controls if f.scene.kind == kind]
        rows.append((f"false clashes a control pair, {kind}", f"{np.mean(own):.2f}", ""))
    if controls:
        rows.append(("false clashes a control pair", f"{np.mean([f.false for f in controls]):.2f}", "0.2; 0"))
    if compared:
        ours, plain = (np.concatenate([getattr(f, n) for f in compared]) for n in ("kept", "reference"))
        rows.append(("rank correlation of kept with the plain model", f"{spearmanr(ours, plain)[0]:.3f}", "0.88; 0.94"))
    natural = [c for c in carved if c.scene.kind == "natural"]
    if natural:
        gain, lu = np.mean([c.gained for c in natural]), np.mean([c.lost_lu for c in natural])
        ratio = sum(c.gained_sones for c in natural) / max(1e-9, sum(c.lost_sones for c in natural))
        kept_promise = [c.gained / c.promised for c in natural if c.promised > 0]
        rows.append(("carve: gain of kept / LU lost", f"{gain:.3f} / {lu:.2f}", ".014 / 0.9; .022 / 0.5"))
        rows.append(("carve: sones gained per sone lost", f"{ratio:.2f}", ".37; .48"))
        rows.append(("carve: least of what was promised", f"{min(kept_promise, default=1.0):.2f}", "0.8"))
        rows.append(("carve: s a pair", f"{np.mean([c.seconds for c in natural]):.1f}", ""))
    still = [c for c in carved if c.scene.kind.startswith(("other", "far"))]
    if still:
        rows.append(("carve: most LU changed of a control pair", f"{max(abs(c.lost_lu) for c in still):.3f}", "0.05"))
    return rows
