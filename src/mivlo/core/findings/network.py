"""A small network that reads contours and says where something was boosted, by how much and how wide.

It is a stack of dilated one-dimensional convolutions over the frequency grid (Yu & Koltun, "Multi-Scale
Context Aggregation by Dilated Convolutions", ICLR 2016) with heads in the manner of centre-point
detectors (Zhou, Wang & Krähenbühl, "Objects as Points", 2019). Inference is numpy only. The weights are
made by `python -m bench.findings.train` from the sources named in `bench/findings/sources.py`.
"""

from __future__ import annotations

import hashlib
import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from importlib.resources import files
from typing import IO, TypeVar

import numpy as np
import numpy.typing as npt
from scipy.linalg.blas import sgemm
from scipy.special import expit

from mivlo.core.findings.contours import CONTOURS, LONG_CONTOURS
from mivlo.core.findings.frames import POINTS_PER_OCTAVE, finding_grid
from mivlo.core.roles import Role
from mivlo.core.spectra import Singles, smoothed
from mivlo.core.units import Floats

HEADS = (
    "boost", "hump", "centre", "hump_centre", "width", "gain", "offset", "hump_width", "hump_gain", "hump_offset",
)  # fmt: skip
DILATIONS = (1, 2, 4, 8, 16, 1, 2, 4)
KERNEL = 5
ROLES = (
    Role.VOICE, Role.DRUMS, Role.PERCUSSION, Role.BASS, Role.GUITAR, Role.KEYS, Role.STRINGS, Role.BRASS, Role.WINDS,
    Role.MALLETS,
)  # fmt: skip
"""What a track can be known to be: each family has resonances of its own that are no trouble."""
CLOSER_SHARE = 0.45
"""How much what the networks of the closer look say counts, however many they are."""
HEAR_ALL = 1
"""So many networks hear all that is no rest; those behind them say what is narrow from what is nearest, where given."""
_NEAR, _FAR = POINTS_PER_OCTAVE / 3.0, POINTS_PER_OCTAVE * 1.5
"""Points: what are a contour's surroundings, and what are those of its surroundings."""
_NARROW_HEADS = [HEADS.index(name) for name in ("boost", "centre", "width", "gain", "offset")]
_NOT_LEVELS = {CONTOURS.index(n) for n in ("spread", "fall_rate", "rise_rate", "peak_share")} | {len(CONTOURS) + 4}


def network_input(contours: Singles, role: Role | None = None) -> Singles:
    """(channels, grid): contours over their surroundings (1/3 octave), these over theirs (1.5 octaves), role, place.

    Absolute level is taken out: a track that is 10 dB louder is the same track. A role that is not one of ROLES says
    nothing.
    """
    x = np.asarray(contours, dtype=np.float32)
    near, far = smoothed(x, _NEAR), smoothed(x, _FAR)
    # how far each statistic lies from the mean power: how much notes come and go there
    levels = np.array([i for i in range(len(x)) if i not in _NOT_LEVELS and i > 0])
    apart = (x[levels] - x[0]) / 20.0
    others = x[sorted(_NOT_LEVELS)] / 8.0
    told = role_and_place(role, finding_grid())
    return np.concatenate([(x - near) / 8.0, (near - far) / 8.0, apart, others, told]).astype(np.float32)


def role_and_place(role: Role | None, grid_hz: Floats) -> Singles:
    """(len(ROLES) + 1, grid): which role a track has, and where each point lies."""
    known = np.repeat([[float(role == r)] for r in ROLES], len(grid_hz), axis=1)
    return np.concatenate([known, np.log2(grid_hz / 800.0)[None] / 3.0]).astype(np.float32)


def input_of_boost(boost_db: Floats) -> Singles:
    """What a boost (grid,) that lies over the whole sound adds to `network_input`, whose steps are all linear."""
    rows = len(CONTOURS) + len(LONG_CONTOURS)
    levels = [i for i in range(rows) if i not in _NOT_LEVELS]
    one = np.asarray(boost_db, dtype=np.float32)
    near, far = smoothed(one, _NEAR), smoothed(one, _FAR)
    added = np.zeros((2 * rows + len(levels) - 1 + len(_NOT_LEVELS) + len(ROLES) + 1, len(one)), dtype=np.float32)
    added[levels] = (one - near) / 8.0
    added[[rows + i for i in levels]] = (near - far) / 8.0
    return added


