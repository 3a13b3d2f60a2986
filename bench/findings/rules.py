"""How often what the rules say of hum and rumble is true, and what would fit best: `python -m bench.findings.rules`.

Clips as they are, with the rumble of traffic, with hum, and with both, at levels from hardly to plainly audible. The
sources are those that are looked at while something is made; with `held`, those that are held out.
"""

from __future__ import annotations

import sys
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import numpy as np
from scipy.optimize import minimize
from scipy.signal import butter, sosfilt

from bench.findings.clips import clip
from bench.findings.sources import RATE, all_sources
from mivlo.core.findings.frames import look
from mivlo.core.findings.hum import find_hum
from mivlo.core.findings.rumble import find_rumble
from mivlo.core.roles import Role
from mivlo.core.units import Floats

TAKES = (0, 1)


@dataclass(frozen=True, slots=True)
class Said:
    """One thing that was said: what it was said by, how sure, and whether it is so."""

    witnesses: tuple[float, ...]
    confidence: float
    real: bool


def _rumble(random: np.random.Generator, n: int) -> Floats:
    """Traffic: noise between some 20 and 60 Hz that swells."""
    low, high = float(random.uniform(16.0, 30.0)), float(random.uniform(38.0, 62.0))
    noise = sosfilt(butter(2, (low, high), btype="bandpass", fs=RATE, output="sos"), random.standard_normal(n))
    t = np.arange(n) / RATE
    swell = 10.0 ** (float(random.uniform(0.0, 8.0)) * np.sin(2 * np.pi * t / float(random.uniform(3.0, 12.0))) / 20.0)
    return np.asarray(noise / np.std(noise) * swell)


def _hum(random: np.random.Generator, n: int) -> Floats:
    mains = float(random.choice([50.0, 60.0])) * float(random.uniform(0.9995, 1.0005))
    t = np.arange(n) / RATE
    tilt = float(random.uniform(0.3, 1.5))
    parts = [np.sin(2 * np.pi * mains * k * t + k) * float(random.uniform(0.2, 1.0)) / k**tilt for k in range(1, 9)]
    out = np.sum(parts, axis=0)
    return np.asarray(out / np.std(out))


def _looked_at(job: tuple[int, int]) -> tuple[list[Said], list[Said]]:
    number, take = job
    source = all_sources()[number]
    x = clip(source, take)
    random = np.random.default_rng([31, number, take])
    level = float(np.std(x))
    rumbles, hums = [], []
    for has_rumble in (False, True):
        for has_hum in (False, True):
            y = x.copy()
            if has_rumble:
                y += _rumble(random, len(x)) * level * 10.0 ** (random.uniform(-42.0, -10.0) / 20.0)
            if has_hum:
                y += _hum(random, len(x)) * level * 10.0 ** (random.uniform(-55.0, -20.0) / 20.0)
            view = look(y[:, None], 0, len(y), sample_rate=RATE, progress=lambda share: None)
            rumble, hum = find_rumble(view, Role(source.role)), find_hum(view)
            if rumble is not None:
                rumbles.append(Said(rumble.witnesses, rumble.confidence, has_rumble))
            if hum is not None:
                over = float(np.mean([db for _, db in hum.lines]))
                hums.append(Said((float(len(hum.lines)), over), hum.confidence, has_hum))
    return rumbles, hums


def _fitted(said: Sequence[Said]) -> Floats:
    """Weights of the witnesses and a constant, of least log-loss with a little ridge."""
    x = np.array([[*s.witnesses, 1.0] for s in said])
    y = np.array([s.real for s in said], dtype=np.float64)
    scale = np.maximum(np.std(x, axis=0), 1e-9)
    scale[-1] = 1.0

    def loss(w: Floats) -> float:
        odds = x @ (w / scale)
        return float(np.sum(np.logaddexp(0.0, odds) - y * odds) + 0.5 * np.sum(w[:-1] ** 2))

    return np.asarray(minimize(loss, np.zeros(x.shape[1])).x / scale)


def print_said(name: str, said: Sequence[Said]) -> None:
    """Of what was said, by how sure it was, how much is so; half of the clips have the trouble."""
    print(f"{name}: said {len(said)} times, {sum(s.real for s in said)} of them where it is")
    for low, high in ((0.0, 0.4), (0.4, 0.7), (0.7, 1.01)):
        some = [s for s in said if low <= s.confidence < high]
        if some:
            told, real = np.mean([s.confidence for s in some]), np.mean([s.real for s in some])
            print(f"  {low} to {high}: said {told:.2f} real {real:.2f} of {len(some)}")
    if said:
        print("  weights and constant that fit best", np.round(_fitted(said), 3).tolist())


def main(halves: tuple[str, ...]) -> None:
    jobs = [(i, t) for i, s in enumerate(all_sources()) if s.half in halves for t in TAKES]
    with ProcessPoolExecutor(2) as pool:
        both = list(pool.map(_looked_at, jobs, chunksize=4))
    for name, said in (("rumble", [s for a, _ in both for s in a]), ("hum", [s for _, b in both for s in b])):
        print_said(name, said)


if __name__ == "__main__":
    main(("held out", "foreign held out") if "held" in sys.argv else ("tune", "foreign"))
