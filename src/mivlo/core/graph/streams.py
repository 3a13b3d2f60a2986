"""The parts of a renderer: streams that are read in frames of the song and ask each other for what they need.

A stream that is asked for the frames a to b makes what it has not made yet, by reading its own inputs. One
that lags behind its input reads further ahead there; so everything meets on the same frame, whatever the
latencies are, without anybody adding them up.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Protocol

import numpy as np

from mivlo.core.graph.envelope import envelope
from mivlo.core.graph.glide import Glide
from mivlo.core.kernels import KNOWN_AT_ONCE, NO_SOUND, add_known, add_to, scale_to, to_single
from mivlo.core.moves import Channels
from mivlo.core.processors import Processor, Step
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats

_PIECE = 16_384
"""Frames made at once where many are due."""


class Samples(Protocol):
    """A recording: (frames, channels), read by slices."""

    @property
    def shape(self) -> tuple[int, ...]: ...

    def __getitem__(self, stretch: slice, /) -> Any: ...


class Insert(Protocol):
    """Something that a listener puts behind a strip's moves (the probe, say); never part of an export."""

    @property
    def memory(self) -> int:
        """Frames after which its past is forgotten."""

    def process(self, treated: Floats, untreated: Floats) -> tuple[Floats, Floats]:
        """What is heard in place of a strip's treated and untreated sound."""

    def state(self) -> Any:
        """A copy of its memory."""

    def restore(self, state: Any) -> None:
        """Go on from a copy."""


class Turned:
    """A recording, `samples`, with its polarity turned."""

    def __init__(self, samples: Samples) -> None:
        self.samples = samples

    @property
    def shape(self) -> tuple[int, ...]:
        return self.samples.shape

    def __getitem__(self, stretch: slice, /) -> Any:
        return np.negative(self.samples[stretch])


class Delayed:
    """A recording, `samples`, behind `silence` frames of silence."""

    def __init__(self, samples: Samples, silence: int) -> None:
        self.samples, self.silence = samples, silence

    @property
    def shape(self) -> tuple[int, ...]:
        return (self.silence + self.samples.shape[0], *self.samples.shape[1:])

    def __getitem__(self, stretch: slice, /) -> Any:
        start, stop, _ = stretch.indices(self.shape[0])
        return frames_of(self.samples, start - self.silence, max(start, stop) - self.silence)


def frames_of(samples: Samples, start: int, stop: int) -> Floats:
    """Frames start to stop as float64, silence outside of the recording."""
    length, channels = samples.shape
    inner = samples[max(0, min(start, length)) : max(0, min(stop, length))]
    if start >= 0 and stop <= length:
        return np.asarray(inner, dtype=np.float64)
    out = np.zeros((stop - start, channels))
    first = max(0, -start)
    out[first : first + len(inner)] = inner
    return out


def as_singles(samples: Samples) -> Singles | None:
    """A recording in single precision as a plain array that nobody can change, not copied; None if it is not one."""
    if not isinstance(samples, np.ndarray) or samples.dtype != np.float32 or not samples.flags.c_contiguous:
        return None
    plain = np.asarray(samples).view()
    plain.flags.writeable = False
    return plain


class Clock:
    """The frame of the song from which on streams are read now; shared by all streams of a renderer."""

    def __init__(self) -> None:
        self.frame = 0


