"""Train the networks that read the closer look (`mivlo/core/findings/closer.npz`). Needs torch, as `train` does.

    python -m bench.findings.clips 4 2           # renders the clean clips
    python -m bench.findings.dataset             # damages them, and other instruments made from them
    python -m bench.findings.train_closer 1 10   # one network, ten rounds
    python -m bench.findings.train_closer 2 9 1  # one more, which reads what stands at harmonics as well
    python -m bench.findings.dataset recordings
    python -m bench.findings.train_closer further 6 0 0 # each goes on with either half of the recordings as well
    python -m bench.findings.train_closer further 6 1 1 # and so 0 1 and 1 0
    python -m bench.findings.train_closer ship      # and are put in place of what they were
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

from bench.findings.clips import CACHE
from bench.findings.learning import Arrays, kept, put
from bench.findings.origins import APART
from bench.findings.train import View, learnt_from, learnt_with_recordings, network_of, train
from mivlo.core.findings.closer import POINTS_PER_OCTAVE, closer_grid
from mivlo.core.findings.closer_reading import DILATIONS, closer_input, closer_input_of_boost, with_harmonics
from mivlo.core.findings.network import weights_in
from mivlo.core.roles import Role
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats

OUT = Path("src/mivlo/core/findings/closer.npz")
BEFORE = CACHE / "closer-before.npz"
"""The networks before they heard recordings."""
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
    made = kept(BEFORE, first)
    for seed in range(first, networks):
        view, unheard = _as_learnt(seed)
        examples, watched = learnt_from(view)
        put(BEFORE, made, seed, train(seed, examples, watched, epochs, view=view, width=WIDTH, unheard=unheard))


def further(epochs: int, number: int, recordings: int) -> None:
    """A network that heard no recordings goes on with those of a number (`origins`); when all are done `ship` them."""
    with np.load(BEFORE) as found:
        before = weights_in(found)[number]
    view, unheard = _as_learnt(number)
    examples, watched = learnt_with_recordings(view, recordings)
    begun = network_of(before, view)
    network = train(300 + number, examples, watched, epochs, begun=begun, view=view, unheard=unheard)
    put(_further(number, recordings), {}, 0, network)


def _further(number: int, recordings: int) -> Path:
    return CACHE / f"closer-{number}-with-{recordings}.npz"


def ship() -> None:
    """Each with the recordings of its own number is shipped; with those of the other it judges what it learnt from."""
    for file, recordings in ((OUT, (0, 1)), (APART, (1, 0))):
        made: Arrays = {}
        for number, of in enumerate(recordings):
            with np.load(_further(number, of)) as found:
                put(file, made, number, network_of(weights_in(found)[0], _as_learnt(number)[0]))


if __name__ == "__main__":
    torch.set_num_threads(int(os.environ.get("OMP_NUM_THREADS", "2")))
    numbers = [int(a) for a in sys.argv[1:] if a.isdigit()]
    if "further" in sys.argv:
        further(*numbers)
    elif "ship" in sys.argv:
        ship()
    else:
        main(*numbers)
