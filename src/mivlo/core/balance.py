"""Balance: how a sound's long-term spectrum differs from another's at equal loudness, and moves that bring it there.

Levels are compared in auditory bands ("rungs"), at the same K-weighted mean power (ITU-R BS.1770-5, its weighting
without its gate: both spectra are means over all of the time). Where either sound has next to nothing, a difference
means nothing and does not count.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import numpy.typing as npt
from scipy.ndimage import gaussian_filter1d

from mivlo.core.errors import BadAudio, InvalidValue
from mivlo.core.filters import response_db
from mivlo.core.fitting import Fit, fit_moves, moves_db, rms_db
from mivlo.core.loudness import k_weighting
from mivlo.core.moves import Band, StaticMove, auditory_bands
from mivlo.core.spectra import LongTermSpectrum, levels_between
from mivlo.core.units import Floats

COUNT = 33
"""Rungs that are compared."""
POINTS_PER_OCTAVE = 24
FULL_DB, NOTHING_DB = -40.0, -70.0
"""Levels below the loudest place between which a difference counts less and less."""
NARROWEST_OCT = 0.25
_LOWEST_HZ, _HIGHEST_HZ = 25.0, 18_000.0
_SILENT_DB = -110.0


@dataclass(frozen=True, slots=True)
class Rung:
    """An auditory band of a sound: its level in dB (a full-scale sine has 0), and its share of the energy of all."""

    band: Band
    level_db: float
    share: float


@dataclass(frozen=True)
class Spectrum:
    """A sound's mean power per bin, one-sided: (bins,), bin k at k bin_hz."""

    power: Floats
    bin_hz: float

    @classmethod
    def of(cls, blocks: Iterable[npt.ArrayLike], *, sample_rate: float, channels: int) -> Spectrum:
        """Of a sound in blocks (n, channels).

        Raises
        ------
        BadAudio : there is nothing to be heard.
        """
        whole = LongTermSpectrum(sample_rate, channels)
        for block in blocks:
            whole.add(block)
        power = whole.power()
        found = cls(power, whole.bin_hz)
        if not power.any() or np.max(found.levels(COUNT)) < _SILENT_DB:
            raise BadAudio("There is nothing to be heard in it, so there is nothing to compare.")
        return found

    @property
    def highest_hz(self) -> float:
        """Up to where it says something."""
        return 0.95 * self.bin_hz * (len(self.power) - 1)

    def levels(self, count: int, *, behind: tuple[StaticMove, ...] = ()) -> Floats:
        """Level in dB of so many rungs: (count,), of the sound as it is or behind moves."""
        bands = auditory_bands(count)
        low, high = (np.array([getattr(b, name) for b in bands]) for name in ("from_hz", "to_hz"))
        return levels_between(self.treated(behind), self.bin_hz, low, high)

    def rungs(self, count: int) -> list[Rung]:
        """Its rungs, lowest first."""
        levels = self.levels(count)
        energy = 10.0 ** (levels / 10.0)
        shares = energy / np.sum(energy)
        return [Rung(b, float(x), float(s)) for b, x, s in zip(auditory_bands(count), levels, shares, strict=True)]

    def treated(self, moves: tuple[StaticMove, ...]) -> Floats:
        """Power per bin behind moves."""
        if not moves:
            return self.power
        at_hz = _bins_hz(len(self.power), self.bin_hz)
        return np.asarray(self.power * 10.0 ** (moves_db(moves, at_hz) / 10.0))

    def loudness_db(self, *, behind: tuple[StaticMove, ...] = ()) -> float:
        """K-weighted mean power in dB."""
        weights = _k_power(len(self.power), self.bin_hz)
        return float(10.0 * np.log10(np.sum(weights * self.treated(behind)) + 1e-20))

    def fine(self, at_hz: Floats) -> Floats:
        """Levels in dB at frequencies (m,), in bands of a twelfth octave."""
        half = 2.0 ** (1.0 / POINTS_PER_OCTAVE)
        return levels_between(self.power, self.bin_hz, at_hz / half, at_hz * half)


def _bins_hz(bins: int, bin_hz: float) -> Floats:
    """Where bins lie; the lowest one, which reaches to half of its width, in the middle of that."""
    return np.asarray(bin_hz * np.maximum(np.arange(bins), 0.25))


