"""What is heard: tracks through their chains, the probe, the mixer. No sockets, no clock.

The engine is driven from one thread at a time: `render` makes the next block, the `set_...` methods
change what the following blocks contain. Everything that changes glides.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from mivlo.core.chain import Chain, warm_chain
from mivlo.core.loudness import level_match_lu
from mivlo.core.moves import Move, Shape, StaticMove
from mivlo.core.probe import MonitorLimiter, Probe, ProbeStream
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats, db_to_gain
from mivlo.live.modes import Passage, Scope, Signal

BLOCK_FRAMES = 512
LOOP_FADE_S = 0.005
_RAMP = 0.5 - 0.5 * np.cos(np.pi * np.arange(BLOCK_FRAMES) / BLOCK_FRAMES)


@dataclass(slots=True)
class EngineTrack:
    """One track as the engine plays it."""

    id: int
    samples: Singles
    fader_db: float = 0.0
    pan: float = 0.0
    mute: bool = False
    solo: bool = False
    keys: tuple[str, ...] = ()
    moves: tuple[Move, ...] = ()

    @property
    def channels(self) -> int:
        return int(self.samples.shape[1])


@dataclass(slots=True)
class _Voice:
    """The stream state of one track: its chain, and the gains of the last block."""

    chain: Chain
    gains: Floats = field(default_factory=lambda: np.zeros((2, 2)))  # (treated, untreated) x (left, right)
    peak: float = 0.0


@dataclass(frozen=True, slots=True)
class Block:
    """One rendered block and what goes with it."""

    samples: Singles  # (BLOCK_FRAMES, 2)
    position: int  # frame of the song at its start
    playing: bool


def pan_gains(pan: float, channels: int) -> tuple[float, float]:
    """Left and right gain. Mono: constant power, -3 dB in the middle. Stereo: balance."""
    if channels == 2:
        return min(1.0, 1.0 - pan), min(1.0, 1.0 + pan)
    angle = (pan + 1.0) * math.pi / 4.0
    return math.cos(angle), math.sin(angle)


class Engine:
    """The player of one listening session.

    Parameters
    ----------
    sample_rate : Hz, of the song.
    tracks : what there is to hear.
    """

    def __init__(self, sample_rate: int, tracks: list[EngineTrack]) -> None:
        self.sample_rate = sample_rate
        self.position = 0
        self.playing = False
        self.scope = Scope.MIX
        self.signal = Signal.TREATED
        self.focus: int | None = None
        self.match_db = 0.0
        self.passage: Passage | None = None
        self.looping = True
        self.probe: Probe | None = None
        self.audition: str | None = None
        self.limiter = MonitorLimiter(sample_rate)
        self.last_untreated: Floats = np.zeros((0, 1))
        self.last_treated: Floats = np.zeros((0, 1))
        self._tracks = {track.id: track for track in tracks}
        self._voices: dict[int, _Voice] = {}
        self._probe_stream: ProbeStream | None = None
        self._placed = False
        self._master = 0.0
        self._loudness_gain = 1.0
        self._after_fade: Callable[[], None] | None = None

    # --- what is played -------------------------------------------------------------------------

    @property
    def tracks(self) -> list[EngineTrack]:
        return list(self._tracks.values())

    @property
    def end(self) -> int:
        """Frames of the longest track."""
        return max((len(track.samples) for track in self._tracks.values()), default=0)

    def set_tracks(self, tracks: list[EngineTrack]) -> None:
        """Take over the song's present state: faders, moves, tracks that came and went."""
        self._tracks = {track.id: track for track in tracks}
        self._voices = {key: voice for key, voice in self._voices.items() if key in self._tracks}
        if self.focus not in self._tracks:
            self.set_focus(None)
        for track in tracks:
            self._aim(track)

    def set_moves(self, track_id: int, keys: tuple[str, ...], moves: tuple[Move, ...]) -> None:
        """New moves of one track (while one is dragged); they glide there."""
        track = self._tracks.get(track_id)
        if track is not None:
            track.keys, track.moves = keys, moves
            self._aim(track)

    def set_audition(self, key: str | None) -> None:
        """Hear one move of the focused track alone: the others are off meanwhile."""
        self.audition = key
        if self.focus is not None:
            self._aim(self._tracks[self.focus])

    def heard_moves(self, track: EngineTrack) -> list[Move]:
        """The moves as they sound now: with an audition, only the chosen one, switched on."""
        if self.audition is None or track.id != self.focus:
            return list(track.moves)
        return [
            replace(move, enabled=key == self.audition) for key, move in zip(track.keys, track.moves, strict=True)
        ]

    def _aim(self, track: EngineTrack) -> None:
        voice = self._voices.get(track.id)
        if voice is not None:
            voice.chain.set_moves(self.heard_moves(track), keys=track.keys)

    def set_focus(self, track_id: int | None) -> None:
        """The track that is looked at: it is the one that is heard alone, probed and compared."""
        if track_id == self.focus:
            return
        before = self.focus
        self.focus = track_id if track_id in self._tracks else None
        self.audition = None
        self.set_probe(None)
        self._probe_stream = None
        if before in self._tracks:
            self._aim(self._tracks[before])

    def set_probe(self, probe: Probe | None) -> None:
        """Hold, move or release the probe on the focused track."""
        self.probe = probe
        track = self._tracks.get(self.focus) if self.focus is not None else None
        if track is None:
            self.probe = None
            return
        if self._probe_stream is None:
            if probe is None:
                return
            self._probe_stream = ProbeStream(self.sample_rate, track.channels)
        self._probe_stream.set_probe(probe)

    @property
    def probe_held_back_db(self) -> float:
        return self._probe_stream.held_back_db if self._probe_stream else 0.0

    def peaks(self) -> dict[int, float]:
        """Largest sample of each track in the last block, after its fader."""
        return {key: voice.peak for key, voice in self._voices.items()}

    @property
    def resting(self) -> bool:
        """Whether nothing is heard: paused, and faded out."""
        return not self.playing and self._master == 0.0

    # --- transport ------------------------------------------------------------------------------

    def play(self) -> None:
        """Play on from the playhead; from the passage's start if nobody put the playhead elsewhere."""
        if not self.end:
            return
        passage = self.passage
        free = self.resting and self.looping and not self._placed
        if free and passage and not passage.start <= self.position < passage.stop:
            self._jump(passage.start)
        self.playing = True
        self._after_fade = None

    def pause(self) -> None:
        """Stop after a short fade."""
        self.playing = False

    def seek(self, frame: int) -> None:
        """Go elsewhere: the next block fades out here, the one after it fades in there."""
        self._placed = True
        target = max(0, min(int(frame), max(0, self.end - 1)))
        if self.resting:
            self._jump(target)
        else:
            self._after_fade = lambda: self._jump(target)

    def set_passage(self, passage: Passage | None) -> None:
        """The stretch that is looped; None for the whole song."""
        self.passage = passage
        self._placed = False

    def _jump(self, frame: int) -> None:
        self.position = frame
        self._voices.clear()

    # --- rendering ------------------------------------------------------------------------------

    def render(self) -> Block:
        """The next BLOCK_FRAMES frames."""
        fading_out = not self.playing or self._after_fade is not None
        goal = 0.0 if fading_out else 1.0
        position = self.position
        if self._master == 0.0 and goal == 0.0:
            self._finish_fade()
            return self.render() if self.playing else self._silence()
        out = self._mix(self._frames())
        out *= (self._master + (goal - self._master) * _RAMP)[:, None]
        self._master = goal
        if goal == 0.0:
            self._finish_fade()
        self.limiter.process(out)
        return Block(out.astype(np.float32), position, True)

    def _finish_fade(self) -> None:
        if self._after_fade is not None:
            self._after_fade()
            self._after_fade = None

    def _silence(self) -> Block:
        for voice in self._voices.values():
            voice.peak = 0.0
        return Block(np.zeros((BLOCK_FRAMES, 2), dtype=np.float32), self.position, False)

    def _frames(self) -> tuple[int, int, int]:
        """(start, frames before the loop's end, where the rest begins); moves the playhead on."""
        start, stop = self.position, self.end
        back = 0
        if self.passage is not None and self.looping and start < self.passage.stop:
            stop, back = min(self.passage.stop, self.end), self.passage.start
        before = min(BLOCK_FRAMES, max(0, stop - start))
        if before < BLOCK_FRAMES:
            if self.passage is None and not self.looping:
                self.playing = False
                self.position = 0
                return start, before, -1
            self.position = back + BLOCK_FRAMES - before
        else:
            self.position = start + BLOCK_FRAMES
        return start, before, back

    def _read(self, samples: Singles, frames: tuple[int, int, int]) -> Floats:
        """The track's own samples, with a short fade over where the loop jumps back."""
        start, before, back = frames
        out = np.zeros((BLOCK_FRAMES, samples.shape[1]))
        part = samples[start : start + before]
        out[: len(part)] = part
        if before < BLOCK_FRAMES and back >= 0:
            rest = samples[back : back + BLOCK_FRAMES - before]
            out[before : before + len(rest)] = rest
        self._blend_loop_end(samples, out, start)
        return out

    def _blend_loop_end(self, samples: Singles, out: Floats, start: int) -> None:
        """Before the loop's end the sound before its start fades in, so that the jump is smooth."""
        passage = self.passage
        if passage is None or not self.looping or start >= passage.stop:
            return
        fade = min(int(LOOP_FADE_S * self.sample_rate), passage.start)
        first = max(start, passage.stop - fade)
        last = min(start + BLOCK_FRAMES, passage.stop, len(samples))
        if fade <= 0 or last <= first:
            return
        at = np.arange(first, last)
        share = ((at - (passage.stop - fade) + 0.5) / fade)[:, None]
        incoming = samples[at - (passage.stop - passage.start)]
        out[first - start : last - start] *= 1.0 - share
        out[first - start : last - start] += incoming * share

    def _mix(self, frames: tuple[int, int, int]) -> Floats:
        out = np.zeros((BLOCK_FRAMES, 2))
        for track in self._tracks.values():
            goal = self._gains(track)
            voice = self._voices.get(track.id)
            if not goal.any() and (voice is None or not voice.gains.any()):
                if voice is not None:
                    del self._voices[track.id]
                continue
            if voice is None:
                voice = self._warm_voice(track, frames[0])
            dry = self._read(track.samples, frames)
            wet = voice.chain.process(dry)
            if track.id == self.focus:
                self.last_untreated, self.last_treated = dry, wet
                if self._probe_stream is not None:
                    if self.signal is Signal.UNTREATED:
                        dry = self._probe_stream.process(dry, dry)
                    elif self.signal is Signal.TREATED:
                        wet = self._probe_stream.process(wet, dry)
            self._add(out, voice, goal, wet, dry)
        gain = db_to_gain(self.match_db) if self._matching else 1.0
        out *= (self._loudness_gain + (gain - self._loudness_gain) * _RAMP)[:, None]
        self._loudness_gain = gain
        return out

    @property
    def _matching(self) -> bool:
        return self.signal is Signal.TREATED and self.match_db != 0.0

    def _warm_voice(self, track: EngineTrack, start: int) -> _Voice:
        """A voice whose filters know what came before `start`."""
        moves = self.heard_moves(track)
        chain = warm_chain(track.samples, moves, start, sample_rate=self.sample_rate, keys=track.keys)
        voice = self._voices[track.id] = _Voice(chain)
        if self._master == 0.0:
            voice.gains = self._gains(track)  # the master fades in: no ramp of its own needed
        return voice

    def _gains(self, track: EngineTrack) -> Floats:
        """Goal of (treated, untreated) x (left, right) for one track."""
        focused = track.id == self.focus
        if self.scope is Scope.ALONE and self.focus is not None:
            if not focused:
                return np.zeros((2, 2))
            sides = np.ones(2)
        else:
            any_solo = any(other.solo for other in self._tracks.values())
            if track.mute or (any_solo and not track.solo):
                return np.zeros((2, 2))
            sides = np.array(pan_gains(track.pan, track.channels)) * db_to_gain(track.fader_db)
        compared = focused or self.focus is None
        if self.signal is Signal.REMOVED:
            treated, untreated = (-1.0, 1.0) if compared else (0.0, 0.0)
        elif self.signal is Signal.UNTREATED and compared:
            treated, untreated = 0.0, 1.0
        else:
            treated, untreated = 1.0, 0.0
        return np.outer([treated, untreated], sides)

    def _add(self, out: Floats, voice: _Voice, goal: Floats, wet: Floats, dry: Floats) -> None:
        loudest = 0.0
        for side in range(2):
            source = min(side, wet.shape[1] - 1)
            part = np.zeros(BLOCK_FRAMES)
            for row, x in ((0, wet), (1, dry)):
                before, after = voice.gains[row, side], goal[row, side]
                if before == after:
                    if after:
                        part += x[:, source] * after
                else:
                    part += x[:, source] * (before + (after - before) * _RAMP)
            out[:, side] += part
            loudest = max(loudest, float(np.max(np.abs(part))))
        voice.gains, voice.peak = goal, loudest


def warm_up() -> None:
    """Load the compiled kernels, so that the first block of the first listener is not late."""
    for channels in (1, 2):
        samples = np.zeros((4 * BLOCK_FRAMES, channels), dtype=np.float32)
        track = EngineTrack(0, samples, keys=("0",), moves=(StaticMove(Shape.BELL, 1000.0, q=2.0, gain_db=-3.0),))
        engine = Engine(48_000, [track])
        engine.set_focus(0)
        engine.set_probe(Probe(1000.0))
        engine.play()
        engine.render()
        engine.set_moves(0, ("0",), (StaticMove(Shape.BELL, 900.0, q=2.0, gain_db=-6.0),))
        engine.set_probe(None)
        engine.render()
        level_match_lu(samples, samples, sample_rate=48_000)