class Stream:
    """What all streams have in common: they keep what they made as long as somebody may still read it.

    Attributes
    ----------
    begin : the first frame at which it may be anything but silent.
    clock : where the song is.
    least : how far ahead of the clock it is read at the least; what lies before that is not kept.
    grid : makes frames only in whole cells of so many, counted from the song's first; None: as they are read.
    aligned : begins at a multiple of so many frames of the song.
    """

    aligned = 1

    def __init__(self, channels: int, inputs: Sequence[Stream] = (), *, begin: int | None = None) -> None:
        self.channels = channels
        self.inputs = list(inputs)
        self.begin: int = min((i.begin for i in inputs), default=0) if begin is None else begin
        self.clock = Clock()
        self.least = 0
        self.grid: int | None = None
        self._buffer = np.zeros((0, channels))
        self._from = self._to = 0
        self.awake = False

    # --- what a kind of stream says and does ----------------------------------------------------

    @property
    def latency(self) -> int:
        """How far ahead it reads its inputs."""
        return 0

    @property
    def also_reads_here(self) -> bool:
        """Whether it reads its inputs without a lead besides."""
        return False

    @property
    def memory(self) -> int:
        """Frames after which what it read is forgotten to -120 dB."""
        return 0

    def active(self) -> Sequence[Stream]:
        """The inputs that it reads at present."""
        return self.inputs

    def fresh(self) -> None:
        """Forget everything that was heard."""

    def produce(self, start: int, stop: int) -> Floats:
        """Make the frames start to stop: (n, channels). Called for frames that follow each other."""
        raise NotImplementedError

    def inner_state(self) -> Any:
        """A copy of its own memory."""
        return None

    def inner_restore(self, state: Any) -> None:
        """Go on from a copy."""

    # --- reading --------------------------------------------------------------------------------

    @property
    def position(self) -> int:
        """The next frame that it will make."""
        return self._to

    def can_read(self, start: int) -> bool:
        """Whether it can be read from `start` on without being begun anew."""
        return self.awake and self._from <= max(start, self.begin) <= self._to

    def wake(self, start: int) -> int:
        """Begin anew, so that `start` is the first frame to be made; where it begins in fact."""
        at = max(start, self.begin)
        at -= at % (self.grid or self.aligned)
        self.fresh()
        self._buffer = np.zeros((0, self.channels))
        self._from = self._to = at
        self.awake = True
        return at

    def read(self, start: int, stop: int) -> Floats:
        """Frames start to stop: (n, channels). Not to be changed by the reader."""
        if start < self.begin:
            silence = np.zeros((min(stop, self.begin) - start, self.channels))
            return silence if stop <= self.begin else np.concatenate([silence, self.read(self.begin, stop)])
        if stop > self._to:
            self._extend(stop if self.grid is None else -(-stop // self.grid) * self.grid)
        at = start - self._from
        if at < 0:
            raise AssertionError(f"frame {start} is gone: the oldest is {self._from}")
        if at == 0 and stop == self._to:
            return self._buffer
        return self._buffer[at : at + stop - start]

    def _extend(self, stop: int) -> None:
        oldest = self.clock.frame + self.least
        kept = self._buffer[max(0, oldest - self._from) :] if len(self._buffer) else self._buffer
        parts = [kept] if len(kept) else []
        at = self._to
        while at < stop:
            end = min(stop, at + (self.grid or _PIECE))
            made = self.produce(at, end)
            if end > oldest:
                parts.append(made)
            at = end
        self._buffer = parts[0] if len(parts) == 1 else np.concatenate(parts)
        self._to = at
        self._from = at - len(self._buffer)

    # --- memory ---------------------------------------------------------------------------------

    def state(self) -> tuple[Any, ...] | None:
        """A copy of all that it needs to go on from here; None where it sleeps."""
        return (self.inner_state(), self._buffer, self._from, self._to) if self.awake else None

    def restore(self, state: tuple[Any, ...] | None) -> None:
        self.awake = state is not None
        if state is not None:
            inner, self._buffer, self._from, self._to = state
            self.inner_restore(inner)


class Source(Stream):
    """A recording. It can be read anywhere at any time.

    Attributes
    ----------
    singles : all of it as a plain array for the fast loops; None where it is kept in another way.
    """

    def __init__(self, samples: Samples) -> None:
        super().__init__(int(samples.shape[1]), begin=0)
        self._samples = samples
        self._last: tuple[int, int, Floats] | None = None
        self.singles = as_singles(samples)

    def can_read(self, start: int) -> bool:
        return True

    def read(self, start: int, stop: int) -> Floats:
        if self._last is not None and self._last[:2] == (start, stop):
            return self._last[2]
        out = self._frames(start, stop)
        if stop - start <= _PIECE:
            self._last = (start, stop, out)
        return out

    def _frames(self, start: int, stop: int) -> Floats:
        if self.singles is None or start < 0 or stop > len(self.singles):
            return frames_of(self._samples, start, stop)
        out = np.empty((stop - start, self.channels))
        to_single(self.singles[start:stop], out)
        return out

    def state(self) -> None:
        return None

    def restore(self, state: object) -> None:
        self._last = None


class Sum(Stream):
    """What is routed into a group or the mix, added up."""

    def __init__(self, faders: Sequence[Fader]) -> None:
        super().__init__(2, faders, begin=min((f.begin for f in faders), default=0))
        self._faders = faders

    def active(self) -> Sequence[Stream]:
        return [fader for fader in self._faders if fader.open]

    def produce(self, start: int, stop: int) -> Floats:
        out = np.zeros((stop - start, 2))
        together: list[KnownFader] = []
        for fader in self._faders:
            if not fader.open:
                continue
            if isinstance(fader, KnownFader) and fader.stands(start):
                together.append(fader)
                continue
            mix_known(together, out, start)  # added up in the order of the strips, so that the bits are the same
            together.clear()
            add_to(out, fader.read(start, stop))
        mix_known(together, out, start)
        return out


def part_of(x: Floats, channels: Channels) -> Floats:
    """The part of a sound that a move treats: (n, 1), or all of it; a mono sound is taken as it is."""
    if x.shape[1] == 1:
        return x
    match channels:
        case Channels.LEFT:
            return x[:, :1]
        case Channels.RIGHT:
            return x[:, 1:]
        case Channels.MID:
            return np.asarray(0.5 * (x[:, :1] + x[:, 1:]))
        case Channels.SIDE:
            return np.asarray(0.5 * (x[:, :1] - x[:, 1:]))
    return x


class Treated(Stream):
    """One run of moves: on all channels or one, always or in stretches."""

    def __init__(
        self,
        before: Stream,
        make: Callable[[int, Sequence[Step]], Processor],
        steps: tuple[Step, ...],
        keys: Mapping[int, Stream],
        *,
        channels: Channels,
        stretches: Sequence[tuple[float, float]],
        fade_ms: float,
        sample_rate: int,
    ) -> None:
        self._make = make
        self._width = before.channels if channels is Channels.ALL else 1
        self.steps = steps
        self.processor = make(self._width, steps)
        self._used = False
        lag, self.aligned = self.processor.latency, self.processor.aligned
        super().__init__(before.channels, [before, *keys.values()])
        self.begin -= lag
        self._before, self._keys = before, dict(keys)
        self._on, self._stretches, self._fade_ms = channels, tuple(stretches), fade_ms
        self._rate = sample_rate

    @property
    def latency(self) -> int:
        return self.processor.latency

    @property
    def also_reads_here(self) -> bool:
        return self._part and self.latency > 0

    @property
    def _part(self) -> bool:
        """Whether some of the sound passes it by."""
        return self._on is not Channels.ALL or bool(self._stretches)

    @property
    def memory(self) -> int:
        return int(np.ceil(self.processor.memory_s * self._rate)) + self.latency

    @property
    def idle(self) -> bool:
        """Whether it changes nothing at present."""
        return self.latency == 0 and not self.processor.gliding and not any(s.enabled for s in self.steps)

    def aim(self, steps: tuple[Step, ...], *, glide: bool = True) -> None:
        if steps != self.steps or (self.processor.gliding and not glide):
            self.steps = steps
            self.processor.aim(steps, glide=glide and self.awake)

    def fresh(self) -> None:
        if self._used:
            self.processor = self._make(self._width, self.steps)
            self._used = False

    def produce(self, start: int, stop: int) -> Floats:
        lag = self.latency
        ahead = self._before.read(start + lag, stop + lag)
        if self.idle:
            return ahead
        self._used = True
        keys = {i: self._picked(key.read(start + lag, stop + lag)) for i, key in self._keys.items()}
        wet = self.processor.process(self._picked(ahead), keys)
        if not self._part:
            return wet
        dry = self._before.read(start, stop) if lag else ahead
        change = wet - self._picked(dry)
        if self._stretches:
            change *= envelope(self._stretches, self._fade_ms, start, stop, sample_rate=self._rate)[:, None]
        return self._with(dry, change)

    def _picked(self, x: Floats) -> Floats:
        return part_of(x, self._on)

    def _with(self, dry: Floats, change: Floats) -> Floats:
        match self._on:
            case Channels.LEFT:
                return np.column_stack([dry[:, :1] + change, dry[:, 1:]])
            case Channels.RIGHT:
                return np.column_stack([dry[:, :1], dry[:, 1:] + change])
            case Channels.SIDE:
                return dry + np.column_stack([change, -change])
        return dry + change

    def inner_state(self) -> Any:
        return self.processor.state(), self.steps

    def inner_restore(self, state: Any) -> None:
        memory, self.steps = state
        self.processor.restore(memory)
        self._used = True


class Removed(Stream):
    """What the moves take away: untreated minus treated."""

    def __init__(self, untreated: Stream, treated: Stream) -> None:
        super().__init__(treated.channels, [untreated, treated])

    def produce(self, start: int, stop: int) -> Floats:
        return self.inputs[0].read(start, stop) - self.inputs[1].read(start, stop)


class Gained(Stream):
    """A stream with a row of gains that glide."""

    def __init__(self, channels: int, inputs: Sequence[Stream], gains: Sequence[float], *, ramp: int) -> None:
        super().__init__(channels, inputs)
        self.gains = Glide(gains, ramp)

    def aim(self, gains: Sequence[float], *, now: int, glide: bool) -> None:
        """New gains from the next frame on that is to be made; from the song's frame `now` on where it sleeps."""
        self.gains.aim(gains, (self.position if self.awake else now) if glide else None)

    def inner_state(self) -> Any:
        return self.gains.state()

    def inner_restore(self, state: Any) -> None:
        self.gains.restore(state)


class Heard(Gained):
    """What a listener hears of a strip: treated as it is in an export, or the other sides of a comparison.

    Its gains are those of what is behind the aftercare, behind the moves, and untreated.
    """

    def __init__(self, untreated: Stream, treated: Stream, cared: Stream, *, ramp: int) -> None:
        super().__init__(cared.channels, [untreated, treated, cared], [1.0, 0.0, 0.0], ramp=ramp)
        self._untreated, self._treated, self._cared = untreated, treated, cared
        self.insert: Insert | None = None

    def _plain(self, frame: int) -> bool:
        still = self.insert is None and self.gains.stands(frame)
        goal = self.gains.goal
        return still and goal[0] == 1.0 and goal[1] == goal[2] == 0.0

    def active(self) -> Sequence[Stream]:
        return [self._cared] if self._plain(self.position) else self.inputs

    @property
    def memory(self) -> int:
        return self.insert.memory if self.insert is not None else 0

    def inner_state(self) -> Any:
        return self.gains.state(), self.insert.state() if self.insert is not None else None

    def inner_restore(self, state: Any) -> None:
        gains, insert = state
        self.gains.restore(gains)
        if self.insert is not None and insert is not None:
            self.insert.restore(insert)

    def produce(self, start: int, stop: int) -> Floats:
        cared = self._cared.read(start, stop)
        if self._plain(start):
            return cared
        untreated, treated = self._untreated.read(start, stop), self._treated.read(start, stop)
        if self.insert is not None:
            if self.gains.goal[1] < 0.0:
                treated, untreated = self.insert.process(treated, untreated)
            else:
                cared, untreated = self.insert.process(cared, untreated)
        weights = self.gains.over(start, stop)
        return np.asarray(cared * weights[:, :1] + treated * weights[:, 1:2] + untreated * weights[:, 2:])


class Behind(Gained):
    """The end of a strip: its output gain, rounded to single precision, as cache and files hold it.

    Nothing is heard before the song's first frame: what rings ahead of it (a filter of linear phase) is cut off, as it
    is in a file.
    """

    def __init__(self, before: Stream, *, ramp: int) -> None:
        super().__init__(before.channels, [before], [1.0], ramp=ramp)

    def produce(self, start: int, stop: int) -> Floats:
        x = self.inputs[0].read(start, stop)
        gain = self.gains.over(start, stop)
        if len(gain) > 1 or gain[0, 0] != 1.0:
            x = x * gain
        out = np.empty(x.shape)
        to_single(x, out)
        out[: max(0, -start)] = 0.0
        return out


class Fader(Gained):
    """A strip as it comes into its parent: left and right, by fader and pan; nothing while it is shut."""

    def __init__(self, before: Stream, *, ramp: int) -> None:
        super().__init__(2, [before], [0.0, 0.0], ramp=ramp)

    @property
    def open(self) -> bool:
        """Whether anything of it is heard; what sleeps has nothing that could fade out."""
        return not self.gains.ends_silent or (self.awake and not self.gains.stands(self.position))

    def active(self) -> Sequence[Stream]:
        return self.inputs if self.open else ()

    def produce(self, start: int, stop: int) -> Floats:
        if not self.open:
            return np.zeros((stop - start, 2))
        return self._turned(start, stop)

    def _turned(self, start: int, stop: int) -> Floats:
        x, gains = self.inputs[0].read(start, stop), self.gains.over(start, stop)
        if len(gains) > 1:
            return np.asarray(x * gains)
        if gains[0, 0] == gains[0, 1] == 1.0 and x.shape[1] == 2:
            return x
        out = np.empty((stop - start, 2))
        scale_to(x, gains[0, 0], gains[0, 1], out)
        return out

    def peak(self) -> float:
        """Largest sample of what was made last."""
        return float(np.max(np.abs(self._buffer), initial=0.0)) if self.awake and self.open else 0.0


class KnownFader(Fader):
    """The fader of a strip whose treated sound is known: like a recording it can be read anywhere at any time.

    Where its gains stand still, whoever adds it up reads the sound itself, many of them in one call.
    """

    def __init__(self, before: Source, *, ramp: int) -> None:
        super().__init__(before, ramp=ramp)
        self._source = before
        self._peak = 0.0

    @property
    def sound(self) -> Singles | None:
        """What `mix_known` can read at once."""
        return self._source.singles

    def stands(self, start: int) -> bool:
        """Whether its gains stand still from a frame on, and its sound can be read at once."""
        return self._source.singles is not None and self.gains.stands(start)

    def can_read(self, start: int) -> bool:
        return True

    def read(self, start: int, stop: int) -> Floats:
        out = self._turned(start, stop)
        self.was_read(stop, float(np.max(np.abs(out), initial=0.0)))
        return out

    def was_read(self, stop: int, peak: float) -> None:
        """Somebody read it up to a frame; its largest sample there."""
        self._from, self._to, self._peak, self.awake = stop, stop, peak, True

    def peak(self) -> float:
        return self._peak if self.awake and self.open else 0.0


def mix_known(faders: Sequence[KnownFader], out: Floats, start: int) -> None:
    """Add known sounds to (n, 2) from a frame on, each turned by its gains, which stand still."""
    for first in range(0, len(faders), KNOWN_AT_ONCE):
        some = faders[first : first + KNOWN_AT_ONCE]
        sounds = tuple(fader.sound for fader in some) + (NO_SOUND,) * (KNOWN_AT_ONCE - len(some))
        gains = np.array([fader.gains.goal for fader in some])
        peaks = np.zeros(len(some))
        add_known(out, sounds, start, gains, peaks)
        for fader, peak in zip(some, peaks.tolist(), strict=True):
            fader.was_read(start + len(out), peak)
