"""What both trainings do alike: the stack of layers, a step, the mean of the weights, networks kept in one file."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
import torch
from torch import nn
from torch.nn import functional

from mivlo.core.findings.network import KERNEL

Arrays = dict[str, np.ndarray]


class Stack(nn.Module):
    """Dilated convolutions beside what they are given, as `mivlo.core.findings.network.run_network` runs them."""

    def __init__(self, channels: int, heads: int, width: int, dilations: Sequence[int], dropout: float = 0.1) -> None:
        super().__init__()
        self.first = nn.Conv1d(channels, width, KERNEL, padding=KERNEL // 2)
        self.wide = nn.ModuleList(
            nn.Conv1d(width, width, KERNEL, padding=d * (KERNEL // 2), dilation=d) for d in dilations
        )
        self.mix = nn.ModuleList(nn.Conv1d(width, width, 1) for _ in dilations)
        self.last = nn.Conv1d(width, heads, 1)
        self.dropout = nn.Dropout1d(dropout)
        with torch.no_grad():
            for mix in self.mix:
                mix.weight.mul_(0.5)

    def forward(self, x: torch.Tensor) -> torch.Tensor:
        """(batch, heads, grid)."""
        h = functional.relu(self.first(x))
        for wide, mix in zip(self.wide, self.mix, strict=True):
            h = h + mix(self.dropout(functional.relu(wide(h))))
        return self.last(functional.relu(h))


class Steps:
    """AdamW with a rate that rises and falls once (Smith & Topin, 2019). `average` is what is kept: it wavers less."""

    def __init__(self, network: nn.Module, steps: int, *, rate: float, decay: float) -> None:
        self._network = network
        self._optimiser = torch.optim.AdamW(network.parameters(), lr=rate, weight_decay=decay)
        self._schedule = torch.optim.lr_scheduler.OneCycleLR(
            self._optimiser, rate, total_steps=steps + 1, pct_start=0.15
        )
        self.average = torch.optim.swa_utils.AveragedModel(
            network, multi_avg_fn=torch.optim.swa_utils.get_ema_multi_avg_fn(0.995)
        )

    def take(self, loss: torch.Tensor) -> float:
        """One step down a loss; what it was."""
        self._optimiser.zero_grad()
        loss.backward()
        nn.utils.clip_grad_norm_(self._network.parameters(), 2.0)
        self._optimiser.step()
        self._schedule.step()
        self.average.update_parameters(self._network)
        return float(loss.detach())


def kept(file: Path, first: int) -> Arrays:
    """The networks 0 to `first` - 1 of a file; none where that is 0."""
    if not first:
        return {}
    with np.load(file) as found:
        return {name: found[name] for name in found.files if name.split("/")[0] in map(str, range(first))}


def put(file: Path, networks: Arrays, number: int, network: nn.Module) -> None:
    """Write a network as the last of those that are there."""
    for name, value in network.state_dict().items():
        networks[f"{number}/{name}"] = value.numpy().astype(np.float16)
    networks["networks"] = np.array(number + 1)
    np.savez_compressed(file, **networks)  # type: ignore[arg-type]