def _nobody() -> Floats:
    return np.zeros((0, 0))


@dataclass(frozen=True, slots=True)
class Reading:
    """What the network says, each (grid,).

    boost_db, hump_db : expected boost by narrow and by broad troubles.
    centre, hump_centre : 0 to 1, how much a point looks like the centre of one.
    The others hold at centres: octaves, dB, and the offset of the true centre in octaves.
    each_centre, each_hump_centre, each_boost_db, each_hump_db : (networks, grid) what each network says by itself;
    centres as log-odds.
    closer : how many of these networks, the last ones, read the closer look.
    """

    boost_db: Floats
    hump_db: Floats
    centre: Floats
    hump_centre: Floats
    octaves: Floats
    gain_db: Floats
    offset_oct: Floats
    hump_octaves: Floats
    hump_gain_db: Floats
    hump_offset_oct: Floats
    each_centre: Floats = field(default_factory=_nobody)
    each_hump_centre: Floats = field(default_factory=_nobody)
    each_boost_db: Floats = field(default_factory=_nobody)
    each_hump_db: Floats = field(default_factory=_nobody)
    closer: int = 0


Weights = dict[str, Singles]
"""Of one network, by their names."""


def _convolve(x: Singles, points: slice, weight: Singles, bias: Singles, dilation: int = 1) -> Singles:
    """(out, n): sums over `points` of x (in, n and a border on either side) by the taps of (out, in, k).

    All is in Fortran's order, as the product that adds to its result wants it: a tap reads x itself, nothing is moved.
    """
    out = np.empty((len(bias), points.stop - points.start), dtype=np.float32, order="F")
    out[:] = bias[:, None]
    taps = weight.shape[2]
    for i in range(taps):
        by = dilation * (i - taps // 2)
        out = sgemm(1.0, weight[:, :, i], x[:, points.start + by : points.stop + by], 1.0, out, overwrite_c=True)
    return out


def run_network(weights: Weights, inputs: Singles, dilations: Sequence[int] = DILATIONS) -> Singles:
    """(heads, grid) raw outputs of one network for inputs (channels, grid); beyond the ends all is zero."""
    border = max(dilations) * (KERNEL // 2)
    points = slice(border, border + inputs.shape[1])

    def convolve(x: Singles, layer: str, dilation: int = 1) -> Singles:
        return _convolve(x, points, weights[f"{layer}.weight"], weights[f"{layer}.bias"], dilation)

    def bordered(rows: int) -> Singles:
        return np.zeros((rows, points.stop + border), dtype=np.float32, order="F")

    x, known, step = bordered(len(inputs)), bordered(len(weights["first.bias"])), bordered(len(weights["first.bias"]))
    x[:, points] = inputs
    h = known[:, points]
    np.maximum(convolve(x, "first"), 0.0, out=h)
    for i, dilation in enumerate(dilations):
        np.maximum(convolve(known, f"wide.{i}", dilation), 0.0, out=step[:, points])
        h += convolve(step, f"mix.{i}")
    np.maximum(h, 0.0, out=h)
    return np.ascontiguousarray(convolve(known, "last"))


def as_reading(raw: Singles) -> Reading:
    """Raw outputs (len(HEADS), grid) in their units."""
    head = {name: raw[i].astype(np.float64) for i, name in enumerate(HEADS)}

    return Reading(
        boost_db=np.maximum(head["boost"], 0.0) * 10.0,
        hump_db=np.maximum(head["hump"], 0.0) * 10.0,
        centre=expit(head["centre"]),
        hump_centre=expit(head["hump_centre"]),
        octaves=2.0 ** np.clip(head["width"] - 3.0, -4.6, -1.0),
        gain_db=np.clip(head["gain"] * 10.0, 0.0, 20.0),
        offset_oct=np.clip(head["offset"], -2.0, 2.0) / POINTS_PER_OCTAVE,
        hump_octaves=2.0 ** np.clip(head["hump_width"], -1.0, 1.0),
        hump_gain_db=np.clip(head["hump_gain"] * 10.0, 0.0, 11.0),
        hump_offset_oct=np.clip(head["hump_offset"], -1.5, 1.5) * 8.0 / POINTS_PER_OCTAVE,
    )


@dataclass(frozen=True, slots=True, eq=False)
class Model:
    """What ships: the weights of several networks, and how often what they say is true.

    closer : the networks that read the closer look, see `closer_reading`.
    opinions : the second opinion on "narrow" and on "broad" spots, as `opinion.from_arrays` reads it.
    fingerprint : of the files; others find other things.

    A model equals itself alone, so that what is read of it can be kept by it.
    """

    networks: tuple[Weights, ...]
    closer: tuple[Weights, ...]
    opinions: dict[str, Floats]
    fingerprint: str


@lru_cache(maxsize=1)
def shipped_model() -> Model:
    """The model of this package, read once."""
    here = files("mivlo.core.findings")
    with here.joinpath("model.npz").open("rb") as file, here.joinpath("closer.npz").open("rb") as closer:
        return read_model(file, closer)


def as_weights(found: Mapping[str, npt.ArrayLike]) -> Weights:
    """Weights as `run_network` reads them fastest: of (out, in, k) each tap is one piece in Fortran's order."""
    return {name: np.asfortranarray(array, dtype=np.float32) for name, array in found.items()}


def weights_in(found: Mapping[str, npt.NDArray[np.floating]]) -> tuple[Weights, ...]:
    """The networks that a file holds, under their numbers."""
    return tuple(
        as_weights({n.split("/", 1)[1]: found[n] for n in found if n.startswith(f"{i}/")})
        for i in range(int(found["networks"]))
    )


def read_model(file: IO[bytes], closer: IO[bytes] | None = None) -> Model:
    """A model from the files that `bench.findings.train` and `bench.findings.train_closer` write."""
    data, beside = file.read(), b"" if closer is None else closer.read()
    with np.load(io.BytesIO(data)) as found:
        networks = weights_in(found)
        opinions = {n: found[n] for n in found.files if n.split("/")[0] in ("narrow", "broad")}
    closer_networks: tuple[Weights, ...] = ()
    if beside:
        with np.load(io.BytesIO(beside)) as found:
            closer_networks = weights_in(found)
    return Model(networks, closer_networks, opinions, hashlib.sha256(data + beside).hexdigest()[:16])


Said = TypeVar("Said", Singles, Floats)


def in_the_mean(every: Said, closer: int) -> Said:
    """What networks say (networks, ...) in the mean; the last `closer` read the closer look and count CLOSER_SHARE."""
    usual = len(every) - closer
    mean = np.mean(every[:usual], axis=0)
    if not closer:
        return np.asarray(mean, dtype=every.dtype)
    return np.asarray((1.0 - CLOSER_SHARE) * mean + CLOSER_SHARE * np.mean(every[usual:], axis=0), dtype=every.dtype)


def narrow_of(one: Singles, other: Singles) -> Singles:
    """Raw outputs (heads, grid): what is narrow as one says, what is broad as another does."""
    out = other.copy()
    out[_NARROW_HEADS] = one[_NARROW_HEADS]
    return out


def read_contours(
    contours: Singles,
    model: Model | None = None,
    *,
    role: Role | None = None,
    near: Singles | None = None,
    beside: Sequence[Singles] = (),
) -> Reading:
    """What the networks of a model (the shipped one unless another is given) say in the mean.

    near : contours of what is nearest, of which all but the first HEAR_ALL say what is narrow.
    beside : raw outputs (heads, grid) of the networks that read the closer look of the same sound.
    """
    networks = (model or shipped_model()).networks
    inputs = network_input(contours, role)
    said = [run_network(weights, inputs) for weights in networks]
    if near is not None:
        of_near = network_input(near, role)
        said[HEAR_ALL:] = [
            narrow_of(run_network(weights, of_near), raw)
            for weights, raw in zip(networks[HEAR_ALL:], said[HEAR_ALL:], strict=True)
        ]
    every = np.stack([*said, *beside])
    each = {name: every[:, i].astype(np.float64) for i, name in enumerate(HEADS)}
    return replace(
        as_reading(in_the_mean(every, len(beside))),
        each_centre=np.clip(each["centre"], -30, 30),
        each_hump_centre=np.clip(each["hump_centre"], -30, 30),
        each_boost_db=np.maximum(each["boost"], 0.0) * 10.0,
        each_hump_db=np.maximum(each["hump"], 0.0) * 10.0,
        closer=len(beside),
    )
