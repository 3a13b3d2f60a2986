"""Train the networks that say where a ring stands in another take (`mivlo/core/findings/place.npz`). Needs torch.

    python -m bench.findings.clips 2 2      # renders the clean clips
    python -m bench.findings.places build   # takes with rings and without, and other instruments made from them
    python -m bench.findings.places 2 7000  # two networks, so many steps each

Two takes of a source are a pair: of the first it is read how it sounds without its ring, in the second a ring of known
width and gain stands within a third octave of where it stood. Half of the rings are really there, the others are laid
over the contours. Learns from the sources of the kind "more"; "tune" is only watched.
"""

from __future__ import annotations

import sys
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import torch
from torch import nn
from torch.nn import functional

from bench.findings.clips import CACHE, FOLDS, clip, for_every_take
from bench.findings.damage import (
    LEAST_LIFT_DB,
    Bell,
    apply,
    is_audible,
    is_lifted,
    levels,
    lift_db,
    log_uniform,
)
from bench.findings.learning import Stack, Steps, kept, put
from bench.findings.sources import RATE, Source, all_sources
from bench.findings.spill import another_of
from bench.findings.variants import varied
from mivlo.core.findings import closer, place
from mivlo.core.findings.closer import POINTS_PER_OCTAVE, closer_contours, closer_grid
from mivlo.core.findings.cuts import bell_db
from mivlo.core.spectra import Singles, nearest_point
from mivlo.core.units import Floats

OUT = Path("src/mivlo/core/findings/place.npz")
GRID_HZ = closer_grid()
GRID_OCT = np.log2(GRID_HZ)
WIDTH, BATCH, DROPOUT = 64, 64, 0.2
VARIANTS = 5
RINGS = 5
TAKES = 2
_AT_BEST = 0.7
"""Points by which a place that is said may be off and still be called right by half."""
LEVELS = list(closer.LEVELS)


# --- what is learnt from --------------------------------------------------------------------------


def _path(number: int, take: int, variant: int) -> Path:
    return CACHE / "places" / f"{number}-{take}-{variant}.npz"


def _draw(random: np.random.Generator) -> Bell:
    usual = random.random() >= 0.6, random.random() >= 0.6
    octaves = 0.1 if usual[0] else log_uniform(random, 0.04, 0.4)
    gain = 14.0 if usual[1] else float(random.uniform(8, 18))
    return Bell(log_uniform(random, 95, 7_500), octaves, gain, False)


def _rung(clean: Floats, random: np.random.Generator) -> tuple[Floats, list[tuple[Bell, bool]]]:
    """Several rings, an octave apart, each with whether it lifts its own band by 3 dB."""
    before = levels(clean)
    bells: list[Bell] = []
    for _ in range(200):
        if len(bells) == RINGS:
            break
        bell = _draw(random)
        near = any(abs(np.log2(bell.frequency_hz / other.frequency_hz)) < 1.0 for other in bells)
        if not near and is_audible(bell, before):
            bells.append(bell)
    rung = apply(clean, tuple(bells))
    after = levels(rung)
    return rung, [(b, is_lifted(b, before, after)) for b in bells]


def _cut(x: Floats, random: np.random.Generator) -> Floats:
    """A passage of 4.5 s to all of it."""
    frames = min(int(random.uniform(4.5, 9.2) * RATE), len(x))
    first = int(random.integers(0, len(x) - frames + 1))
    return x[first : first + frames]


def _build(job: tuple[int, int]) -> str:
    number, take = job
    source = all_sources()[number]
    if source.half not in ("more", "tune"):
        return ""
    for variant in range(1 + VARIANTS if source.half == "more" else 1):
        path = _path(number, take, variant)
        if not path.exists():
            path.parent.mkdir(parents=True, exist_ok=True)
            _keep(path, _variant(source, number, take, variant), np.random.default_rng([number, take, variant, 778]))
    return ""


def _variant(source: Source, number: int, take: int, variant: int) -> Floats:
    """The clip as it is (0), or played by another instrument: the same one in both takes."""
    clean = clip(source, take)
    if not variant:
        return clean
    random = np.random.default_rng([number, variant, 777])
    fold = next(roles for roles in FOLDS.values() if source.role in roles)
    like = [s for s in all_sources() if s.half == source.half and s.role in fold]
    return varied(clean, random, another_of(like, random, (take,)))