@lru_cache(maxsize=8)
def _k_power(bins: int, bin_hz: float) -> Floats:
    rate = 2.0 * bin_hz * (bins - 1)
    return np.asarray(10.0 ** (response_db(k_weighting(rate), _bins_hz(bins, bin_hz), sample_rate=rate) / 10.0))


@dataclass(frozen=True)
class Balance:
    """What brings one sound's spectrum towards another's.

    fit : the moves. at_hz, wanted_db : the curve that was asked of them, (m,). before_db, after_db : RMS difference of
    the rungs at equal loudness, without and with the moves. own_db, other_db, behind_db : the rungs of the sound, of
    the other one and of the sound behind the moves, at equal loudness; weights : how much each rung counts.
    """

    fit: Fit
    at_hz: Floats
    wanted_db: Floats
    before_db: float
    after_db: float
    own_db: Floats
    other_db: Floats
    behind_db: Floats
    weights: Floats


def balance(
    own: Spectrum,
    towards: Spectrum,
    *,
    strength: float = 1.0,
    only_cuts: bool = False,
    limit_db: float | None = None,
    smooth_oct: float = 0.0,
    most: int = 8,
) -> Balance:
    """Moves that bring a sound's balance towards another's.

    Parameters
    ----------
    strength : the part of the difference that is taken, 0 to 1.
    only_cuts : what is less than in the other sound stays so.
    limit_db : no more than this is asked anywhere, either way.
    smooth_oct : the difference is smoothed over so many octaves.
    most : so many moves at most.

    Raises
    ------
    InvalidValue : a value that is impossible.
    BadAudio : the sounds have no range in common.
    """
    if not 0.0 <= strength <= 1.0:
        raise InvalidValue("strength", strength, "it must lie between 0 and 1")
    top = min(_HIGHEST_HZ, own.highest_hz, towards.highest_hz)
    at_hz = 2.0 ** np.arange(np.log2(_LOWEST_HZ), np.log2(top), 1.0 / POINTS_PER_OCTAVE)
    levels = own.fine(at_hz), towards.fine(at_hz)
    weights = _common(*levels)
    if np.count_nonzero(weights) < POINTS_PER_OCTAVE / 2:
        raise BadAudio("The two have no range in common, so there is nothing to compare.")
    louder = own.loudness_db() - towards.loudness_db()
    difference = levels[1] - levels[0] + louder
    if smooth_oct > 0.0:
        sigma = smooth_oct * POINTS_PER_OCTAVE / 2.355  # so wide at half of its height
        difference = gaussian_filter1d(weights * difference, sigma) / np.maximum(
            gaussian_filter1d(weights, sigma), 1e-9
        )
    wanted = strength * difference
    if limit_db is not None:
        wanted = np.clip(wanted, -limit_db, limit_db)
    if only_cuts:
        wanted = np.minimum(wanted, 0.0)
    fit = fit_moves(
        wanted, at_hz, weights=weights, most=most, only_cuts=only_cuts, free_level=not only_cuts,
        narrowest_oct=max(NARROWEST_OCT, smooth_oct / 2.0),
    )  # fmt: skip
    return _measured(own, towards, fit, at_hz, wanted)


def _common(a: Floats, b: Floats) -> Floats:
    """How much a place counts: by the sound that has less there, over its loudest place."""
    over = np.minimum(a - np.max(a), b - np.max(b))
    return np.clip((over - NOTHING_DB) / (FULL_DB - NOTHING_DB), 0.0, 1.0)


def _measured(own: Spectrum, towards: Spectrum, fit: Fit, at_hz: Floats, wanted: Floats) -> Balance:
    """What the moves do to the rungs' difference; loudness is made equal with and without them."""
    mine, other = own.levels(COUNT), towards.levels(COUNT)
    behind = own.levels(COUNT, behind=fit.moves)
    weights = _common(mine, other)
    to_loudness = towards.loudness_db()
    mine_even = mine - own.loudness_db() + to_loudness
    behind_even = behind - own.loudness_db(behind=fit.moves) + to_loudness
    before, after = (rms_db(other - x, weights) for x in (mine_even, behind_even))
    return Balance(fit, at_hz, wanted, round(before, 2), round(after, 2), mine_even, other, behind_even, weights)
