"""Train the networks that ship in `mivlo/core/findings/model.npz`. Needs torch (`pip install torch==2.13.0`).

    python -m bench.findings.clips 4 2      # renders the clean clips
    python -m bench.findings.dataset        # damages them, and other instruments made from them
    python -m bench.findings.train 3 21     # three networks
    python -m bench.findings.train widen 15 # of each two neighbours one more, twice as wide, that goes on learning
    python -m bench.findings.train further 8 0 1 2 # those that ship go on, with sources that came later
    python -m bench.findings.train ship 0 1 2      # and are put in place of what they were
    python -m bench.findings.train keep 0 3 4      # those that still say something beside the closer look
    python -m bench.findings.train 2 16 foreign # for each group of families, two that never heard it
    python -m bench.findings.second look    # what those say, and what speaks for and against it
    python -m bench.findings.second         # how often that is true

Learns from the sources of the kind "more"; "tune" and "foreign" only say when it is enough; what is held out is not
read.
"""

from __future__ import annotations

import copy
import os
import sys
import time
from collections.abc import Callable, Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import numpy as np
import torch
from scipy.interpolate import CubicSpline
from torch import nn
from torch.nn import functional

from bench.findings.clips import CACHE, FOLDS, without
from bench.findings.damage import LEAST_LIFT_DB, Bell, draw_bell, draw_wider, lift_db
from bench.findings.dataset import JUDGED, WHOLE, Example, load
from bench.findings.learning import Arrays, Stack, Steps, kept, put
from bench.findings.origins import learnt_by
from bench.findings.sources import Source
from mivlo.core.findings.cuts import bell_db
from mivlo.core.findings.frames import POINTS_PER_OCTAVE, finding_grid
from mivlo.core.findings.network import DILATIONS, HEADS, ROLES, Weights, input_of_boost, network_input, weights_in
from mivlo.core.spectra import nearest_point

OUT = Path("src/mivlo/core/findings/model.npz")
WIDTH = 48
BATCH = 32
ROLE_ROWS = slice(-1 - len(ROLES), -1)
TARGETS = len(HEADS) + 2
"""As HEADS, then where the parameters of narrow and of broad ones count."""


@dataclass(frozen=True)
class View:
    """What a network looks at.

    examples : of `dataset.VIEWS`. grid_hz : (n,), so many points an octave. inputs : of contours and a role.
    of_boost : what a boost over the grid adds to them. blur : points about the centre of a narrow one that are nearly
    right.
    """

    examples: str
    grid_hz: np.ndarray
    points_per_octave: int
    inputs: Callable[..., np.ndarray]
    of_boost: Callable[[np.ndarray], np.ndarray]
    dilations: tuple[int, ...]
    blur: float

    @cached_property
    def octaves(self) -> np.ndarray:
        return np.log2(self.grid_hz)

    @cached_property
    def colours(self) -> np.ndarray:
        """Seven smooth curves whose sums are the colours of microphones."""
        return np.asarray(CubicSpline(np.linspace(0, 1, 7), np.eye(7))(np.linspace(0, 1, len(self.grid_hz))).T)

    @property
    def fine(self) -> int:
        """Points for each one of the grid on which findings are looked for."""
        return self.points_per_octave // POINTS_PER_OCTAVE


USUAL = View("examples", finding_grid(), POINTS_PER_OCTAVE, network_input, input_of_boost, DILATIONS, 1.2)


class Network(Stack):
    def __init__(self, channels: int, width: int = WIDTH, view: View = USUAL) -> None:
        super().__init__(channels, len(HEADS), width, view.dilations)
        nn.init.constant_(self.last.bias, 0.0)
        with torch.no_grad():
            self.last.weight.mul_(0.3)
            self.last.bias[HEADS.index("centre")] = -4.0
            self.last.bias[HEADS.index("hump_centre")] = -4.0


