"""Train the networks that read the closer look (`mivlo/core/findings/closer.npz`). Needs torch, as `train` does.

    python -m bench.findings.clips 4 2           # renders the clean clips
    python -m bench.findings.dataset             # damages them, and other instruments made from them
    python -m bench.findings.train_closer 1 10   # one network, ten rounds
    python -m bench.findings.second look         # and what `train` says of the second opinion
    python -m bench.findings.second

Learns as the networks of `train` do, from the same examples.
"""

from __future__ import annotations

import sys
from pathlib import Path

import torch

from bench.findings.dataset import load
from bench.findings.learning import kept, put
from bench.findings.train import View, train, watched_in
from mivlo.core.findings.closer import POINTS_PER_OCTAVE, closer_grid
from mivlo.core.findings.closer_reading import DILATIONS, closer_input, closer_input_of_boost

OUT = Path("src/mivlo/core/findings/closer.npz")
WIDTH = 64
CLOSER = View("closer", closer_grid(), POINTS_PER_OCTAVE, closer_input, closer_input_of_boost, DILATIONS, 2.0)


def main(networks: int = 1, epochs: int = 10, first: int = 0) -> None:
    """Train the networks `first` to `networks` - 1; those before them are kept as they are."""
    examples, watched = load(("more",), view=CLOSER.examples), watched_in(CLOSER)
    print("examples", len(examples), flush=True)
    made = kept(OUT, first)
    for seed in range(first, networks):
        put(OUT, made, seed, train(seed, examples, watched, epochs, view=CLOSER, width=WIDTH))


if __name__ == "__main__":
    torch.set_num_threads(2)
    main(*[int(a) for a in sys.argv[1:] if a.isdigit()])
