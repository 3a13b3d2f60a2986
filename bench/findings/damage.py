"""Known damage: bells of known centre, width and gain that can be heard, and broad humps."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from bench.findings.rooms import MODES, in_room
from bench.findings.sources import RATE
from mivlo.core.graph import treat
from mivlo.core.moves import Move, Shape, StaticMove
from mivlo.core.spectra import long_term_levels, nearest_point
from mivlo.core.units import Floats, octaves_to_q, q_to_octaves, ring_time_s

BANDS_HZ = 60.0 * 2.0 ** (np.arange(int(12 * np.log2(12_000 / 60)) + 1) / 12)


@dataclass(frozen=True, slots=True)
class Bell:
    """What was done. A hump is broad."""

    frequency_hz: float
    octaves: float
    gain_db: float
    hump: bool

    def as_move(self) -> Move:
        return StaticMove(Shape.BELL, self.frequency_hz, q=octaves_to_q(self.octaves), gain_db=self.gain_db)


def levels(x: Floats) -> Floats:
    """Long-term spectrum in 1/12-octave bands, 60 Hz to 12 kHz, in dB."""
    return long_term_levels(x[:, None], BANDS_HZ, sample_rate=RATE, bands_per_octave=12)


def distance(a: Floats, b: Floats) -> float:
    """RMS difference in dB of two long-term spectra, the overall gain removed."""
    d = a - b
    return float(np.sqrt(np.mean((d - np.mean(d)) ** 2)))


def apply(x: Floats, bells: tuple[Bell, ...]) -> Floats:
    return treat(x[:, None], [b.as_move() for b in bells], sample_rate=RATE)[:, 0]


LEAST_LIFT_DB = 3.0
_AUDIBLE_DB = 50.0


def is_audible(bell: Bell, before: Floats) -> bool:
    """Whether a clip with these `levels` has energy where a bell is laid."""
    return bool(before[nearest_point(BANDS_HZ, bell.frequency_hz)] > np.max(before) - _AUDIBLE_DB)


def is_lifted(bell: Bell, before: Floats, after: Floats) -> bool:
    """Whether a bell lifts its own band, by the `levels` without and with it."""
    at = nearest_point(BANDS_HZ, bell.frequency_hz)
    return bool(after[at] - before[at] >= LEAST_LIFT_DB)


def lifts_its_band(bell: Bell, clean: Floats) -> bool:
    """The same, measured about the bell's own frequency, of a clip that has not been through it."""
    was, lifted = (
        long_term_levels(x[:, None], [bell.frequency_hz], sample_rate=RATE, bands_per_octave=12)[0]
        for x in (clean, apply(clean, (bell,)))
    )
    return bool(lifted - was >= LEAST_LIFT_DB)


def lift_db(power_db: npt.ArrayLike, boost_db: npt.ArrayLike) -> float:
    """By how much a boost lifts what a band holds, both over the band's points."""
    p, boost = np.asarray(power_db), np.asarray(boost_db)
    return float(10.0 * np.log10(np.sum(10.0 ** ((p + boost) / 10.0)) / np.sum(10.0 ** (p / 10.0))))


def log_uniform(random: np.random.Generator, low: float, high: float) -> float:
    """Between two limits, every octave as likely as any other."""
    return float(np.exp(random.uniform(np.log(low), np.log(high))))


Sound = tuple[Floats, tuple[Bell, ...]]
"""A clip and what was done to it."""
Draw = Callable[[np.random.Generator, bool], Bell]


def draw_bell(random: np.random.Generator, hump: bool) -> Bell:
    """A hump (+5 to +8 dB, 1 to 1.5 octaves, 250 to 600 Hz) or a ring (+8 to +18 dB, 0.05 to 0.35 octave)."""
    if hump:
        return Bell(log_uniform(random, 250, 600), float(random.uniform(1.0, 1.5)), float(random.uniform(5, 8)), True)
    return Bell(log_uniform(random, 120, 6_000), log_uniform(random, 0.05, 0.35), float(random.uniform(8, 18)), False)


