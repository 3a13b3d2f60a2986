"""Train the networks that read the closer look (`mivlo/core/findings/closer.npz`). Needs torch, as `train` does.

    python -m bench.findings.clips 4 2           # renders the clean clips
    python -m bench.findings.dataset             # damages them, and other instruments made from them
    python -m bench.findings.train_closer 1 10   # one network, ten rounds
    python -m bench.findings.train_closer 2 9 1  # one more, which reads what stands at harmonics as well
    python -m bench.findings.train_closer further 6 # the one that ships goes on, with examples that came later
    python -m bench.findings.second look         # and what `train` says of the second opinion
    python -m bench.findings.second

Learns as the networks of `train` do, from the same examples.
"""

from __future__ import annotations

import os
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
import torch

from bench.findings.learning import Arrays, kept, put
from bench.findings.train import View, learnt_from, network_of, train
from mivlo.core.findings.closer import POINTS_PER_OCTAVE, closer_grid
from mivlo.core.findings.closer_reading import DILATIONS, closer_input, closer_input_of_boost, with_harmonics
from mivlo.core.findings.network import weights_in
from mivlo.core.roles import Role
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats

OUT = Path("src/mivlo/core/findings/closer.npz")
WIDTH = 64
CLOSER = View("closer", closer_grid(), POINTS_PER_OCTAVE, closer_input, closer_input_of_boost, DILATIONS, 2.0)
UNHEARD = 0.1
"""How many of its inputs a network that reads harmonics is not given, others each time: it leans on none."""


def _inputs(contours: Singles, role: Role | None = None) -> Singles:
    return with_harmonics(closer_input(contours, role))


def _of_boost(boost_db: Floats) -> Singles:
    return with_harmonics(closer_input_of_boost(boost_db))


HARMONIC = replace(CLOSER, inputs=_inputs, of_boost=_of_boost)


def _as_learnt(number: int) -> tuple[View, float]:
    """What a network looks at, and how many of its inputs it is not given while it learns."""
    return (HARMONIC, UNHEARD) if number else (CLOSER, 0.0)


def main(networks: int = 1, epochs: int = 10, first: int = 0) -> None:
    """Train the networks `first` to `networks` - 1; those before them are kept as they are.

    The first reads the closer look alone, those after it what stands at harmonics as well.
    """
    made = kept(OUT, first)
    for seed in range(first, networks):
        view, unheard = _as_learnt(seed)
        examples, watched = learnt_from(view)
        put(OUT, made, seed, train(seed, examples, watched, epochs, view=view, width=WIDTH, unheard=unheard))


def further(epochs: int = 6) -> None:
    """The networks that ship go on learning."""
    with np.load(OUT) as found:
        shipped = weights_in(found)
    made: Arrays = {}
    for number, weights in enumerate(shipped):
        view, unheard = _as_learnt(number)
        examples, watched = learnt_from(view)
        begun = network_of(weights, view)
        gone_on = train(300 + number, examples, watched, epochs, begun=begun, view=view, unheard=unheard)
        put(OUT, made, number, gone_on)


if __name__ == "__main__":
    torch.set_num_threads(int(os.environ.get("OMP_NUM_THREADS", "2")))
    numbers = [int(a) for a in sys.argv[1:] if a.isdigit()]
    if "further" in sys.argv:
        further(*numbers)
    else:
        main(*numbers)