def side_by_side(one: Weights, other: Weights) -> Network:
    """A network twice as wide that says what two say in the mean; what joins them is still nothing."""
    network = Network(one["first.weight"].shape[1], 2 * WIDTH)
    joined = {}
    for name, value in one.items():
        a, b = torch.from_numpy(value), torch.from_numpy(other[name])
        if name == "last.bias":
            joined[name] = (a + b) / 2.0
        elif name == "last.weight":
            joined[name] = torch.cat([a, b], dim=1) / 2.0
        elif name.endswith("bias") or name == "first.weight":
            joined[name] = torch.cat([a, b])
        else:
            nothing = torch.zeros_like(a)
            joined[name] = torch.cat([torch.cat([a, nothing], dim=1), torch.cat([nothing, b], dim=1)])
    network.load_state_dict(joined)
    return network


def boost_db(bells: Iterable[Bell], view: View = USUAL) -> np.ndarray:
    """(grid,) what bells add together, as drawn (the filters' own digital form lies within .1 dB of it)."""
    octaves = view.octaves
    each = (bell_db(octaves, np.log2(b.frequency_hz), b.octaves, b.gain_db) for b in bells)
    return sum(each, np.zeros(len(octaves)))


def targets(bells: tuple[Bell, ...], view: View = USUAL) -> np.ndarray:
    """(TARGETS, grid) of a view; offsets are in points of the usual grid: networks of all views say the same."""
    fine = view.fine
    at = np.arange(len(view.octaves))
    out = np.zeros((TARGETS, len(at)), dtype=np.float32)
    for row, humps in ((0, False), (1, True)):
        out[row] = boost_db((b for b in bells if b.hump is humps), view) / 10.0
    for bell in bells:
        place = np.interp(np.log2(bell.frequency_hz), view.octaves, at)
        blur = fine * 6.0 if bell.hump else view.blur
        heat = np.exp(-0.5 * ((at - round(place)) / blur) ** 2)
        row = 3 if bell.hump else 2
        out[row] = np.maximum(out[row], heat)
        near = np.abs(at - place) <= fine * (8 if bell.hump else 2)
        first = 7 if bell.hump else 4
        out[first, near] = np.log2(bell.octaves) + (0.0 if bell.hump else 3.0)
        out[first + 1, near] = bell.gain_db / 10.0
        out[first + 2, near] = (place - at[near]) / fine / (8.0 if bell.hump else 1.0)
        out[11 if bell.hump else 10, near] = 1.0
    return out


def loss_of(said: torch.Tensor, true: torch.Tensor) -> torch.Tensor:
    curves = functional.smooth_l1_loss(said[:, :2], true[:, :2], beta=0.2, reduction="none")
    weight = 1.0 + 4.0 * true[:, :2]
    total = 8.0 * (curves * weight).mean()
    for head in (2, 3):
        heat, p = true[:, head], torch.sigmoid(said[:, head]).clamp(1e-5, 1 - 1e-5)
        exact = (heat > 0.999).float()
        focal = -(exact * (1 - p) ** 2 * torch.log(p) + (1 - exact) * (1 - heat) ** 4 * p**2 * torch.log(1 - p))
        total = total + 0.5 * focal.sum() / exact.sum().clamp(min=1.0)
    for first, mask in ((4, true[:, 10]), (7, true[:, 11])):
        apart = functional.smooth_l1_loss(
            said[:, first : first + 3], true[:, first : first + 3], beta=0.1, reduction="none"
        )
        total = total + (apart * mask[:, None]).sum() / mask.sum().clamp(min=1.0)
    return total