def _keep(path: Path, clean: Floats, random: np.random.Generator) -> None:
    made = [_rung(clean, random) for _ in range(2)]
    sounds = [_cut(x, random) for x in (clean, *(rung for rung, _ in made))]
    views = np.stack([closer_contours(x.astype(np.float32), sample_rate=RATE) for x in sounds])
    rows = [
        [view, b.frequency_hz, b.octaves, b.gain_db, heard]
        for view, (_, bells) in enumerate(made, start=1)
        for b, heard in bells
    ]
    np.savez(path, views=views.astype(np.float16), bells=np.array(rows).reshape(-1, 5))


# --- pairs ----------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Take:
    """A take as the network sees it: rows per view (clean, then rung ones), the clean one's mean power, its rings."""

    rows: list[Singles]
    power_db: Singles
    bells: Floats


Key = tuple[int, int, int]


class Pairs:
    """Pairs of takes with a ring somewhere in the second."""

    def __init__(self, half: str, seed: int) -> None:
        self._random = np.random.default_rng(seed)
        self.takes: dict[Key, Take] = {}
        for number, source in enumerate(all_sources()):
            for key in [(number, t, v) for t in range(TAKES) for v in range(1 + VARIANTS)]:
                if source.half == half and _path(*key).exists():
                    with np.load(_path(*key)) as found:
                        views = [v.astype(np.float32) for v in found["views"]]
                        rows = [closer.rows_of(v).astype(np.float16) for v in views]
                        self.takes[key] = Take(rows, views[0][0], found["bells"])
        self._keys = list(self.takes)
        self._rings = [(key, row) for key, take in self.takes.items() for row in take.bells if row[4]]

    def __len__(self) -> int:
        return len(self._rings)

    def batch(self, count: int, *, watched: bool = False) -> tuple[torch.Tensor, torch.Tensor]:
        made = [self._one(watched) for _ in range(count)]
        inputs = torch.from_numpy(np.stack([x for x, _ in made]))
        return inputs, torch.tensor([at for _, at in made], dtype=torch.float32)

    def _one(self, watched: bool) -> tuple[Singles, float]:
        random = self._random
        there = watched or random.random() < 0.5
        key, bell, view = self._really(watched) if there else self._laid_over()
        take = self.takes[key]
        by = random.uniform(-0.25, 0.25) if watched else random.uniform(-1 / 3, 1 / 3)
        hz = bell.frequency_hz * 2.0**-by
        point = nearest_point(GRID_HZ, hz)
        at = (np.log2(bell.frequency_hz) - GRID_OCT[point]) * POINTS_PER_OCTAVE
        x = place.around(take.rows[view], point).astype(np.float32)
        over = np.zeros(len(GRID_OCT)) if there else _bell(bell)
        if not watched and random.random() < 0.25:
            over = over + _bell(self._beside(bell))  # the second take has troubles of its own
        x[LEVELS] += place.around(closer.over_surroundings(over)[None], point)
        first = self._first(key, point, watched)
        if not watched:
            x[LEVELS] += self._colour()
            if first is not None:
                first = first + self._colour()
        told = bell if watched or random.random() < 0.6 else self._about(bell)
        made = place.place_input(x, first, octaves=told.octaves, gain_db=told.gain_db, hz=hz)
        return made, float(np.clip(at, -place.REACH, place.REACH))

    def _really(self, watched: bool) -> tuple[Key, Bell, int]:
        while True:
            key, (view, hz, octaves, gain, _) = self._rings[int(self._random.integers(len(self._rings)))]
            if not watched or octaves == 0.1:
                return key, Bell(hz, octaves, gain, False), int(view)

    def _laid_over(self) -> tuple[Key, Bell, int]:
        """A ring that is laid over the contours of a clean take: true where it rings shorter than a window."""
        while True:
            key = self._keys[int(self._random.integers(len(self._keys)))]
            power, bell = self.takes[key].power_db, _draw(self._random)
            if bell.frequency_hz < 150.0 or bell.frequency_hz * bell.octaves < 12.0:
                continue
            at = nearest_point(GRID_HZ, bell.frequency_hz)
            band = slice(max(0, at - 4), at + 5)
            heard = np.max(power[band]) > np.max(power) - 50.0
            if heard and lift_db(power[band], _bell(bell)[band]) >= LEAST_LIFT_DB:
                return key, bell, 0

    def _about(self, bell: Bell) -> Bell:
        """What a hand cut that was not the ring's exact inverse says of it."""
        octaves = bell.octaves * float(np.exp(self._random.normal(0.0, 0.3)))
        return Bell(bell.frequency_hz, octaves, max(3.0, bell.gain_db + float(self._random.normal(0.0, 2.5))), False)

    def _beside(self, bell: Bell) -> Bell:
        random = self._random
        away = float(random.choice([-1.0, 1.0]) * random.uniform(0.2, 0.8))
        octaves = log_uniform(random, 0.04, 0.8)
        return Bell(bell.frequency_hz * 2.0**away, octaves, float(random.uniform(-10, 10)), False)

    def _first(self, key: Key, point: int, watched: bool) -> Singles | None:
        """The first take without its ring: mostly the same instrument, sometimes another or none."""
        number, take, variant = key
        other = number, 1 - take, variant
        if not watched and self._random.random() < 0.08:
            other = self._keys[int(self._random.integers(len(self._keys)))]
        if other not in self.takes or (not watched and self._random.random() < 0.25):
            return None
        return place.around(self.takes[other].rows[0][list(place.FIRST_TAKE)], point).astype(np.float32)

    def _colour(self) -> Floats:
        away = np.linspace(-1.0, 1.0, 2 * place.HALF + 1)
        a, b = self._random.normal(0.0, 0.15, 2)
        return np.asarray(a * away + b * away**2, dtype=np.float32)


