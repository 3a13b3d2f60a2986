"""What the other tracks of a song say of a spot in one of them.

All tracks are looked at in the same frames. What others put into a track, as spill or because they are microphones of
the same thing, is told by their powers: with one factor for each of them, smooth over frequency, they add up to what
is heard there (non-negative least squares). What rings in the track but not in that sum is the track's own.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt
from scipy.optimize import nnls
from scipy.signal import correlate

from mivlo.core.errors import BadAudio
from mivlo.core.findings.decays import WholeSpectrum
from mivlo.core.findings.evidence import STANDS_OUT_DB, lies_beside
from mivlo.core.findings.frames import (
    POINTS_PER_OCTAVE,
    Sound,
    choose_stretches,
    finding_grid,
    frame_powers,
    make_parts,
)
from mivlo.core.spectra import Singles, nearest_point
from mivlo.core.units import Floats

METHOD = 1
"""Raised when what is said changes, so that it is said anew."""
TWIN_SHARE = 0.75
"""Where the others explain so much of what a track has, it is a further microphone of what they have."""
LEAST_GAP_DB = 3.0
SPILL_UNDER_DB = 6.0
"""Spill is softer by so much at least than where it comes from."""
OWN_OVER_DB = 6.0
"""So far over what the others put there a frame is the track's own sound."""
MOST_SPILL_MS = 60.0
"""What comes later is no direct sound: 20 m."""
_BLOCK = POINTS_PER_OCTAVE // 4
_SOUNDING_DB = 45.0
_LEAST_FRAMES = 6
_MOST_OTHERS = 16
_TINY = 1e-14
_RINGS_SHARE = 0.75
"""Share of a track's own frames in which a room's ring stands out; a note does for less."""
_LAG_FROM_S = 30.0
_SPILL_SHARE, _MOSTLY = 0.7, 0.6
"""Share of what stands out that the others have to explain, and that has to stand out where it comes from."""


@dataclass(frozen=True, slots=True)
class Beside:
    """What the other tracks say of a spot; tracks by their number.

    lacking_db : how far it stands out over what the others together put there, of a track that they explain; None
        where they don't.
    spill_of : the track from which it comes, and by how many ms it comes later there.
    rings_in : others in which it stands out as well while they alone are heard.
    notes_of : others that have the same pitch at the same times.
    """

    lacking_db: float | None = None
    spill_of: int | None = None
    spill_ms: float | None = None
    rings_in: tuple[int, ...] = ()
    notes_of: tuple[int, ...] = ()

    def renamed(self, names: Sequence[int]) -> Beside:
        """The same with `names` in place of the numbers."""
        return replace(
            self,
            spill_of=None if self.spill_of is None else names[self.spill_of],
            rings_in=tuple(names[k] for k in self.rings_in),
            notes_of=tuple(names[k] for k in self.notes_of),
        )


@dataclass(frozen=True, slots=True)
class Explained:
    """What the others put into a track.

    power : (frames, grid); factors : (others, grid) of these; others : their numbers.
    share : of what is loud in the track (blocks of a quarter octave, frames), how much they explain within 3 dB.
    """

    power: Singles
    factors: Floats
    others: tuple[int, ...]
    share: float


