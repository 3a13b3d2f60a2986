"""A stretch of a song as the model of hearing has it: every track at its place in the mix."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace
from threading import BoundedSemaphore, Lock

import numpy as np

from mivlo.core.auditory import COMPONENT_HZ, K_WEIGHTS, components, frame_length
from mivlo.core.clashes import Halves, Scene
from mivlo.core.errors import MivloError
from mivlo.core.graph import Plan, StripKind, Tap
from mivlo.core.loudness import SILENCE_LUFS, gate
from mivlo.core.moves import Channels, FixedMove, Treatment, treatment_db
from mivlo.core.parallel import in_parallel
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats
from mivlo.services.making.hearing import sound_of
from mivlo.services.song.state import SongState

LARGEST_KNOWN = 200_000_000
"""Bytes of spectra that are kept: a fader that is moved changes none of them."""


class _Known:
    """Spectra by the names of what they are of; those that were not asked for lately go."""

    def __init__(self) -> None:
        self._lock = Lock()
        self._spectra: OrderedDict[tuple[str, int, int], Singles] = OrderedDict()

    def get(self, name: tuple[str, int, int]) -> Singles | None:
        with self._lock:
            found = self._spectra.get(name)
            if found is not None:
                self._spectra.move_to_end(name)
            return found

    def put(self, name: tuple[str, int, int], power: Singles) -> None:
        with self._lock:
            self._spectra[name] = power
            while len(self._spectra) > 1 and sum(p.nbytes for p in self._spectra.values()) > LARGEST_KNOWN:
                self._spectra.popitem(last=False)


_known = _Known()


class Turns:
    """Comparing all tracks takes both cores: one at a time, and only so many wait, so that nobody holds all threads."""

    def __init__(self, most: int) -> None:
        self._places, self._turn = BoundedSemaphore(most), Lock()

    def __enter__(self) -> None:
        if not self._places.acquire(blocking=False):
            raise MivloError("Mivlo is still busy with what was asked before. Try again in a moment.")
        self._turn.acquire()

    def __exit__(self, *how: object) -> None:
        self._turn.release()
        self._places.release()


comparing = Turns(8)
MOST_TRACKS = 48
"""Of more tracks the loudest are compared: all against all grows with their square."""


@dataclass(frozen=True)
class HeardSong:
    """Tracks, and groups in place of theirs, that sound together between two frames.

    song : without what a file shall not have. tracks : their ids, groups' among them, in the scene's order. mix_lufs :
    gated loudness of all together there, by their powers, which is taken to be heard at the playback level of the song.
    """

    song: SongState
    first: int
    last: int
    tracks: tuple[int, ...]
    scene: Scene
    mix_lufs: float

    @classmethod
    def of(
        cls,
        song: SongState,
        first: int,
        last: int,
        progress: Callable[[float], None] | None = None,
        *,
        folded: Collection[int] = (),
        only: Collection[int] = (),
    ) -> HeardSong:
        """All tracks that reach the mix, with their moves, faders and pans, and the static moves of groups and mix.

        progress : is told the share that is done, and may raise to give up. folded : groups that stand for their
        tracks, with all that they do. only : of tracks and such groups, those that are compared; none: all. The level
        is that of the whole mix all the same.
        """
        song = song.exported()
        tracks = units(song, folded)
        powers = in_parallel(lambda i: placed_power(song, i, first, last), tracks, progress)
        frame_s = frame_length(song.sample_rate) / song.sample_rate
        lufs = mix_loudness(powers, frame_s)
        if only:
            kept = [n for n, i in enumerate(tracks) if i in only]
            tracks, powers = tuple(tracks[n] for n in kept), [powers[n] for n in kept]
        if len(tracks) > MOST_TRACKS:
            loud = sorted(np.argsort([-float(p.mean()) for p in powers])[:MOST_TRACKS].tolist())
            tracks, powers = tuple(tracks[i] for i in loud), [powers[i] for i in loud]
        level = song.playback_db_spl
        full_scale = level - lufs if lufs > SILENCE_LUFS else level
        return cls(song, first, last, tracks, Scene.of(powers, full_scale_db=full_scale, frame_s=frame_s), lufs)

    def number(self, track_id: int) -> int | None:
        """The number of a track in the scene; None where it does not sound."""
        return self.tracks.index(track_id) if track_id in self.tracks else None

    def sound(self, track_id: int, song: SongState | None = None) -> Floats:
        """A track behind its aftercare, (n, channels); of a changed song if one is given."""
        of = song or self.song
        return sound_of(of, of.plan, (track_id, Tap.BEHIND), self.first, self.last)

    def key(self, track_id: int) -> Floats:
        """A track as moves of other tracks hear it."""
        return sound_of(self.song, self.song.plan, (track_id, Tap.KEY), self.first, self.last)

    def halves(self, track_id: int) -> Halves | None:
        """Middle and sides of a track at its place; None of one that is mono."""
        strip = self.song.strip(track_id)
        if strip.kind is StripKind.TRACK and strip.channels != 2:
            return None

        sound = self.sound(track_id)
        parts = np.concatenate([sound, np.mean(sound, axis=1, keepdims=True)], axis=1)
        power = components(parts, sample_rate=self.song.sample_rate)
        return Halves.of(power[:2], power[2:]).times(_weights(self.song.plan, track_id))

    def with_treatment(self, track_id: int, treatment: Treatment) -> HeardSong:
        """The same with another treatment of one track; the level stays."""
        song = self.song.with_strip(replace(self.song.strip(track_id), treatment=treatment))
        power = self.scene.power.copy()
        number = self.tracks.index(track_id)
        made = placed_power(song, track_id, self.first, self.last)
        power[number] = 0.0
        power[number, :, : made.shape[1]] = made
        return replace(self, song=song, scene=replace(self.scene, power=power))


def audible_tracks(song: SongState) -> tuple[int, ...]:
    """The tracks that reach the mix."""
    audible = song.plan.audible(solos=False)
    return tuple(t.id for t in song.tracks if t.id in audible and t.audio_sha256)


def units(song: SongState, folded: Collection[int] = ()) -> tuple[int, ...]:
    """What is compared: the tracks that reach the mix, in place of those in folded groups the outermost such group."""
    groups = {s.id for s in song.strips if s.kind is StripKind.GROUP and s.id in folded}
    found = []
    for track in audible_tracks(song):
        around = [i for i in song.plan.above(track) if i in groups]
        found.append(around[-1] if around else track)
    return tuple(dict.fromkeys(found))


def mix_loudness(powers: Sequence[Singles], frame_s: float) -> float:
    """Gated loudness in LUFS (ITU-R BS.1770-5) of sounds whose powers (ears, frames, COMPONENTS) add up."""
    if not powers or not powers[0].shape[1]:
        return SILENCE_LUFS
    total = np.sum([p @ K_WEIGHTS.astype(np.float32) for p in powers], axis=(0, 1))
    count, step = (max(1, round(seconds / frame_s)) for seconds in (0.4, 0.1))
    whole = np.concatenate([[0.0], np.cumsum(total, dtype=np.float64)])
    starts = np.arange(0, max(1, len(total) - count + 1), step)
    ends = np.minimum(starts + count, len(total))
    return gate((whole[ends] - whole[starts]) / (ends - starts))


def placed_power(song: SongState, track_id: int, first: int, last: int) -> Singles:
    """(2, frames, COMPONENTS) of a track or group behind its aftercare, fader and pan, and the groups it runs into."""
    plan = song.plan
    name = (plan.sound(track_id), first, last)
    power = _known.get(name)
    if power is None:
        sound = sound_of(song, plan, (track_id, Tap.BEHIND), first, last)
        power = components(sound, sample_rate=song.sample_rate)
        if power.nbytes < LARGEST_KNOWN / 10:
            _known.put(name, power)
    return np.asarray(power * _weights(plan, track_id))


def _weights(plan: Plan, track_id: int) -> Singles:
    """(2, 1, COMPONENTS) of power: what faders, pans and the static moves of groups and mix make of a strip."""
    gains = np.ones(2)
    curve = np.zeros(len(COMPONENT_HZ))
    for strip_id in (track_id, *plan.above(track_id)):
        strip = plan.strips[strip_id]
        gains *= np.square(strip.gains)
        if strip_id != track_id:  # its own moves are in its sound
            heard = strip.treatment.heard()
            static = [e.move for e in heard if isinstance(e.move, FixedMove) and e.channels is Channels.ALL]
            curve += treatment_db(static, COMPONENT_HZ, sample_rate=plan.sample_rate)
    weights = gains[:, None] * 10.0 ** (curve / 10.0)
    return np.asarray(weights[:, None, :].astype(np.float32))