def _bell(bell: Bell) -> Floats:
    return bell_db(GRID_OCT, float(np.log2(bell.frequency_hz)), bell.octaves, bell.gain_db)


# --- the network ----------------------------------------------------------------------------------


class Network(Stack):
    def __init__(self) -> None:
        super().__init__(place.CHANNELS, 1, WIDTH, place.DILATIONS, DROPOUT)

    def forward(self, x: torch.Tensor) -> torch.Tensor:
        """Log-odds (batch, places within reach)."""
        return super().forward(x)[:, 0, place.HALF - place.REACH : place.HALF + place.REACH + 1]


def loss_of(said: torch.Tensor, at: torch.Tensor) -> torch.Tensor:
    points = torch.arange(-place.REACH, place.REACH + 1).float()
    right = torch.exp(-0.5 * ((points[None] - at[:, None]) / _AT_BEST) ** 2)
    right = right / right.sum(1, keepdim=True)
    return -(right * functional.log_softmax(said, 1)).sum(1).mean()


def _told(said: torch.Tensor, at: torch.Tensor) -> str:
    found = [place.likeliest(share)[0] for share in torch.softmax(said, 1).numpy()]
    cents = 1200.0 / POINTS_PER_OCTAVE * np.abs(np.array(found) - at.numpy())
    within = " / ".join(f"{100 * np.mean(cents < limit):.1f}" for limit in (10, 25))
    return f"loss {float(loss_of(said, at)):.3f}, within 10 / 25 cents {within} %, median {np.median(cents):.1f}"


def train(seed: int, pairs: Pairs, watched: tuple[torch.Tensor, torch.Tensor], steps: int) -> nn.Module:
    torch.manual_seed(seed)
    network = Network()
    learning = Steps(network, steps, rate=2e-3, decay=0.03)
    began, total = time.time(), 0.0
    with ThreadPoolExecutor(1) as pool:
        coming = pool.submit(pairs.batch, BATCH)
        for step in range(1, steps + 1):
            inputs, at = coming.result()
            coming = pool.submit(pairs.batch, BATCH)
            network.train()
            loss = loss_of(network(inputs + 0.03 * torch.randn_like(inputs)), at)
            total += learning.take(loss)
            if step % 500 == 0 or step == steps:
                learning.average.eval()
                with torch.no_grad():
                    said = torch.cat(
                        [learning.average(watched[0][i : i + 128]) for i in range(0, len(watched[0]), 128)]
                    )
                print(
                    seed,
                    step,
                    f"{total / 500:.3f}",
                    _told(said, watched[1]),
                    f"{time.time() - began:.0f} s",
                    flush=True,
                )
                total = 0.0
    return learning.average.module


def main(networks: int = 2, steps: int = 7_000, first: int = 0) -> None:
    """Train the networks `first` to `networks` - 1; those before them are kept as they are."""
    torch.set_num_threads(2)
    watched = Pairs("tune", 99).batch(1_500, watched=True)
    made = kept(OUT, first)
    for seed in range(first, networks):
        pairs = Pairs("more", seed)
        print("takes", len(pairs.takes), "rings", len(pairs), "channels", watched[0].shape[1], flush=True)
        put(OUT, made, seed, train(seed, pairs, watched, steps))


if __name__ == "__main__":
    numbers = [int(a) for a in sys.argv[1:] if a.isdigit()]
    if "build" in sys.argv:
        for_every_take(_build, TAKES, 2)
    else:
        main(*numbers)
