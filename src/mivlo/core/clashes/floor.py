"""The floor: the low end that each track does not need, judged by what is heard of it in the mix and alone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from mivlo.core.auditory import BAND_HZ, COMPONENT_HZ, K_WEIGHTS, partial_loudness, sones, specific_loudness
from mivlo.core.clashes.scene import Scene
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.moves.static import Slope
from mivlo.core.parallel import in_parallel
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats, power_to_db

LOW_HZ = 150.0
"""The low end lies below (common practice, no source)."""
JUST_NOT_HEARD = 0.01
"""A track's loudness may change by less than this."""
SAME_MIX = 0.02
"""The mix's loudness in any band may change by less than this."""
LOUDER_DB = 10.0
"""Everything is judged again at so much more, where lows are heard better."""
LIVES_THERE = 0.2
"""A track with more of its loudness in the low end lives down there."""
SLOPES: tuple[Slope, ...] = (12, 24)

_CORNERS_HZ: Floats = 20.0 * 2.0 ** (np.arange(0, 43) / 6.0)  # 20 Hz to 2.6 kHz in sixths of an octave
_WINDOW_S = 0.4
_EXPOSED = 0.1  # of a track's loudest: where it is as loud as that, it counts
_WORST = 0.95  # of all such moments so many are within the limit; the rest lasts for less than is heard as change
_MOST_FRAMES = 400
_NOTE_DB = 25.0


@dataclass(frozen=True, slots=True)
class Floor:
    """What one track does in the low end.

    low_lufs : K-weighted level of what lies below LOW_HZ, without gates. share : of the sum of all low ends, 0 to 1.
    corner_in_mix_hz, corner_alone_hz : of the highest low cut that is just not heard; None where there is none.
    lowest_note_hz : the lowest that the track plays; corners stay below. left_alone : why there is no cut, or None.
    """

    low_lufs: float
    share: float
    corner_in_mix_hz: float | None
    corner_alone_hz: float | None
    slope_db_per_octave: Slope
    lowest_note_hz: float | None
    left_alone: str | None

    @property
    def move(self) -> StaticMove | None:
        """The low cut for the mix."""
        if self.corner_in_mix_hz is None:
            return None
        return StaticMove(Shape.LOW_CUT, self.corner_in_mix_hz, slope_db_per_octave=self.slope_db_per_octave)


@dataclass(frozen=True, slots=True)
class Floors:
    """All tracks, and the sum of their lows in dB before and behind all cuts (K-weighted, below LOW_HZ)."""

    tracks: tuple[Floor, ...]
    before_db: float
    after_db: float


def cut_power(corner_hz: float, slope_db_per_octave: int) -> Singles:
    """(COMPONENTS,) what a Butterworth low cut leaves of a power: 1 / (1 + (corner / f)^(2 n))."""
    order = slope_db_per_octave // 6
    return np.asarray(1.0 / (1.0 + (corner_hz / COMPONENT_HZ) ** (2 * order)), dtype=np.float32)


def lowest_note(power: Singles) -> float | None:
    """The lowest frequency in Hz of a note in power (ears, frames, COMPONENTS), or None.

    In each of the louder frames the lowest peak that comes within 25 dB of the highest, by power at the cochlea, and
    that has another one at two or three times its frequency (of a bar: at four times): rumble has none. Of these the
    3 % quantile.
    """
    x = power.sum(axis=0, dtype=np.float64)
    total = x.sum(axis=1)
    x = x[total > 0.01 * np.max(total, initial=0.0)]
    if not len(x):
        return None
    least = np.max(x, axis=1, keepdims=True) * 10.0 ** (-_NOTE_DB / 10.0)
    inner = x[:, 1:-1]
    peaks = (inner > x[:, :-2]) & (inner >= x[:, 2:]) & (inner > least)
    hz = COMPONENT_HZ[1:-1]
    near = peaks | np.pad(peaks[:, 1:], ((0, 0), (0, 1))) | np.pad(peaks[:, :-1], ((0, 0), (1, 0)))
    for partials in ((2, 3), (4,)):
        notes = np.zeros_like(peaks)
        for times in partials:
            place = np.searchsorted(hz, times * hz)
            inside = place < len(hz)
            notes[:, inside] |= near[:, place[inside]]
        notes &= peaks
        some = notes.any(axis=1)
        if some.any():
            return float(np.quantile(hz[notes[some].argmax(axis=1)], 0.03))
    return None


