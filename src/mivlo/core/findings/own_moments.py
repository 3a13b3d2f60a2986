"""Moments in which a track is heard itself, and not what the other tracks of the song leave in its microphone.

What another track leaves has that track's power at each frequency, at once and dying away as in a room, times a factor
that changes slowly over frequency (as leakage is modelled by E. K. Kokkinis, J. D. Reiss & J. Mourjopoulos, "A Wiener
Filter Approach to Microphone Leakage Reduction in Close-Microphone Applications", IEEE Transactions on Audio, Speech,
and Language Processing 20, 2012). Factors are fitted where the track itself rests: its own sound only ever adds to them
(non-negative least squares, in which what lies well over the sum hardly counts).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt
from scipy import fft as scipy_fft
from scipy.optimize import nnls

from mivlo.core.findings.frames import Sound, choose_stretches
from mivlo.core.learning import decayed
from mivlo.core.spectra import Singles, window_length
from mivlo.core.units import Floats, positive

LEAST_S = 20.0
"""Of less, what rests and what plays are hardly told apart."""
LEAST_HIDDEN = 0.05
"""Where others cover less than this of what is heard in a track, all of it is its own."""
TWIN_SHARE = 0.1
"""Of what a track has at its loudest: who leaves more is a further microphone of the same thing, and no spill."""
_TWIN_ALIKE, _TWIN_DB = 0.6, 3.0
"""Where a track is loudest, the share in which its power goes so closely with that of such a microphone."""
OWN_SHARE = 0.35
"""Of a window, over time and bands, in which a track has more of its own than others leave: a stroke is shorter."""
_LOWEST_HZ = 60.0
_DECAYS_S = (0.0, 0.3, 1.2)
"""In which what another plays falls by 60 dB here; what a room does lies between."""
_LEAD_S = 2.0
"""So much before a stretch still sounds in it."""
_BANDS_PER_OCTAVE = 6
_ROUNDS, _OUTLIER, _LITTLE = 6, 3.0, 0.05
_TOP, _HEARD, _WHERE_IT_PLAYS = 0.1, 10.0**-4.5, 1e-4
"""Power below the loudest: of its loudest frames; of what is heard at all; of bands in which a track plays."""
_INNER = 0.6
"""Part of a window that weighs most."""
_TINY = 1e-20


@dataclass(frozen=True, slots=True)
class OwnMoments:
    """What of a track is its own.

    times_s : (n,) rising; own : (n,) share of the bands, among those in which it plays, where it has more of its own
        than others leave.
    heard, left : (bands,) mean power of the track, and of what others leave in it, at centres_hz.
    hidden : of what is heard in it over time and frequency, the share that others cover.
    """

    times_s: Floats
    own: Floats
    centres_hz: Floats
    heard: Floats
    left: Floats
    hidden: float

    def among(self, times_s: Floats, window_s: float) -> npt.NDArray[np.bool_]:
        """(m,) which windows about some times are its own."""
        sums = np.concatenate([[0.0], np.cumsum(self.own)])
        reach = _INNER * window_s / 2.0
        first = np.minimum(np.searchsorted(self.times_s, times_s - reach), len(self.own) - 1)
        behind = np.clip(np.searchsorted(self.times_s, times_s + reach), first + 1, len(self.own))
        return np.asarray((sums[behind] - sums[first]) / (behind - first) >= OWN_SHARE)

    def is_others(self, frequency_hz: float, octaves: float) -> bool:
        """Whether more than half of the power about a place is what others leave."""
        away = np.abs(np.log2(self.centres_hz / frequency_hz))
        near = away <= max(octaves, 1.0 / _BANDS_PER_OCTAVE) / 2.0
        return bool(self.left[near].sum() > 0.5 * self.heard[near].sum())


@dataclass(frozen=True, slots=True)
class _Bands:
    """Powers in sixths of an octave, in frames that overlap by half; frame t is centred on sample t * hop."""

    sample_rate: float
    window: Singles
    bins: tuple[slice, ...]

    @property
    def hop(self) -> int:
        return len(self.window) // 2

    @property
    def centres_hz(self) -> Floats:
        bin_hz = self.sample_rate / len(self.window)
        return np.array([np.sqrt(some.start * (some.stop - 1)) * bin_hz for some in self.bins])

    @property
    def keeps(self) -> list[float]:
        """For each decay how much of its power is left a hop later."""
        hop_s = self.hop / self.sample_rate
        return [0.0 if t60 == 0.0 else 10.0 ** (-6.0 * hop_s / t60) for t60 in _DECAYS_S]

    @property
    def lead(self) -> int:
        return int(np.ceil(_LEAD_S * self.sample_rate / self.hop))

    def powers(self, sound: Sound, first: int, count: int) -> Floats:
        """(count, bands) mean power of each band, summed over the channels; silence beyond both ends."""
        begin = (first - 1) * self.hop
        end = begin + (count + 1) * self.hop
        inside = np.asarray(sound[max(0, begin) : max(0, min(end, sound.shape[0]))], dtype=np.float32)
        x = np.zeros((sound.shape[1], end - begin), dtype=np.float32)
        x[:, max(0, -begin) :][:, : len(inside)] = inside.T
        out = np.zeros((count, len(self.bins)))
        for channel in x:
            framed = np.lib.stride_tricks.sliding_window_view(channel, len(self.window))[:: self.hop]
            spectra = scipy_fft.rfft(framed * self.window, axis=1)
            power = spectra.real**2 + spectra.imag**2
            out += np.stack([power[:, some].mean(axis=1) for some in self.bins], axis=1)
        return out


def own_moments(
    sound: Sound,
    others: Sequence[Sound],
    *,
    sample_rate: float,
    start: int = 0,
    stop: int | None = None,
    progress: Callable[[float], None] = lambda share: None,
) -> OwnMoments | None:
    """What of a track (n, channels) is its own between two frames; None where all of it is, or nobody can say.

    others : (n, channels) each, from the same beginning, none of them a room that holds what all play.
    """
    positive("sample_rate", sample_rate)
    end = sound.shape[0] if stop is None else min(stop, sound.shape[0])
    if not others or end - start < LEAST_S * sample_rate:
        return None
    bands = _bands(sample_rate)
    times_s, heard, may_leave = _listen(
        sound, others, bands, choose_stretches(start, end, sample_rate=sample_rate), progress
    )
    left = _left(heard, may_leave)
    hidden = _hidden(heard, left)
    if hidden < LEAST_HIDDEN:
        return None
    loud = np.quantile(heard, 0.95, axis=0)
    plays = loud > _WHERE_IT_PLAYS * np.max(loud)
    own = np.mean((heard > 2.0 * left)[:, plays], axis=1)
    return OwnMoments(times_s, own, bands.centres_hz, heard.mean(axis=0), left.mean(axis=0), hidden)


def _bands(sample_rate: float) -> _Bands:
    length = window_length(4_096, sample_rate)
    bin_hz = sample_rate / length
    count = int(np.log2(sample_rate / 2.0 / _LOWEST_HZ) * _BANDS_PER_OCTAVE)
    edges = np.ceil(_LOWEST_HZ * 2.0 ** (np.arange(count + 1) / _BANDS_PER_OCTAVE) / bin_hz).astype(int)
    bins = tuple(slice(int(a), int(b)) for a, b in pairwise(edges) if b > a)
    return _Bands(sample_rate, np.hanning(length + 1)[:-1].astype(np.float32), bins)


def _listen(
    sound: Sound,
    others: Sequence[Sound],
    bands: _Bands,
    stretches: Sequence[tuple[int, int]],
    progress: Callable[[float], None],
) -> tuple[Floats, Floats, Floats]:
    """(frames,) times in s, (frames, bands) power of a track, and (others, decays, frames, bands) what may be left."""
    times: list[Floats] = []
    heard: list[Floats] = []
    may_leave: list[Floats] = []
    for done, (first, end) in enumerate(stretches, 1):
        at, count = -(-first // bands.hop), max(1, (end - first) // bands.hop)
        times.append(np.asarray((at + np.arange(count)) * (bands.hop / bands.sample_rate), dtype=np.float64))
        heard.append(bands.powers(sound, at, count))
        rows = []
        for other in others:
            theirs = bands.powers(other, at - bands.lead, count + bands.lead)
            rows.append([decayed(theirs, left)[bands.lead :] for left in bands.keeps])
        may_leave.append(np.array(rows))
        progress(done / len(stretches))
    return np.concatenate(times), np.concatenate(heard), np.concatenate(may_leave, axis=2)


def _left(heard: Floats, may_leave: Floats) -> Floats:
    """(frames, bands) what the others leave, but those who are further microphones of the same thing."""
    beside = [k for k in range(len(may_leave)) if _alike(heard, may_leave[k, 0]) < _TWIN_ALIKE]
    while beside:
        given = np.einsum("ndtb,bnd->ntb", may_leave[beside], _factors(heard, may_leave[beside]))
        shares = _shares_at_loudest(heard, given)
        if np.max(shares) < TWIN_SHARE:
            return np.asarray(given.sum(axis=0))
        del beside[int(np.argmax(shares))]
    return np.zeros_like(heard)


def _factors(heard: Floats, may_leave: Floats) -> Floats:
    """(bands, others, decays) by how much what may be left counts, of three bands at a time."""
    out = []
    for band in range(heard.shape[1]):
        near = slice(max(0, band - 1), band + 2)
        out.append(_lower_fit(may_leave[..., near].reshape(*may_leave.shape[:2], -1), heard[:, near].ravel()))
    return np.stack(out)


def _lower_fit(may_leave: Floats, heard: Floats) -> Floats:
    """(others, decays) factors >= 0 of may_leave (others, decays, n) under what is heard (n,) where it rests."""
    rows = may_leave.reshape(-1, len(heard)).T
    scale = rows.mean(axis=0) + 1e-30
    rows = rows / scale
    quiet = float(np.quantile(heard, 0.05)) + 1e-14
    total = rows.sum(axis=1)
    plays = total > 0.1 * np.median(total)
    if not plays.any():
        return np.zeros(may_leave.shape[:2])
    fit = np.quantile(heard[plays] / total[plays], 0.1) * total
    factors = np.zeros(rows.shape[1])
    for _ in range(_ROUNDS):
        over = heard / (fit + quiet)
        weight = np.where(over > _OUTLIER, _LITTLE * _OUTLIER / np.maximum(over, _OUTLIER), 1.0) / (fit + quiet)
        weighted = rows * weight[:, None]
        gram = weighted.T @ weighted
        root = np.linalg.cholesky(gram + 1e-9 * (np.trace(gram) / len(gram) + _TINY) * np.eye(len(gram)))
        factors = nnls(root.T, np.linalg.solve(root, weighted.T @ (heard * weight)))[0]
        fit = rows @ factors
    return np.asarray((factors / scale).reshape(may_leave.shape[:2]))


def _loudest(heard: Floats) -> npt.NDArray[np.bool_]:
    """(frames,) where a track is loudest."""
    total = heard.sum(axis=1)
    return np.asarray(total > _TOP * np.max(total))


def _alike(heard: Floats, theirs: Floats) -> float:
    """Share of what is heard at its loudest (frames, bands) that has one distance, per band, to what another plays."""
    top = _loudest(heard)
    here, there = (10.0 * np.log10(power[top] + _TINY) for power in (heard, theirs))
    apart = here - there
    sounds = (here > np.quantile(here, 0.95, axis=0) - 30.0) & (here > np.max(here) - 60.0)
    return float(np.mean(np.abs(apart - np.median(apart, axis=0))[sounds] <= _TWIN_DB))


def _shares_at_loudest(heard: Floats, given: Floats) -> Floats:
    """(others,) part of a track's power (frames, bands) that each explains where the track is loudest."""
    top = _loudest(heard)
    return np.asarray(given[:, top].sum(axis=(1, 2)) / (heard[top].sum() + _TINY))


def _hidden(heard: Floats, left: Floats) -> float:
    """Share of what is heard in which at least half is left by others."""
    total = heard.sum(axis=1)
    loud = np.quantile(heard, 0.95, axis=0)
    sounds = (heard > _HEARD * loud) & (total > _HEARD * np.quantile(total, 0.95))[:, None]
    sounds &= loud > 1e-6 * np.max(loud)
    return float(np.mean(2.0 * left[sounds] > heard[sounds])) if sounds.any() else 0.0