def draw_wider(random: np.random.Generator, hump: bool) -> Bell:
    """As `draw_bell`, beyond its limits on each side: what is learnt from has no edge where it is judged."""
    if hump:
        place = log_uniform(random, 250, 600) if random.random() < 0.5 else log_uniform(random, 90, 8_000)
        return Bell(place, float(random.uniform(0.7, 1.6)), float(random.uniform(4, 10)), True)
    return Bell(log_uniform(random, 90, 8_000), log_uniform(random, 0.028, 0.4), float(random.uniform(7, 19)), False)


USUAL_COUNT, ANY_COUNT = (2, 3), (1, 3)
"""How many bells at least and at most: as the benchmark damages, and with such as stand alone."""


def damage(
    clean: Floats, random: np.random.Generator, draw: Draw = draw_bell, *, count: tuple[int, int] = USUAL_COUNT
) -> Sound:
    """The clip with so many bells, sometimes a hump among them; each narrow one lifts its own band by 3 dB."""
    before = levels(clean)
    bells: list[Bell] = []
    wanted = int(random.integers(count[0], count[1] + 1))
    hump = bool(random.random() < 0.35)
    for _ in range(60):
        if len(bells) == wanted:
            break
        bell = draw(random, hump and not any(b.hump for b in bells))
        f = bell.frequency_hz
        apart = all(abs(np.log2(f / b.frequency_hz)) > (0.3 if not (b.hump or bell.hump) else 0.0) for b in bells)
        if not apart or not is_audible(bell, before):
            continue
        if not bell.hump and not lifts_its_band(bell, clean):
            continue
        bells.append(bell)
    chosen = tuple(bells)
    return apply(clean, chosen), chosen


def lone(clean: Floats, random: np.random.Generator) -> Sound:
    """The clip with one bell."""
    return damage(clean, random, count=(1, 1))


NARROWEST_Q = 100.0
"""A move is no narrower."""


def mode_bell(frequency_hz: float, ring_s: float, gain_db: float) -> Bell:
    """A mode that rings for so long beside the sound itself, standing out by a gain.

    The sound and a resonator beside it are the analogue bell 1 + (A^2 - 1) s/(AQ) / (s^2 + s/(AQ) + 1), whose poles
    have the quality A Q, with A = 10^(gain / 40) (Audio EQ Cookbook, analogue prototype of the peaking filter).
    """
    poles = ring_s / ring_time_s(frequency_hz, 1.0)
    quality = min(poles / 10.0 ** (gain_db / 40.0), NARROWEST_Q)
    return Bell(frequency_hz, q_to_octaves(quality), gain_db, False)


def shell(clean: Floats, random: np.random.Generator) -> Sound:
    """The clip through a body that rings: a membrane, a bar or a plate, its modes with their own decays.

    What counts as a trouble are those that lift their own band by 3 dB. Ring times of 0.06 to 0.5 s at the lowest mode,
    shorter above it (common practice, no source).
    """
    before = levels(clean)
    ratios = MODES[str(random.choice(list(MODES)))]
    lowest, ring = log_uniform(random, 110, 900), log_uniform(random, 0.06, 0.5)
    falls = float(random.uniform(0.3, 0.9))
    modes = []
    for ratio in ratios:
        hz = lowest * ratio * float(random.uniform(0.97, 1.03))
        gain = float(random.uniform(-4.0, 16.0))
        if gain < 1.0 or not 110.0 < hz < 7_000.0 or len(modes) == 4:
            continue
        if all(abs(np.log2(hz / other.frequency_hz)) > 0.25 for other in modes):
            modes.append(mode_bell(hz, max(0.02, ring / ratio**falls), gain))
    damaged = apply(clean, tuple(modes))
    after = levels(damaged)
    return damaged, tuple(mode for mode in modes if is_audible(mode, before) and is_lifted(mode, before, after))


def room(clean: Floats, random: np.random.Generator) -> Sound:
    """The clip in a small room by image sources: no trouble by name, but a colour that cuts may make worse."""
    return in_room(clean, random, RATE), ()


Damage = Callable[[Floats, np.random.Generator], Sound]
DAMAGES: dict[str, Damage] = {"bells": damage, "lone": lone, "shells": shell, "rooms": room}