@dataclass(slots=True)
class Ensemble:
    """The tracks of a song in the same frames.

    powers : per track (frames, grid). sounds : what they were taken from. rooms : tracks that hold what all others
    play: they explain nothing.
    """

    powers: list[Singles]
    sounds: Sequence[Sound]
    sample_rate: float
    rooms: frozenset[int] = frozenset()
    _coarse: list[Floats] = field(init=False)
    _explained: dict[int, Explained] = field(default_factory=dict)
    _heard: dict[int, WholeSpectrum] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._coarse = [_in_blocks(power) for power in self.powers]

    def explained(self, track: int) -> Explained:
        """What the other tracks put into one."""
        if track not in self._explained:
            self._explained[track] = _explain(self.powers, self._coarse, track, self.rooms)
        return self._explained[track]

    def beside(self, track: int, frequency_hz: float, octaves: float) -> Beside:
        """What the others say of a narrow spot in a track."""
        excess, _ = _spot(self.powers[track], frequency_hz, octaves)
        out = _sounding(self.powers[track]) & (excess >= STANDS_OUT_DB)
        if len(self.powers) < 2 or np.count_nonzero(out) < _LEAST_FRAMES:
            return Beside()
        lacking = self._lacking(track, frequency_hz, octaves)
        if lacking is not None and lacking >= LEAST_GAP_DB:
            return Beside(lacking_db=round(lacking, 1))
        if self._rings(track, frequency_hz, octaves):
            rings = [k for k in self.explained(track).others if self._rings(k, frequency_hz, octaves)]
            return Beside(lacking, rings_in=tuple(rings))
        spill = self._spill(track, frequency_hz, octaves, out)
        if spill is not None:
            return Beside(lacking, spill_of=spill[0], spill_ms=spill[1])
        return Beside(lacking, notes_of=self._notes(track, frequency_hz, out))

    def _lacking(self, track: int, frequency_hz: float, octaves: float) -> float | None:
        explained = self.explained(track)
        if explained.share < TWIN_SHARE:
            return None
        own, level = _spot(self.powers[track], frequency_hz, octaves)
        theirs, _ = _spot(explained.power, frequency_hz, octaves)
        heard = level > np.max(level) - 30.0
        return float(np.median((own - theirs)[heard]))

    def _own(self, track: int, frequency_hz: float, octaves: float) -> np.ndarray:  # type: ignore[type-arg]
        """Frames in which what lies around a place is the track's own sound."""
        around = np.abs(np.log2(finding_grid() / frequency_hz))
        around = (around <= 1.0) & (around > octaves)
        own = self.powers[track][:, around].sum(axis=1) + _TINY
        theirs = self.explained(track).power[:, around].sum(axis=1) + _TINY
        return np.asarray(_sounding(self.powers[track]) & (10.0 * np.log10(own / theirs) >= OWN_OVER_DB))

    def _rings(self, track: int, frequency_hz: float, octaves: float) -> bool:
        """Whether a place stands out whenever the track's own sound is heard."""
        own = self._own(track, frequency_hz, octaves)
        if np.count_nonzero(own) < _LEAST_FRAMES:
            return False
        excess, _ = _spot(self.powers[track], frequency_hz, octaves)
        return bool(np.mean(excess[own] >= STANDS_OUT_DB) >= _RINGS_SHARE)

    def _spill(
        self,
        track: int,
        frequency_hz: float,
        octaves: float,
        out: np.ndarray,  # type: ignore[type-arg]
    ) -> tuple[int, float | None] | None:
        """The track from which what stands out comes, and how much later."""
        explained = self.explained(track)
        excess, level = _spot(self.powers[track], frequency_hz, octaves)
        at = nearest_point(finding_grid(), frequency_hz)
        _, theirs = _spot(explained.power, frequency_hz, octaves)
        # noise stands out by chance now and then, by little
        came = out & (level <= theirs + STANDS_OUT_DB)
        if excess[came].sum() < _SPILL_SHARE * excess[out].sum():
            return None
        sums = [float(np.sum(self.powers[k][came, at])) for k in explained.others]
        given = explained.factors[:, at] * np.array(sums)
        main = explained.others[int(np.argmax(given))]
        there, loud = _spot(self.powers[main], frequency_hz, octaves)
        if np.mean(there[came] >= STANDS_OUT_DB) < _MOSTLY or np.median((loud - level)[came]) < SPILL_UNDER_DB:
            return None
        lag = self._lag_ms(main, track, frequency_hz)
        return None if lag is not None and lag < 0.0 else (main, lag)

    def _notes(self, track: int, frequency_hz: float, out: np.ndarray) -> tuple[int, ...]:  # type: ignore[type-arg]
        """Others that have the pitch when it stands out here, and seldom else: two or more, or none."""
        sounding = _sounding(self.powers[track])
        rest = sounding & ~out
        if np.count_nonzero(rest) < 0.15 * np.count_nonzero(sounding):
            return ()
        found = []
        for k, power in enumerate(self.powers):
            if k == track or k in self.rooms:
                continue
            excess, level = _spot(power, frequency_hz, 1.5 / POINTS_PER_OCTAVE)
            _, theirs = _spot(self.explained(k).power, frequency_hz, 1.5 / POINTS_PER_OCTAVE)
            if np.median((level - theirs)[out]) < OWN_OVER_DB:
                continue  # it does not play that, it is heard there
            there = (excess >= STANDS_OUT_DB) & (level > np.max(level) - _SOUNDING_DB) & _sounding(power)
            if np.mean(there[out]) >= 0.5 and np.mean(there[out]) >= 2.0 * np.mean(there[rest]):
                found.append(k)
        return tuple(found) if len(found) > 1 else ()

    def _lag_ms(self, first: int, later: int, frequency_hz: float) -> float | None:
        """By how much the second of two tracks has a range later than the first; None where that can't be told."""
        pair = [self._spectrum(k).band(frequency_hz, 0.5 * frequency_hz) for k in (first, later)]
        rate = pair[0][1]
        a, b = (np.abs(band) - np.mean(np.abs(band)) for band, _, _ in pair)
        reach = int(MOST_SPILL_MS / 1000.0 * rate)
        if reach < 2 or min(len(a), len(b)) <= 4 * reach or np.std(a) == 0.0 or np.std(b) == 0.0:
            return None
        n = min(len(a), len(b))
        alike = correlate(b[:n], a[:n], mode="full", method="fft")[n - 1 - reach : n + reach]
        alike /= np.std(a[:n]) * np.std(b[:n]) * n
        best = int(np.argmax(alike))
        if alike[best] < 0.5 or best in (0, 2 * reach):
            return None
        return round(1000.0 * (best - reach) / rate, 1)

    def _spectrum(self, track: int) -> WholeSpectrum:
        if track not in self._heard:
            frames = int(_LAG_FROM_S * self.sample_rate)
            sound = self.sounds[track]
            longest = max(s.shape[0] for s in self.sounds)
            first = max(0, (longest - frames) // 2)
            x = np.mean(np.asarray(sound[first : first + frames], dtype=np.float32), axis=1)
            x = np.pad(x, (0, min(frames, longest - first) - len(x)))
            self._heard[track] = WholeSpectrum(x, sample_rate=self.sample_rate)
        return self._heard[track]


def look_together(
    sounds: Sequence[Sound],
    *,
    sample_rate: float,
    rooms: Collection[int] = (),
    progress: Callable[[float], None] = lambda share: None,
) -> Ensemble:
    """Look at all tracks of a song in the same frames.

    sounds : (n, channels) each, from the song's beginning; read a stretch at a time.
    rooms : numbers of those that hold what all others play.

    Raises
    ------
    BadAudio : there is less than 50 ms of sound.
    """
    longest = max((s.shape[0] for s in sounds), default=0)
    if longest < 0.05 * sample_rate:
        raise BadAudio("There is too little sound to compare the tracks; at least 0.05 s are needed.")
    part = make_parts(sample_rate)[-1]
    stretches = choose_stretches(0, longest, sample_rate=sample_rate)
    powers: list[Singles] = []
    for number, sound in enumerate(sounds):
        rows = []
        for first, end in stretches:
            x = np.asarray(sound[first:end], dtype=np.float32).T
            x = np.pad(x, ((0, 0), (0, end - first - x.shape[1])))
            rows.append(frame_powers(np.ascontiguousarray(x), part))
        powers.append(np.concatenate(rows))
        progress((number + 1) / len(sounds))
    return Ensemble(powers, sounds, sample_rate, frozenset(rooms))


def _sounding(power: Singles) -> np.ndarray:  # type: ignore[type-arg]
    """Frames that are no rests."""
    loud = 10.0 * np.log10(np.max(power, axis=1) + _TINY)
    return np.asarray((loud > np.quantile(loud, 0.95) - _SOUNDING_DB) & (loud > -100.0))


def _spot(power: Singles, frequency_hz: float, octaves: float) -> tuple[Floats, Floats]:
    """(excess over what lies beside, level) of a narrow spot in dB, per frame."""
    away = np.abs(np.log2(finding_grid() / frequency_hz))
    half = max(octaves / 2.0, 0.6 / POINTS_PER_OCTAVE)
    inside, beside = away <= half, lies_beside(away, half)
    level = 10.0 * np.log10(np.mean(power[:, inside], axis=1) + _TINY)
    around = 10.0 * np.log10(np.mean(power[:, beside], axis=1) + _TINY)
    return np.asarray(level - around, dtype=np.float64), np.asarray(level, dtype=np.float64)


def _in_blocks(power: npt.NDArray[np.floating]) -> Floats:
    """(frames, blocks) mean power in quarter octaves."""
    blocks = power.shape[1] // _BLOCK
    whole = power[:, : blocks * _BLOCK].reshape(len(power), blocks, _BLOCK)
    return np.asarray(whole.mean(axis=2), dtype=np.float64)


def _explain(powers: Sequence[Singles], coarse: Sequence[Floats], track: int, rooms: frozenset[int]) -> Explained:
    """Factors for blocks of a quarter octave, every half octave, in octave and a half; a line in between."""
    points, blocks = powers[track].shape[1], coarse[track].shape[1]
    loudest = sorted(
        (k for k in range(len(powers)) if k != track and k not in rooms),
        key=lambda k: -_likeness(coarse[k], coarse[track]),
    )
    others = tuple(sorted(loudest[:_MOST_OTHERS]))
    if not others:
        return Explained(np.zeros_like(powers[track]), np.zeros((0, points)), (), 0.0)
    centres = np.arange(1, blocks, 2)
    found = np.zeros((len(others), len(centres)))
    for i, centre in enumerate(centres):
        span = slice(max(0, centre - 3), centre + 3)
        a = np.stack([coarse[k][:, span].ravel() for k in others], axis=1)
        found[:, i] = _factors(a, coarse[track][:, span].ravel())
    at = (centres + 0.5) * _BLOCK
    factors = np.stack([np.interp(np.arange(points), at, row) for row in found])
    power = np.zeros(powers[track].shape)
    for row, k in zip(factors, others, strict=True):
        power += row * powers[k]
    theirs = _in_blocks(power)
    heard = coarse[track] > max(np.max(coarse[track]) * 1e-4, 1e-11)
    apart = np.abs(10.0 * np.log10((coarse[track] + _TINY) / (theirs + _TINY)))
    share = float(np.mean(apart[heard] <= 3.0)) if heard.any() else 0.0
    return Explained(power.astype(np.float32), factors, others, share)


def _factors(a: Floats, b: Floats) -> Floats:
    """(others,) non-negative factors of the columns of `a`; what is soft counts in its own measure."""
    quiet = float(np.quantile(b, 0.2)) + 1e-12
    fit = b
    out = np.zeros(a.shape[1])
    for _ in range(4):
        weight = 1.0 / (0.5 * (fit + b) + quiet)
        out = nnls(a * weight[:, None], b * weight)[0]
        fit = a @ out
    return out


def _likeness(a: Floats, b: Floats) -> float:
    x, y = np.log(a + 1e-12).ravel(), np.log(b + 1e-12).ravel()
    return float(np.corrcoef(x, y)[0, 1]) if np.std(x) > 0.0 and np.std(y) > 0.0 else -1.0
