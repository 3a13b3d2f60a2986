"""Learned: what is steady in a track and not in what is played.

What is played is known from the other tracks of the song. Their power, decayed as in a small room, says what should be
heard of it here at every moment and frequency; the median over time of what is heard over that is the track's own
colour: a room, a shell, a microphone's place. What stands out of it narrowly is a ring that stays while the notes
change, whichever note was played. (A transfer function from powers alone: phases are lost in a room.)

A mix has no other tracks. Its rooms are those of its tracks that go with the others; what rings in one of them, and
stands out of the mix, too, over what the rest plays, stays in the mix.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.ndimage import gaussian_filter1d, percentile_filter

from mivlo.core.errors import BadAudio, InvalidValue
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.processors.adaptive import window_frames
from mivlo.core.spectra import power_between, short_spectra
from mivlo.core.units import Floats, octaves_to_q

WINDOW_S = 16_384 / 48_000
HOPS = 4
DECAY_S = 0.6
"""In which what is played falls by 60 dB here, for what is expected: short of a room, so that its tail is no ring."""
POINTS_PER_OCTAVE, BAND_OCT = 192, 1.0 / 40.0
_FEW_PER_OCTAVE = 24
_SAME_OCT = 1.0 / 24.0
LEAST_DB, DEEPEST_DB = 4.5, 12.0
MOST = 6
QUIET_DB = 40.0
LEAST_LIKENESS = 0.7
"""A track is explained by the others where its level over time and frequency goes with what is expected so far."""
LEAST_S = 4.0
_AROUND_OCT, _BESIDE_OCT = 1.0, 1.0 / 12.0


@dataclass(frozen=True, slots=True)
class Staying:
    """Something narrow that stays.

    cut : the bell that takes it away. over_db : how far it stands out of the track's own colour.
    ripple_db : how far that colour strays by itself within an octave about it (standard deviation, by its median).
    times_s : (n,) moments that sound, from the beginning of what was listened to. here_db, expected_db : (n,) what is
        heard there then, and what would be without it.
    """

    cut: StaticMove
    over_db: float
    ripple_db: float
    times_s: Floats
    here_db: Floats
    expected_db: Floats


@dataclass(frozen=True, slots=True)
class Learned:
    """What stays, lowest first, and how far the track goes with what the others play: a correlation, 0 to 1."""

    stays: tuple[Staying, ...]
    likeness: float

    @property
    def moves(self) -> tuple[StaticMove, ...]:
        """The cuts."""
        return tuple(place.cut for place in self.stays)


def learn(
    sound: npt.ArrayLike,
    others: Iterable[npt.ArrayLike],
    *,
    sample_rate: int,
    from_hz: float = 150.0,
    to_hz: float = 8_000.0,
    lead_s: float = 0.0,
    most: int = MOST,
) -> Learned:
    """What is steady in a sound (n, channels) and not in what other tracks, of the same frames, play.

    Parameters
    ----------
    lead_s : seconds at the start that are listened to only for what still sounds afterwards.

    Raises
    ------
    InvalidValue : the range is none.
    BadAudio : too short, or silent.
    """
    asked = _Asked(sample_rate, from_hz, to_hz, lead_s)
    x = np.asarray(sound, dtype=np.float64)
    asked.long_enough(len(x))
    here = asked.powers(x)
    played = np.zeros_like(here)
    for other in others:
        power = asked.powers(np.asarray(other)[: len(x)])
        played[: len(power)] += power
    return _learned(here, played, asked, most)


@dataclass(frozen=True, slots=True)
class _Asked:
    """Where is listened, as for `learn`, and through which windows.

    Raises
    ------
    InvalidValue : the range is none.
    """

    sample_rate: int
    from_hz: float
    to_hz: float
    lead_s: float

    def __post_init__(self) -> None:
        if not 0.0 < self.from_hz < self.to_hz:
            raise InvalidValue("to_hz", self.to_hz, f"it must lie above {self.from_hz:g} Hz")

    @property
    def length(self) -> int:
        """Frames of a window; one begins every quarter of it."""
        return window_frames(self.sample_rate, WINDOW_S)

    @property
    def bin_hz(self) -> float:
        return self.sample_rate / self.length

    @property
    def bins_hz(self) -> Floats:
        return np.asarray(np.arange(self.length // 2 + 1, dtype=np.float64) * self.bin_hz)

    @property
    def top_hz(self) -> float:
        return min(self.to_hz, 0.45 * self.sample_rate)

    def long_enough(self, frames: int) -> None:
        """Whether so many frames are enough, else BadAudio."""
        if frames < (self.lead_s + LEAST_S) * self.sample_rate:
            raise BadAudio(f"It takes at least {LEAST_S:g} s of sound to learn from; mark a longer passage.")

    def powers(self, sound: npt.ArrayLike) -> Floats:
        """Power of short spectra of a sound (n, channels), channels together: (windows, bins)."""
        pieces = short_spectra(np.asarray(sound, dtype=np.float64), np.hanning(self.length), self.length // HOPS)
        return np.concatenate([np.zeros((0, len(self.bins_hz))), *(np.sum(np.abs(z) ** 2, axis=1) for z in pieces)])

    def expected(self, played: Floats) -> Floats:
        """What should be heard in a small room of the power that is played, (windows, frequencies)."""
        return decayed(played, math.exp(-13.8 * self.length / HOPS / self.sample_rate / DECAY_S))

    def sounding(self, power: Floats) -> npt.NDArray[np.bool_]:
        """Which windows are loud enough in the range, and behind the lead: (windows,)."""
        inside = (self.bins_hz >= self.from_hz) & (self.bins_hz <= self.top_hz)
        level = 10.0 * np.log10(np.sum(power[:, inside], axis=1) + 1e-15)
        sounds = level > np.max(level, initial=-150.0) - QUIET_DB
        sounds[: math.ceil(self.lead_s * self.bin_hz * HOPS)] = False
        return np.asarray(sounds)


def _learned(here: Floats, played: Floats, asked: _Asked, most: int) -> Learned:
    """As `learn`, from the power that is heard here and that of all others, each (windows, bins)."""
    from_hz, to_hz, bin_hz, last_hz = asked.from_hz, asked.to_hz, asked.bin_hz, asked.sample_rate / 2.0
    expected, sounds = asked.expected(played), asked.sounding(here)
    if np.count_nonzero(sounds) < 2 * HOPS or np.max(played) <= 0.0:
        raise BadAudio("There is too little to be heard of it, or of the others, in the passage.")
    octaves = np.arange(math.log2(from_hz) - _AROUND_OCT / 2, math.log2(to_hz) + _AROUND_OCT / 2, 1 / POINTS_PER_OCTAVE)
    octaves = octaves[(2.0**octaves > 4.0 * bin_hz) & (2.0**octaves < 0.9 * last_hz)]
    a, b = (10.0 * np.log10(_banded(p[sounds], 2.0**octaves, bin_hz) + 1e-12) for p in (here, expected))
    likeness = _likeness(a, b)
    colour = gaussian_filter1d(np.median(a - b, axis=0), 2.0)
    usual = percentile_filter(colour, 50, round(_AROUND_OCT * POINTS_PER_OCTAVE))
    curve = colour - usual
    times = (np.flatnonzero(sounds) / HOPS + 0.5) / bin_hz
    found = [
        Staying(
            _cut(octaves, curve, i, 4.0 * bin_hz), float(curve[i]), _ripple(octaves, curve, i),
            times, a[:, i], b[:, i] + usual[i],
        )
        for i in _peaks(curve)
    ]  # fmt: skip
    kept = [place for place in found if from_hz <= place.cut.frequency_hz <= to_hz]
    return Learned(tuple(sorted(kept[:most], key=lambda place: place.cut.frequency_hz)), likeness)


@dataclass(frozen=True, slots=True)
class LearnedOfMix:
    """Cuts at what stays in a mix, and what was heard as rooms in it.

    likenesses : how far each track goes with the others, 0 to 1. rooms : which of them are rooms that ring.
    """

    moves: tuple[StaticMove, ...]
    likenesses: tuple[float, ...]
    rooms: tuple[int, ...]


def learn_of_mix(
    mix: npt.ArrayLike,
    tracks: Sequence[npt.ArrayLike],
    *,
    sample_rate: int,
    from_hz: float = 150.0,
    to_hz: float = 8_000.0,
    lead_s: float = 0.0,
    most: int = MOST,
) -> LearnedOfMix:
    """Cuts at what is steady in a mix (n, channels) of tracks (n, channels), as they are in it, and not played.

    Raises
    ------
    InvalidValue : the range is none.
    BadAudio : too short, or silent.
    """
    asked = _Asked(sample_rate, from_hz, to_hz, lead_s)
    like, total = _compared(tracks, asked)
    rings: dict[int, tuple[StaticMove, ...]] = {}
    played = total
    for i, likeness in enumerate(like):
        if likeness >= LEAST_LIKENESS:
            own = asked.powers(tracks[i])
            rings[i] = _learned(own, _without(total, own), asked, most).moves
            if rings[i]:
                played = _without(played, own)
    rooms = tuple(i for i, moves in rings.items() if moves)
    if not rooms or len(rooms) == len(tracks):
        return LearnedOfMix((), like, rooms)
    known = [move.frequency_hz for i in rooms for move in rings[i]]
    whole = asked.powers(mix)
    found = _learned(whole, played[: len(whole)], asked, most)
    kept = [m for m in found.moves if min(abs(math.log2(m.frequency_hz / hz)) for hz in known) < _SAME_OCT]
    return LearnedOfMix(tuple(kept), like, rooms)


def _compared(sounds: Sequence[npt.ArrayLike], asked: _Asked) -> tuple[tuple[float, ...], Floats]:
    """How far each of some sounds (n, channels), all of the same frames, goes with what the others play, 0 to 1.

    As `Learned.likeness`, from fewer frequencies; 0 for what is hardly heard. And the power of all together, (windows,
    bins): each is transformed once, none is kept.
    """
    asked.long_enough(min((np.shape(sound)[0] for sound in sounds), default=0))
    lowest_hz = max(asked.from_hz, 4.0 * asked.bin_hz)
    octaves = np.arange(math.log2(lowest_hz), math.log2(asked.top_hz), 1.0 / _FEW_PER_OCTAVE)
    bands, heard = [], []
    total: Floats = np.zeros(())
    for sound in sounds:
        power = asked.powers(sound)
        heard.append(asked.sounding(power))
        bands.append(_banded(power, 2.0**octaves, asked.bin_hz))
        total = total + power
    found = []
    for band, sounding in zip(bands, heard, strict=True):
        expected = asked.expected(sum(bands) - band)
        if np.count_nonzero(sounding) < 2 * HOPS or np.max(expected, initial=0.0) <= 0.0:
            found.append(0.0)
            continue
        found.append(_likeness(*(10.0 * np.log10(np.maximum(p[sounding], 0.0) + 1e-12) for p in (band, expected))))
    return tuple(found), total


def _without(power: Floats, part: Floats) -> Floats:
    """What is left of a power without a part of it; no rounding of a loud part is taken for something quiet."""
    left = power - part
    left[left < 1e-12 * power] = 0.0
    return left


def _banded(power: Floats, hz: Floats, bin_hz: float) -> Floats:
    """Mean power around frequencies, over BAND_OCT or three bins: (windows, frequencies).

    A room's fine structure is random from one hertz to the next; a ring is wider.
    """
    half = np.maximum(hz * (2.0 ** (BAND_OCT / 2.0) - 1.0), 1.5 * bin_hz)
    return np.asarray(power_between(power, hz - half, hz + half, bin_hz) * bin_hz / (2.0 * half))


def decayed(power: Floats, left: float) -> Floats:
    """Each moment of a power (n, ...) with what is left of those before it: of the last one that share."""
    out = power.copy()
    for k in range(1, len(out)):
        out[k] += left * out[k - 1]
    return out


def _likeness(a: Floats, b: Floats) -> float:
    """How far both go together in time: the correlation of their levels in 24 ranges, the mean of all."""
    groups = np.array_split(np.arange(a.shape[1]), 24)
    rows = []
    for group in groups:
        one, other = a[:, group].mean(axis=1), b[:, group].mean(axis=1)
        if one.std() > 0.5 and other.std() > 0.5:
            rows.append(float(np.corrcoef(one, other)[0, 1]))
    return float(np.clip(np.mean(rows), 0.0, 1.0)) if rows else 0.0


def _peaks(curve: Floats) -> list[int]:
    reach = POINTS_PER_OCTAVE // 16
    at = [
        i
        for i in range(reach, len(curve) - reach)
        if curve[i] >= LEAST_DB and curve[i] == np.max(curve[i - reach : i + reach + 1])
    ]
    return sorted(at, key=lambda i: -curve[i])


def _ripple(octaves: Floats, curve: Floats, at: int) -> float:
    """By how much a curve strays about a peak, in dB; 1.48 medians of what is normal are a standard deviation."""
    apart = np.abs(octaves - octaves[at])
    return float(1.4826 * np.median(np.abs(curve[(apart <= _AROUND_OCT) & (apart > _BESIDE_OCT)])))


def _cut(octaves: Floats, curve: Floats, at: int, seen_hz: float) -> StaticMove:
    """A bell over a peak: its centre where the upper half of it lies, as wide as it is at half its height.

    seen_hz : how wide a line looks, which is taken off.
    """
    half = curve[at] / 2.0
    low = high = at
    while low > 0 and curve[low - 1] > half:
        low -= 1
    while high < len(curve) - 1 and curve[high + 1] > half:
        high += 1
    weight = curve[low : high + 1] - half
    centre = 2.0 ** float(np.average(octaves[low : high + 1], weights=np.maximum(weight, 1e-9)))
    whole_hz = centre * ((high - low + 1) / POINTS_PER_OCTAVE) * math.log(2.0)
    own_hz = math.sqrt(max(whole_hz**2 - seen_hz**2, (0.25 * whole_hz) ** 2))
    width = max(own_hz / centre / math.log(2.0), 0.02)
    depth = round(min(DEEPEST_DB, float(curve[at])), 1)
    return StaticMove(Shape.BELL, round(centre, 1), q=round(octaves_to_q(width), 2), gain_db=-depth)
