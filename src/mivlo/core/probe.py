"""The probe: a temporary narrow boost, cut or band-listen that one sweeps with, alone or with its octaves or multiples.

It is never part of a treatment or an export, and it is level-safe: what it plays is never louder
than the untreated track by more than a margin.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, ClassVar

import numpy as np
import numpy.typing as npt

from mivlo.core.errors import InvalidValue
from mivlo.core.kernels import hold_level, limit_peaks, to_single
from mivlo.core.loudness import k_weighting
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.moves.bounds import HIGHEST_HZ, LOWEST_HZ, Hertz, check
from mivlo.core.moves.members import Spacing, members_hz
from mivlo.core.processors import GLIDE_S, Cascade, StaticProcessor, Step, checked_block
from mivlo.core.spectra import Singles
from mivlo.core.units import Floats, db_to_gain, gain_to_db, octaves_to_q, ring_time_s


class ProbeMode(StrEnum):
    BOOST = "boost"
    ALONE = "alone"
    CUT = "cut"


NARROWEST_OCT, WIDEST_OCT = 1.0 / 20.0, 2.0
GREATEST_BOOST_DB = 24.0
MOST_ALSO = 31


@dataclass(frozen=True, slots=True)
class Probe:
    """What the probe does now.

    Parameters
    ----------
    frequency_hz : the band under the pointer.
    octaves : its width, 1/20 to 2 octaves; 1/10 is where a sweep usually begins.
    gain_db : how much it boosts (or cuts), 0 to 24 dB.
    margin_db : how much louder than the untreated track it may get, 0 to 24 dB.
    count, spacing : how many bands it has, the one under the pointer the lowest; those above the range are left out.
    also : further bands, each its centre in Hz and its width in octaves, that are heard together with it while it is
        alone.
    """

    __pydantic_config__: ClassVar[dict[str, str]] = {"extra": "forbid"}

    frequency_hz: Hertz
    octaves: float = 0.1
    gain_db: float = 12.0
    mode: ProbeMode = ProbeMode.BOOST
    margin_db: float = 6.0
    count: int = 1
    spacing: Spacing = Spacing.OCTAVES
    also: tuple[tuple[float, float], ...] = ()

    def __post_init__(self) -> None:
        object.__setattr__(self, "mode", ProbeMode(self.mode))
        object.__setattr__(self, "spacing", Spacing(self.spacing))
        check(self)
        if not NARROWEST_OCT - 1e-9 <= self.octaves <= WIDEST_OCT:
            raise InvalidValue("octaves", self.octaves, "the probe is 1/20 to 2 octaves wide")
        if not 0.0 <= self.gain_db <= GREATEST_BOOST_DB:
            raise InvalidValue("gain_db", self.gain_db, "the probe boosts or cuts by 0 to 24 dB")
        if not 0.0 <= self.margin_db <= GREATEST_BOOST_DB:
            raise InvalidValue("margin_db", self.margin_db, "the margin is 0 to 24 dB")
        members_hz(self.frequency_hz, self.count, self.spacing)  # says what can't be
        if len(self.also) > MOST_ALSO:
            raise InvalidValue("also", len(self.also), f"at most {MOST_ALSO} further bands are heard together")
        for hz, octaves in self.also:
            if not (LOWEST_HZ <= hz <= HIGHEST_HZ and NARROWEST_OCT - 1e-9 <= octaves <= WIDEST_OCT):
                raise InvalidValue("also", (hz, octaves), "a band lies from 10 to 24000 Hz, 1/20 to 2 octaves wide")

    @property
    def q(self) -> float:
        return octaves_to_q(self.octaves)

    @property
    def ring_s(self) -> float:
        """Seconds in which the probe itself rings down by 60 dB: 2.2 Q / f.

        Q is that of the resonance it makes: a boost by A² of the cookbook's bell has poles of
        quality A · Q, so a strong boost rings longer than its width alone says.
        """
        pole_q = self.q
        if self.mode is ProbeMode.BOOST:
            pole_q *= 10.0 ** (self.gain_db / 40.0)
        elif self.mode is ProbeMode.CUT:
            pole_q /= 10.0 ** (self.gain_db / 40.0)
        return ring_time_s(self.frequency_hz, pole_q)

    @property
    def complement(self) -> bool:
        """Whether what is heard is what its filters take away: several bands alone are all that their notches take."""
        return self.mode is ProbeMode.ALONE and (self.count > 1 or bool(self.also))

    def as_moves(self, highest_hz: float = HIGHEST_HZ) -> list[StaticMove]:
        """The filters that are heard while the probe is held, one behind the other; at least the lowest."""
        places = members_hz(self.frequency_hz, self.count, self.spacing, highest_hz=highest_hz) or [self.frequency_hz]
        if self.complement:
            also = [(hz, octaves_to_q(octaves)) for hz, octaves in self.also if hz <= highest_hz]
            return [StaticMove(Shape.NOTCH, hz, q=q) for hz, q in [*((hz, self.q) for hz in places), *also]]
        if self.mode is ProbeMode.ALONE:
            return [StaticMove(Shape.BAND_PASS, self.frequency_hz, q=self.q)]
        gain = self.gain_db if self.mode is ProbeMode.BOOST else -self.gain_db
        return [StaticMove(Shape.BELL, hz, q=self.q, gain_db=gain) for hz in places]


class ProbeStream:
    """The probe as a stream processor behind a treatment.

    Parameters
    ----------
    sample_rate : Hz.
    channels : 1 or 2.
    """

    def __init__(self, sample_rate: float, channels: int) -> None:
        self.channels = channels
        self._filter = StaticProcessor(sample_rate, channels)
        self._weight_dry = Cascade(k_weighting(sample_rate), channels)
        self._weight_wet = Cascade(k_weighting(sample_rate), channels)
        self._state = np.array([0.0, 0.0, 0.0, 1.0])
        self._fall = math.exp(-1.0 / (0.3 * sample_rate))
        self._average = 1.0 - math.exp(-1.0 / (0.1 * sample_rate))
        self._release = 1.0 - math.exp(-1.0 / (0.05 * sample_rate))
        self._margin = 1.0
        self._probe: Probe | None = None
        self._highest_hz = min(HIGHEST_HZ, 0.45 * sample_rate)
        # how much of what is heard is what the filters take away, and how far that moves in a sample
        self._taken, self._taken_step = 0.0, 1.0 / (GLIDE_S * sample_rate)
        self.held_back_db = 0.0
        """How much the last block was turned down to stay within the margin (0 or below)."""

    @property
    def active(self) -> bool:
        """Whether anything of the probe is still heard."""
        return self._probe is not None or self._filter.gliding or self._state[3] < 0.9999 or self._taken > 0.0

    def set_probe(self, probe: Probe | None, *, glide: bool = True) -> None:
        """Hold, move or (None) release the probe."""
        self._probe = probe
        if not glide:
            self._taken = float(probe is not None and probe.complement)
        if probe is None:
            self._filter.aim([], glide=glide)
            return
        self._margin = db_to_gain(probe.margin_db)
        name = f"{probe.mode}{' of several' if probe.complement else ''}"
        steps = [Step(f"{name} {i}", move) for i, move in enumerate(probe.as_moves(self._highest_hz))]
        self._filter.aim(steps, glide=glide)

    @property
    def memory_s(self) -> float:
        """How far back its past reaches."""
        return self._filter.memory_s

    def state(self) -> tuple[Any, ...]:
        """An exact copy of its memory."""
        weights = (self._weight_dry.state(), self._weight_wet.state())
        return (self._filter.state(), weights, self._state.copy(), self._probe, self._margin, self._taken)

    def restore(self, state: tuple[Any, ...]) -> None:
        """Go on from a copy of the memory."""
        filtered, (dry, wet), levels, self._probe, self._margin, self._taken = state
        self._filter.restore(filtered)
        self._weight_dry.restore(dry)
        self._weight_wet.restore(wet)
        self._state = levels.copy()

    def process(self, block: npt.ArrayLike, untreated: npt.ArrayLike) -> Floats:
        """(n, channels) of the treated track and of the untreated one; what is heard comes back."""
        dry = checked_block(untreated, self.channels)
        weighted_dry = self._weight_dry.process(dry)
        out = self._heard_of(block, self._filter.process(block))
        if not self.active:
            self._follow(dry, weighted_dry)
            self.held_back_db = 0.0
            return out
        weighted_out = self._weight_wet.process(out)
        least = hold_level(
            out, dry, weighted_out, weighted_dry, self._margin, self._state,
            self._fall, self._average, self._release,
        )  # fmt: skip
        self.held_back_db = gain_to_db(least)
        return out

    def _heard_of(self, block: npt.ArrayLike, filtered: Floats) -> Floats:
        """What passes the filters, or what they take away, or a share of each on the way from one to the other."""
        wanted = 1.0 if self._probe is not None and self._probe.complement else 0.0
        if self._taken == wanted == 0.0:
            return filtered
        steps = self._taken_step * np.arange(1, len(filtered) + 1)
        share = np.minimum(self._taken + steps, 1.0) if wanted else np.maximum(self._taken - steps, 0.0)
        if len(share):
            self._taken = float(share[-1])
        return np.asarray(filtered + share[:, None] * (np.asarray(block, dtype=np.float64) - 2.0 * filtered))

    def _follow(self, dry: Floats, weighted_dry: Floats) -> None:
        """Keep the levels up to date while the probe rests, so that it is safe from its start."""
        unused = dry.copy()
        hold_level(
            unused,
            dry,
            weighted_dry,
            weighted_dry,
            1.0,
            self._state,
            self._fall,
            self._average,
            self._release,
        )
        self._state[3] = 1.0


class MonitorLimiter:
    """Keeps what is heard below a ceiling, so that nothing hurts; never part of an export."""

    def __init__(self, sample_rate: float, *, ceiling_db: float = -0.5) -> None:
        self._ceiling = db_to_gain(ceiling_db)
        self._release = 1.0 - math.exp(-1.0 / (0.08 * sample_rate))
        self._gain = 1.0
        self.held_back_db = 0.0

    def process(self, block: Floats) -> Singles:
        """(n, channels), limited in place; untouched below the ceiling. Comes back in single precision."""
        self._gain, least = limit_peaks(block, self._ceiling, self._gain, self._release)
        self.held_back_db = gain_to_db(least)
        out = np.empty(block.shape, dtype=np.float32)
        to_single(block, out)
        return out