class Supply:
    """Batches of examples, each perhaps damaged a little more and moved up or down.

    More damage is laid over the contours as the curve of a bell: true for bells that ring shorter than a
    window; the others come from really damaged sound only.
    """

    def __init__(self, examples: list[Example], seed: int, view: View = USUAL) -> None:
        self._random = np.random.default_rng(seed)
        self._examples, self._view = examples, view
        self._inputs = np.stack([view.inputs(e.contours, e.role).astype(np.float16) for e in examples])
        self._power = np.stack([e.contours[0].astype(np.float32) for e in examples])

    def epoch(self) -> list[np.ndarray]:
        order = self._random.permutation(len(self._examples))
        return [order[i : i + BATCH] for i in range(0, len(order) - BATCH + 1, BATCH)]

    def batch(self, rows: np.ndarray) -> tuple[torch.Tensor, torch.Tensor]:
        made = [self._one(int(i)) for i in rows]
        x = torch.from_numpy(np.stack([a for a, _ in made]))
        y = torch.from_numpy(np.stack([b for _, b in made]))
        return shifted(x, y, self._random, self._view.points_per_octave // 4)

    def _one(self, i: int) -> tuple[np.ndarray, np.ndarray]:
        bells, added = self._examples[i].bells, self._colour()
        if self._random.random() < 0.6:
            more = self._more(self._power[i], bells)
            added = added + boost_db(more, self._view)
            bells = (*bells, *more)
        x = self._inputs[i].astype(np.float32) + self._view.of_boost(added)
        if self._random.random() < 0.5:
            x[ROLE_ROWS] = 0.0  # often nobody says what a track is
        return x, targets(bells, self._view)

    def _colour(self) -> np.ndarray:
        """The colour of another instrument or microphone: a smooth curve that is nobody's trouble."""
        return np.asarray(self._random.normal(0.0, 4.0, size=7) @ self._view.colours * self._random.random())

    def _more(self, power: np.ndarray, bells: tuple[Bell, ...]) -> tuple[Bell, ...]:
        random, out = self._random, []
        wanted = int(random.integers(1, 3 if bells else 4))
        for _ in range(12):
            if len(out) == wanted:
                break
            hump = bool(random.random() < 0.22)
            bell = (draw_bell if random.random() < 0.5 else draw_wider)(random, hump)
            others = (*bells, *out)
            if hump and any(b.hump for b in others):
                continue
            if not hump and bell.frequency_hz * bell.octaves < 40.0:
                continue  # rings longer than a window
            if any(abs(np.log2(bell.frequency_hz / b.frequency_hz)) < (0.0 if hump or b.hump else 0.3) for b in others):
                continue
            at = nearest_point(self._view.grid_hz, bell.frequency_hz)
            if power[at] < np.max(power) - 50.0:
                continue
            beside = 2 * self._view.fine
            band = slice(max(0, at - beside), at + beside + 1)
            lift = bell_db(self._view.octaves[band], np.log2(bell.frequency_hz), bell.octaves, bell.gain_db)
            if not hump and lift_db(power[band], lift) < LEAST_LIFT_DB:
                continue
            out.append(bell)
        return tuple(out)


def shifted(
    x: torch.Tensor, y: torch.Tensor, random: np.random.Generator, most: int
) -> tuple[torch.Tensor, torch.Tensor]:
    """The same clip some points higher or lower: nothing is learnt of single frequencies. The place stays true."""
    by = int(random.integers(-most, most + 1))
    moved, aims = torch.roll(x, by, dims=2), torch.roll(y, by, dims=2)
    if by > 0:
        moved[:, :, :by], aims[:, :, :by] = moved[:, :, by : by + 1], 0.0
    elif by < 0:
        moved[:, :, by:], aims[:, :, by:] = moved[:, :, by - 1 : by], 0.0
    moved[:, -1] = x[:, -1]
    return moved, aims


Watched = dict[str, tuple[torch.Tensor, torch.Tensor]]
"""By half, by themselves and with others heard, inputs and targets; the loss on them says which round is kept."""


def seen(network: nn.Module, watched: Watched) -> dict[str, float]:
    """The loss on each half that is watched."""
    out = {}
    network.eval()
    with torch.no_grad():
        for half, (x, y) in watched.items():
            each = [float(loss_of(network(x[i : i + 64]), y[i : i + 64])) for i in range(0, len(x), 64)]
            out[half] = float(np.mean(each))
    return out


def _told(losses: dict[str, float]) -> str:
    return " ".join(f"{half} {loss:.4f}" for half, loss in losses.items())


def train(
    seed: int,
    examples: list[Example],
    watched: Watched,
    epochs: int,
    *,
    begun: Network | None = None,
    view: View = USUAL,
    width: int = WIDTH,
    unheard: float = 0.0,
) -> Network:
    """A new network, or one that has begun and goes on at a lower rate. unheard : share of inputs left out each time.

    It is given as it was when it lost least on what is watched. The rate falls to nothing over all epochs, but a
    network that knows its examples by heart is worse before that.
    """
    torch.manual_seed(seed)
    supply = Supply(examples, seed, view)
    channels = next(iter(watched.values()))[0].shape[1]
    network = Network(channels, width, view) if begun is None else begun
    said = seen(network, watched)
    best, least = copy.deepcopy(network), sum(said.values())
    print(seed, "before", _told(said), flush=True)
    steps = epochs * (len(examples) // BATCH)
    learning = Steps(network, steps, rate=3e-3 if begun is None else 1.5e-3, decay=0.05)
    with ThreadPoolExecutor(1) as pool:
        for epoch in range(epochs):
            network.train()
            began, total = time.time(), 0.0
            batches = supply.epoch()
            coming = pool.submit(supply.batch, batches[0])
            for i in range(len(batches)):
                a, b = coming.result()
                if i + 1 < len(batches):
                    coming = pool.submit(supply.batch, batches[i + 1])
                a = functional.dropout1d(a + 0.05 * torch.randn_like(a), unheard)
                loss = loss_of(network(a), b)
                total += learning.take(loss)
            said = seen(learning.average, watched)
            print(f"{seed} {epoch} {total / len(batches):.4f} {_told(said)} {time.time() - began:.1f} s", flush=True)
            if sum(said.values()) < least:
                best, least = copy.deepcopy(learning.average.module), sum(said.values())
    return best


def watched_in(view: View, watch: Callable[[Source], bool]) -> Watched:
    """What is watched while a network of a view learns."""
    out = {}
    examples = load(watch, view=view.examples, amount=JUDGED)
    for half, beside in sorted({(e.half, e.beside) for e in examples}):
        some = [e for e in examples if (e.half, e.beside) == (half, beside)]
        x = torch.from_numpy(np.stack([view.inputs(e.contours) for e in some]))
        y = torch.from_numpy(np.stack([targets(e.bells, view) for e in some]))
        out[f"{half} beside" if beside else half] = x, y
    return out


def learnt_from(view: View = USUAL, leave_out: Callable[[Source], bool] | None = None) -> tuple[list[Example], Watched]:
    """The examples that a network of a view learns from which hears no recordings, and what is watched meanwhile."""

    def learn(source: Source) -> bool:
        return source.half == "more" and not (leave_out is not None and leave_out(source))

    # in spill anything may be heard
    amount = WHOLE if leave_out is None else replace(WHOLE, spilled=0)
    examples = load(learn, view=view.examples, amount=amount)
    return told(examples, watched_in(view, lambda source: source.half in ("tune", "foreign")))


def learnt_with_recordings(view: View, number: int) -> tuple[list[Example], Watched]:
    """The same for one that hears those recordings that are for its number."""
    examples = load(lambda source: source.half == "more" or learnt_by(source) == number, view=view.examples)
    return told(examples, watched_in(view, lambda source: source.half == "foreign" and learnt_by(source) != number))


def told(examples: list[Example], watched: Watched) -> tuple[list[Example], Watched]:
    """Both, counted."""
    counted = {half: len(x) for half, (x, _) in watched.items()}
    print("examples", len(examples), "watched", counted, flush=True)
    return examples, watched


def main(
    networks: int = 3,
    epochs: int = 21,
    first: int = 0,
    *,
    out_file: Path = OUT,
    leave_out: Callable[[Source], bool] | None = None,
) -> None:
    """Train the networks `first` to `networks` - 1; those before them are kept as they are."""
    examples, watched = learnt_from(leave_out=leave_out)
    made = kept(out_file, first)
    for seed in range(first, networks):
        put(out_file, made, seed, train(seed, examples, watched, epochs))


def widen(epochs: int = 15, *chosen: int) -> None:
    """Of each two neighbours among the narrow networks that ship (or of some pairs) one that goes on learning.

    Once all are there they ship beside the narrow ones.
    """
    with np.load(OUT) as found:
        narrow = [weights for weights in weights_in(found) if len(weights["first.bias"]) == WIDTH]
    examples, watched = learnt_from()
    for number in chosen or range(len(narrow) - 1):
        begun = side_by_side(narrow[number], narrow[number + 1])
        put(_wide(number), {}, 0, train(100 + number, examples, watched, epochs, begun=begun))
    done = [_wide(number) for number in range(len(narrow) - 1)]
    if all(path.exists() for path in done):
        _put_in(len(narrow), dict(enumerate(done, start=len(narrow))))


def _put_in(first: int, files: Mapping[int, Path]) -> None:
    """Ship the networks 0 to `first` - 1 that ship and, under their numbers, those in files (a network in each)."""
    made = kept(OUT, first)
    for number, path in files.items():
        made |= {name.replace("0/", f"{number}/", 1): array for name, array in kept(path, 1).items()}
    np.savez_compressed(OUT, **made, networks=np.array(max(first, *(number + 1 for number in files))))  # type: ignore[arg-type]


def _wide(number: int) -> Path:
    return CACHE / f"wide-{number}.npz"


def further(epochs: int = 8, *chosen: int) -> None:
    """Networks that ship go on learning, from more than they had; `ship` puts them in place of what they were."""
    with np.load(OUT) as found:
        shipped = weights_in(found)
    examples, watched = learnt_from()
    for number in chosen or range(len(shipped)):
        begun = network_of(shipped[number])
        put(_further(number), {}, 0, train(200 + number, examples, watched, epochs, begun=begun))


def _further(number: int) -> Path:
    return CACHE / f"further-{number}.npz"


def network_of(weights: Weights, view: View = USUAL) -> Network:
    """A network as it is kept, to go on."""
    network = Network(weights["first.weight"].shape[1], len(weights["first.bias"]), view)
    network.load_state_dict({name: torch.from_numpy(np.asarray(value, np.float32)) for name, value in weights.items()})
    return network


def ship(*numbers: int) -> None:
    """Put those that went on in place of what they were; the others stay."""
    with np.load(OUT) as found:
        count = int(found["networks"])
    _put_in(count, {number: _further(number) for number in numbers})


def keep(*numbers: int) -> None:
    """Ship these networks alone, in this order."""
    with np.load(OUT) as found:
        shipped = weights_in(found)
    made: Arrays = {}
    for new, old in enumerate(numbers):
        put(OUT, made, new, network_of(shipped[old]))


if __name__ == "__main__":
    torch.set_num_threads(int(os.environ.get("OMP_NUM_THREADS", "2")))
    numbers = [int(a) for a in sys.argv[1:] if a.isdigit()]
    if "widen" in sys.argv:
        widen(*numbers)
    elif "further" in sys.argv:
        further(*numbers)
    elif "keep" in sys.argv:
        keep(*numbers)
    elif "ship" in sys.argv:
        ship(*numbers)
    elif "foreign" in sys.argv:
        for fold in FOLDS:
            main(*numbers, out_file=without(fold), leave_out=lambda source, fold=fold: source.role in FOLDS[fold])
    else:
        main(*numbers)
