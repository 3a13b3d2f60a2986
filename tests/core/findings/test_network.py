"""How a network is run. Oracle: the sums of its layers, written out with numpy's correlation."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mivlo.core.findings.network import Weights, as_weights, run_network
from mivlo.core.spectra import Singles

HEADS = 3


def _made(channels: int, width: int, dilations: list[int], random: np.random.Generator) -> Weights:
    def layer(out: int, into: int, taps: int) -> tuple[Singles, Singles]:
        return tuple(random.standard_normal(shape).astype(np.float32) for shape in ((out, into, taps), (out,)))  # type: ignore[return-value]

    layers = {"first": layer(width, channels, 5), "last": layer(HEADS, width, 1)}
    for i in range(len(dilations)):
        layers |= {f"wide.{i}": layer(width, width, 5), f"mix.{i}": layer(width, width, 1)}
    weights = {f"{name}.weight": weight for name, (weight, _) in layers.items()}
    return as_weights(weights | {f"{name}.bias": bias for name, (_, bias) in layers.items()})


def _layer(x: np.ndarray, weights: Weights, name: str, dilation: int = 1) -> np.ndarray:
    weight, bias = weights[f"{name}.weight"].astype(float), weights[f"{name}.bias"].astype(float)
    spread = np.zeros((*weight.shape[:2], dilation * (weight.shape[2] - 1) + 1))
    spread[:, :, ::dilation] = weight
    reach = spread.shape[2] // 2
    padded = np.pad(x, ((0, 0), (reach, reach)))
    return np.array(
        [
            sum(np.correlate(row, taps, mode="valid") for row, taps in zip(padded, each, strict=True)) + b
            for each, b in zip(spread, bias, strict=True)
        ]
    )


@given(
    points=st.integers(1, 40),
    channels=st.integers(1, 5),
    width=st.integers(1, 6),
    dilations=st.lists(st.integers(1, 24), min_size=1, max_size=4),
    seed=st.integers(0, 999),
)
def test_a_network_is_the_sum_of_its_layers(
    points: int, channels: int, width: int, dilations: list[int], seed: int
) -> None:
    """Of any width, also where a tap reaches further than there are points."""
    random = np.random.default_rng(seed)
    weights = _made(channels, width, dilations, random)
    inputs = random.standard_normal((channels, points)).astype(np.float32)
    h = np.maximum(_layer(inputs, weights, "first"), 0.0)
    for i, dilation in enumerate(dilations):
        h = h + _layer(np.maximum(_layer(h, weights, f"wide.{i}", dilation), 0.0), weights, f"mix.{i}")
    said = _layer(np.maximum(h, 0.0), weights, "last")
    assert run_network(weights, inputs, dilations) == pytest.approx(said, rel=1e-3, abs=1e-3 * np.abs(said).max())
