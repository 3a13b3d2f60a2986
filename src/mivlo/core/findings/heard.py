"""What a look at a sound heard, and what can be told of a finding from it: evidence, cost of its move, its loop."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import cached_property

import numpy as np

from mivlo.core.errors import BadAudio
from mivlo.core.findings.contours import all_contours
from mivlo.core.findings.cuts import bell_db
from mivlo.core.findings.decays import Decay, WholeSpectrum, own_ring_ms
from mivlo.core.findings.evidence import Evidence, SpotTrace, harmonic_of, trace
from mivlo.core.findings.finding import Finding
from mivlo.core.findings.frames import Sound, finding_grid, look
from mivlo.core.findings.loops import BEFORE_S, LONGEST_S, LOOP_S, loop_around
from mivlo.core.making.thresholds import Trace
from mivlo.core.making.thresholds import trace as trace_level
from mivlo.core.moves import DynamicMove, Move, StaticMove, treatment_db
from mivlo.core.roles import Role
from mivlo.core.units import Floats

Progress = Callable[[float], None]

SHORTEST_S = 0.05
_DRAWN = 240


class Heard:
    """A sound between two frames, as it was looked at.

    Parameters
    ----------
    sound : (n, channels), read a stretch at a time; what is longer than 150 s is sampled evenly.
    sample_rate : Hz.
    start, stop : frames between which it is looked at.
    role : what the track is.
    progress : told the share done, 0 to 1.

    Raises
    ------
    BadAudio : nothing, or less than 50 ms, to look at.

    `highest_hz` is up to where anything is found.
    """

    def __init__(
        self,
        sound: Sound,
        *,
        sample_rate: float,
        start: int = 0,
        stop: int | None = None,
        role: Role | None = None,
        progress: Progress = lambda share: None,
    ) -> None:
        end = sound.shape[0] if stop is None else min(stop, sound.shape[0])
        if end - start < SHORTEST_S * sample_rate:
            raise BadAudio("There is too little sound to say anything; choose at least 0.05 s.")
        self.sound, self.start, self.stop = sound, start, end
        self.role = None if role is None else Role(role)
        self.sample_rate = sample_rate
        self.highest_hz = 0.45 * sample_rate
        self.view = look(sound, start, end, sample_rate=sample_rate, progress=progress)
        self.contours = all_contours(self.view.levels, self.view.parts)
        self.silent = bool(np.max(self.contours[0]) < -100.0)

    @cached_property
    def spectrum(self) -> WholeSpectrum:
        """The whole sound's transform, made when it is first asked for."""
        return WholeSpectrum(self.view.mono, sample_rate=self.sample_rate, breaks=self.view.breaks[1:])

    @property
    def seconds(self) -> float:
        return max((self.stop - self.start) / self.sample_rate, 1e-9)

    def loudest(self, seconds: float) -> tuple[int, int]:
        """(first, last) frame of so much of it, where it has the most power of what was looked at; all of less."""
        frames = round(seconds * self.sample_rate)
        if self.stop - self.start <= frames:
            return self.start, self.stop
        times = self.view.times_s[-1]
        sums = np.concatenate([[0.0], np.cumsum(10.0 ** (self.view.track_db / 10.0))])
        behind = np.searchsorted(times, times + seconds)
        at = int(np.argmax(sums[behind] - sums[:-1]))
        first = min(max(self.start, round(times[at] * self.sample_rate)), self.stop - frames)
        return first, first + frames

    def told(
        self,
        finding: Finding,
        decay: Decay | None,
        *,
        broad: bool,
        envelope: bool = False,
        seen: SpotTrace | None = None,
    ) -> Finding:
        """The finding with its evidence.

        broad : told of a range, no harmonic. envelope : it stands over what lies to both sides of it.
        seen : how it stands over its surroundings where that is known otherwise.
        """
        f, octaves = finding.frequency_hz, finding.bandwidth_oct
        seen = trace(self.view, f, octaves, broad=envelope) if seen is None else seen
        slope, together = seen.slope()
        own = own_ring_ms(f, octaves)
        return replace(
            finding,
            share_of_time=round(seen.share_of_time, 3),
            worst_s=round(_worst(seen), 3),
            ring_ms=None if decay is None else round(1000.0 * decay.ring_s, 1),
            own_ring_ms=round(own, 1),
            slope=round(slope, 3) if abs(together) > 0.3 else 0.0,
            harmonic="" if broad else harmonic_of(self.view.levels[-1], f),
            takes_db=round(self.takes(finding.move, f, octaves), 2),
            evidence=self._evidence(finding, seen, decay, own),
        )

    def takes(self, move: Move, frequency_hz: float, octaves: float) -> float:
        """Change of level in dB of all that lies outside of the spot, while a move acts."""
        if isinstance(move, DynamicMove):
            move = move.at_gain(move.gain_db + move.range_db)
        assert isinstance(move, StaticMove)
        grid = finding_grid()
        power = 10.0 ** (self.contours[0].astype(np.float64) / 10.0) * grid  # per bin to per octave
        outside = np.abs(np.log2(grid / frequency_hz)) > octaves / 2.0
        left = power[outside] * 10.0 ** (treatment_db([move], grid[outside], sample_rate=self.sample_rate) / 10.0)
        return float(10.0 * np.log10(np.sum(left) / max(float(np.sum(power[outside])), 1e-30)))

    def _evidence(self, finding: Finding, seen: SpotTrace, decay: Decay | None, own: float) -> Evidence:
        grid = finding_grid()
        reach = max(0.75, 2.0 * finding.bandwidth_oct)
        near = np.flatnonzero(np.abs(np.log2(grid / finding.frequency_hz)) <= reach)
        level = self.contours[0][near].astype(np.float64)
        bell = bell_db(
            np.log2(grid[near]), float(np.log2(finding.frequency_hz)), finding.bandwidth_oct, finding.excess_db
        )
        drawn = np.unique(np.linspace(0, len(seen.times_s) - 1, min(_DRAWN, len(seen.times_s))).astype(int))
        return Evidence(
            grid_hz=_rounded(grid[near], 1),
            level_db=_rounded(level, 1),
            expected_db=_rounded(level - bell, 1),
            times_s=_rounded(seen.times_s[drawn], 2),
            excess_db=_rounded(seen.excess_db[drawn], 1),
            track_db=_rounded(seen.track_db[drawn], 1),
            spot_db=_rounded(seen.spot_db[drawn], 1),
            decay_ms=decay.times_ms if decay else (),
            decay_db=decay.db if decay else (),
            own_ring_ms=round(own, 1),
        )

    def traced(self, move: DynamicMove) -> Trace:
        """What a move would read."""
        return trace_level(
            move, self.view.mono[:, None], sample_rate=self.sample_rate, start_s=self.start / self.sample_rate
        )

    def loop(self, finding: Finding) -> tuple[float, float]:
        """The passage in which it is listened to."""
        rate = self.sample_rate
        at, until = max(finding.moments, key=lambda span: span[1] - span[0], default=(finding.worst_s, 0.0))
        first = max(self.start, round((at - BEFORE_S) * rate))
        last = min(self.stop, max(first + round(2.0 * LONGEST_S * rate), round((until + LONGEST_S) * rate)))
        first = max(self.start, min(first, last - round(LOOP_S * rate)))
        mono = np.mean(np.asarray(self.sound[first:last], dtype=np.float32), axis=1)
        ring = 0.0 if finding.ring_ms is None else finding.ring_ms / 1000.0
        a, b = loop_around(mono, sample_rate=rate, at_s=at - first / rate, until_s=until - first / rate, ring_s=ring)
        return round(first / rate + a, 3), round(first / rate + b, 3)


def _worst(seen: SpotTrace) -> float:
    """Where it stands out most while the track is loud enough to be heard."""
    heard = seen.track_db > np.quantile(seen.track_db, 0.4)
    excess = np.where(heard, np.minimum(seen.excess_db, 40.0) + 0.3 * (seen.spot_db - np.max(seen.spot_db)), -np.inf)
    return float(seen.times_s[int(np.argmax(excess))])


def _rounded(values: Floats, digits: int) -> tuple[float, ...]:
    return tuple(np.round(np.asarray(values, dtype=np.float64), digits).tolist())