class _Judge:
    """How much of a track's loudness low cuts take, at its most exposed moments, at two levels."""

    def __init__(self, scene: Scene, strip: int) -> None:
        self._scenes = (scene, replace(scene, full_scale_db=scene.full_scale_db + LOUDER_DB))
        self._power = scene.power[strip]
        rest = scene.of_others(strip)
        self._others = [s.spread(rest) for s in self._scenes]
        self._window = max(1, round(_WINDOW_S / scene.frame_s))
        self._before = {alone: [self._heard(self._power, n, alone) for n in (0, 1)] for alone in (False, True)}

    def _heard(self, power: Singles, level: int, alone: bool) -> Floats:
        """(windows,) loudness in sones, alone or among the others."""
        own = self._scenes[level].spread(power)
        specific = specific_loudness(own) if alone else partial_loudness(own, self._others[level])
        in_time = sones(specific.max(axis=0))
        count = max(1, len(in_time) // self._window)
        return np.array([part.mean() for part in np.array_split(in_time, count)])

    def taken(self, corner_hz: float, slope: int, *, alone: bool) -> float:
        """The share of the loudness that goes at an exposed moment."""
        power = self._power * cut_power(corner_hz, slope)
        worst = 0.0
        for level in (0, 1):
            before, after = self._before[alone][level], self._heard(power, level, alone)
            exposed = before > _EXPOSED * np.max(before, initial=0.0)
            if exposed.any():
                worst = max(worst, float(np.quantile(1.0 - after[exposed] / before[exposed], _WORST)))
        return worst

    def highest(self, slope: int, limit_hz: float, *, alone: bool) -> int | None:
        """The number of the highest corner that is just not heard, by halving."""
        low, high = -1, int(np.searchsorted(_CORNERS_HZ, limit_hz, side="right"))
        while high - low > 1:
            middle = (low + high) // 2
            if self.taken(float(_CORNERS_HZ[middle]), slope, alone=alone) < JUST_NOT_HEARD:
                low = middle
            else:
                high = middle
        return low if low >= 0 else None


def _low_power(power: Singles) -> Floats:
    """(...,) K-weighted power below LOW_HZ of powers (..., COMPONENTS), mean over the frames, both ears together."""
    low = COMPONENT_HZ < LOW_HZ
    return np.asarray(np.sum(np.mean(power[..., low], axis=-2, dtype=np.float64) * K_WEIGHTS[low], axis=-1))


def find_floors(
    scene: Scene,
    *,
    same_source: Sequence[tuple[int, int]] = (),
    lives_there: Sequence[bool] | None = None,
    above_notes: bool = False,
) -> Floors:
    """The low cuts of all tracks that are just not heard, judged together.

    Parameters
    ----------
    scene : the tracks at their places in the mix.
    same_source : pairs of tracks that carry the same source; they get the same cut, since one alone would turn their
        phase against each other.
    lives_there : tracks known to live in the low end (kick, bass); besides those in which it makes up much.
    above_notes : whether corners may lie above the lowest note that a track plays.
    """
    scene = scene.at_most(_MOST_FRAMES)
    lows = np.array([float(np.sum(_low_power(p))) for p in scene.power])
    tracks = in_parallel(lambda i: _floor_of(scene, i, lows, lives_there, above_notes), range(scene.count))
    for pair in same_source:
        tracks = _alike(tracks, pair)
    tracks = _judged_together(scene, tracks, same_source)
    after = [float(np.sum(_low_power(_behind(scene.power[i], t)))) for i, t in enumerate(tracks)]
    return Floors(tuple(tracks), _db(lows.sum()), _db(sum(after)))


def _db(power: npt.ArrayLike) -> float:
    return float(power_to_db(power)) - 0.691


def _behind(power: Singles, floor: Floor) -> Singles:
    if floor.corner_in_mix_hz is None:
        return power
    return np.asarray(power * cut_power(floor.corner_in_mix_hz, floor.slope_db_per_octave))


def _floor_of(scene: Scene, strip: int, lows: Floats, lives_there: Sequence[bool] | None, above_notes: bool) -> Floor:
    power = scene.power[strip]
    share = float(lows[strip] / lows.sum()) if lows.sum() > 0.0 else 0.0
    note = lowest_note(power)
    nothing = Floor(_db(lows[strip]), share, None, None, SLOPES[-1], note, None)
    specific = _by_band(scene, power)
    if not np.any(specific > 0.0):
        return replace(nothing, left_alone="it is silent")
    mostly_low = specific[BAND_HZ < LOW_HZ].sum() > LIVES_THERE * specific.sum()
    if mostly_low or (lives_there is not None and lives_there[strip]):
        return replace(nothing, left_alone="it lives in the low end")
    judge = _Judge(scene, strip)
    limit = _CORNERS_HZ[-1] if above_notes or note is None else note
    best: tuple[float, Floor] | None = None
    for slope in SLOPES:
        at = judge.highest(slope, float(limit), alone=False)
        if at is None:
            continue
        by_itself = judge.highest(slope, float(limit), alone=True)
        found = replace(
            nothing, slope_db_per_octave=slope, corner_in_mix_hz=round(float(_CORNERS_HZ[at]), 1),
            corner_alone_hz=None if by_itself is None else round(float(_CORNERS_HZ[by_itself]), 1),
        )  # fmt: skip
        left = float(np.sum(_low_power(_behind(power, found))))
        if best is None or left < best[0]:
            best = left, found
    return best[1] if best is not None else replace(nothing, left_alone="any low cut would be heard")


def _alike(tracks: list[Floor], pair: tuple[int, int]) -> list[Floor]:
    """Two tracks with the gentler of their cuts; none where one of them has none."""
    a, b = (tracks[i] for i in pair)
    out = list(tracks)
    if a.corner_in_mix_hz is None or b.corner_in_mix_hz is None:
        for i, other in zip(pair, (b, a), strict=True):
            if out[i].corner_in_mix_hz is not None and other.left_alone is not None:
                why = f"it carries the same source as a track without a cut ({other.left_alone})"
                out[i] = replace(out[i], corner_in_mix_hz=None, left_alone=why)
        return out
    gentler = min((a, b), key=lambda t: t.corner_in_mix_hz or 0.0)
    for i in pair:
        out[i] = replace(
            out[i], corner_in_mix_hz=gentler.corner_in_mix_hz, slope_db_per_octave=gentler.slope_db_per_octave
        )
    return out


def _judged_together(scene: Scene, tracks: list[Floor], pairs: Sequence[tuple[int, int]]) -> list[Floor]:
    """Corners lowered until no band of the mix changes by more than it may; pairs keep the same cut."""
    loud = replace(scene, full_scale_db=scene.full_scale_db + LOUDER_DB)
    before = [_by_band(s, scene.of_others()) for s in (scene, loud)]
    for _ in range(200):
        behind = np.sum([_behind(p, t) for p, t in zip(scene.power, tracks, strict=True)], axis=0)
        worst, band = 0.0, 0
        for level, s in enumerate((scene, loud)):
            heard = before[level] > 0.01 * np.max(before[level], initial=1e-9)
            change = np.where(heard, 1.0 - _by_band(s, behind) / np.maximum(before[level], 1e-9), 0.0)
            if change.max(initial=0.0) > worst:
                worst, band = float(change.max()), int(change.argmax())
        if worst <= SAME_MIX:
            return tracks
        tracks = _less_at(scene, tracks, band)
        for pair in pairs:
            tracks = _alike(tracks, pair)
    return tracks


def _by_band(scene: Scene, power: Singles) -> Floats:
    """(BANDS,) specific loudness of a power, mean over the frames; the better ear counts."""
    return np.asarray(specific_loudness(scene.spread(power)).max(axis=0).mean(axis=0, dtype=np.float64))


def _less_at(scene: Scene, tracks: list[Floor], band: int) -> list[Floor]:
    """The cut that takes most near a band, one step lower."""
    near = np.abs(np.log2(COMPONENT_HZ / BAND_HZ[band])) < 0.5
    taken = [
        float(np.sum(p[..., near], dtype=np.float64) - np.sum(_behind(p, t)[..., near], dtype=np.float64))
        for p, t in zip(scene.power, tracks, strict=True)
    ]
    most = int(np.argmax(taken))
    out = list(tracks)
    corner = out[most].corner_in_mix_hz
    assert corner is not None
    step = int(np.argmin(np.abs(_CORNERS_HZ - corner))) - 1
    if step < 0:
        out[most] = replace(out[most], corner_in_mix_hz=None, left_alone="with the others' cuts it would be heard")
    else:
        out[most] = replace(out[most], corner_in_mix_hz=round(float(_CORNERS_HZ[step]), 1))
    return out
