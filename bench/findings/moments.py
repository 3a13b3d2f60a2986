"""How often what the rules say of moments and of loud notes is true: `python -m bench.findings.moments`.

Clips as they are and with one trouble added: sharp sibilants, pops and whistles in voices, squeaks in strings and what
is blown, harshness on loud notes, a note that beats. From hardly to plainly audible, by other means than those that
find them. The sources are those that are looked at while something is made; with `held`, those that are held out.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import uniform_filter1d
from scipy.signal import butter, sosfilt, sosfiltfilt

from bench.findings.clips import clip
from bench.findings.damage import log_uniform
from bench.findings.rules import Said, print_said
from bench.findings.sources import RATE, Source, all_sources
from mivlo.core.findings import Finding, Kind
from mivlo.core.findings.by_rule import LOUD_TROUBLE_ROLES, SQUEAK_ROLES
from mivlo.core.findings.search import Search
from mivlo.core.graph import treat
from mivlo.core.moves import Shape, StaticMove
from mivlo.core.roles import Role
from mivlo.core.units import Floats, octaves_to_q

TAKES = (0, 1, 2)
Trouble = Callable[[Floats, np.random.Generator], Floats]


def _band(x: Floats, low: float, high: float) -> Floats:
    return np.asarray(sosfiltfilt(butter(4, (low, high), btype="bandpass", fs=RATE, output="sos"), x))


def _level(x: Floats, seconds: float) -> Floats:
    """RMS over so long about each sample."""
    return np.sqrt(np.maximum(uniform_filter1d(x**2, round(seconds * RATE)), 0.0) + 1e-20)


def _gate(on: np.ndarray, seconds: float = 0.006) -> Floats:
    return np.asarray(uniform_filter1d(on.astype(np.float64), round(seconds * RATE)))


def _hiss_and_vowels(x: Floats) -> tuple[Floats, Floats]:
    """The levels of both about each sample."""
    return _level(_band(x, 4_000.0, 12_000.0), 0.015), _level(_band(x, 200.0, 2_500.0), 0.015)


def _peaking(x: Floats, share: Floats, peak: StaticMove) -> Floats:
    """A sound with so much of a peak in it, from sample to sample."""
    return np.asarray(x + share * (treat(x[:, None], [peak], sample_rate=RATE)[:, 0] - x))


def sharp_sibilants(x: Floats, random: np.random.Generator) -> Floats:
    """Where hiss outdoes the vowels, it is made louder: as a close microphone with a peak there does."""
    hiss, vowels = _hiss_and_vowels(x)
    loud = np.quantile(vowels, 0.9)
    s = (hiss > 1.3 * vowels) & (hiss > 0.02 * loud)
    if not s.any():
        return x
    peak = StaticMove(
        Shape.BELL, log_uniform(random, 5_000.0, 9_000.0), q=octaves_to_q(1.0), gain_db=float(random.uniform(3.0, 16.0))
    )
    return _peaking(x, _gate(s), peak)


def pops(x: Floats, random: np.random.Generator) -> Floats:
    """Puffs of breath at the beginning of some words."""
    level = _level(x, 0.03)
    rises = np.flatnonzero((level[: -RATE // 50] < 0.1 * np.max(level)) & (level[RATE // 50 :] > 0.2 * np.max(level)))
    starts = rises[np.flatnonzero(np.diff(rises, prepend=-RATE) > RATE // 4)]
    if not len(starts):
        return x
    out = x.copy()
    loud = float(np.quantile(_level(_band(x, 200.0, 3_000.0), 0.02), 0.9))
    for at in random.choice(starts, min(len(starts), int(random.integers(3, 9))), replace=False):
        length, decay = round(float(random.uniform(0.06, 0.15)) * RATE), float(random.uniform(0.015, 0.05))
        t = np.arange(length) / RATE
        thump = np.sin(2 * np.pi * float(random.uniform(35.0, 100.0)) * t) * np.minimum(t / 0.004, 1)
        breath = sosfilt(butter(2, 200.0, fs=RATE, output="sos"), random.normal(size=length))
        puff = (thump + 0.3 * breath) * np.exp(-t / decay)
        stop = min(len(out), at + length)
        out[at:stop] += puff[: stop - at] * loud * 10.0 ** (random.uniform(-3.0, 17.0) / 20.0)
    return out


def whistles(x: Floats, random: np.random.Generator) -> Floats:
    """A tone on some sibilants, always about as high."""
    hz = log_uniform(random, 3_000.0, 8_500.0)
    hiss, vowels = _hiss_and_vowels(x)
    loud = float(np.quantile(vowels, 0.9))
    places = np.flatnonzero((hiss > vowels) & (hiss > 0.02 * loud))
    if not len(places):
        return x
    out = x.copy()
    for _ in range(int(random.integers(3, 10))):
        at, length = int(random.choice(places)), round(float(random.uniform(0.04, 0.2)) * RATE)
        t = np.arange(min(length, len(x) - at)) / RATE
        swell = np.sin(np.pi * np.arange(len(t)) / length)
        tone = np.sin(2 * np.pi * hz * float(random.uniform(0.985, 1.015)) * t) * swell
        out[at : at + len(t)] += tone * loud * 10.0 ** (random.uniform(-22.0, 0.0) / 20.0)
    return out


def squeaks(x: Floats, random: np.random.Generator) -> Floats:
    """Fingers on strings, a reed that slips: bands of noise and tones that glide, for a moment."""
    out, level = x.copy(), float(np.quantile(_level(x, 0.05), 0.9))
    for _ in range(int(random.integers(2, 8))):
        length = round(float(random.uniform(0.05, 0.3)) * RATE)
        at = int(random.integers(0, max(1, len(x) - length)))
        hz = log_uniform(random, 1_500.0, 7_000.0)
        glide = hz * 2.0 ** np.linspace(0.0, float(random.uniform(-0.5, 0.5)), length)
        tone = np.sin(2 * np.pi * np.cumsum(glide) / RATE)
        noise = _band(random.normal(size=length + RATE // 10), hz / 1.15, hz * 1.15)[:length]
        share = float(random.uniform(0.0, 1.0))
        burst = (share * tone + (1 - share) * noise / (np.std(noise) + 1e-9)) * np.hanning(length)
        out[at : at + length] += burst * level * 10.0 ** (random.uniform(-20.0, 3.0) / 20.0)
    return out


def harsh_when_loud(x: Floats, random: np.random.Generator) -> Floats:
    """A peak that comes with the loudest notes only."""
    level = 20.0 * np.log10(_level(x, 0.05))
    over = np.quantile(level[level > np.max(level) - 40.0], float(random.uniform(0.6, 0.85)))
    peak = StaticMove(
        Shape.BELL,
        log_uniform(random, 1_500.0, 7_000.0),
        q=octaves_to_q(float(random.uniform(0.4, 1.0))),
        gain_db=float(random.uniform(4.0, 15.0)),
    )
    share = _gate(np.clip((level - over) / 3.0, 0.0, 1.0), 0.03)
    return _peaking(x, share, peak)


def beating_note(x: Floats, random: np.random.Generator) -> Floats:
    """One of the notes swells and beats whenever it comes."""
    centres = 55.0 * 2.0 ** (np.arange(36) / 12.0)
    levels = np.stack([_level(_band(x, f / 1.03, f * 1.03), 0.2) for f in centres])
    strongest = np.argmax(levels, axis=0)
    counts = np.bincount(strongest, minlength=len(centres))
    note = int(random.choice(np.argsort(counts)[-3:]))
    t = np.arange(len(x)) / RATE
    depth = 10.0 ** (-float(random.uniform(3.0, 20.0)) / 20.0)
    beat = depth + (1.0 - depth) * np.abs(np.sin(np.pi * float(random.uniform(3.5, 9.0)) * t))
    more = 10.0 ** (float(random.uniform(0.0, 6.0)) / 20.0)
    return np.asarray(x * (1.0 + _gate(strongest == note, 0.03) * (beat * more - 1.0)))


@dataclass(frozen=True, slots=True)
class Rule:
    """What a rule looks for, in whom, what is done to a clip, and what it goes by."""

    name: str
    kinds: tuple[Kind, ...]
    roles: frozenset[Role]
    trouble: Trouble
    witnesses: Callable[[Finding], tuple[float, ...]]
    is_it: Callable[[Finding], bool] = lambda f: bool(f.moments)


def _of_moments(f: Finding) -> tuple[float, ...]:
    return f.excess_db, float(np.log2(len(f.moments))), f.similar


_VOICE = frozenset({Role.VOICE})
RULES = (
    Rule("sibilance", (Kind.SIBILANCE,), _VOICE, sharp_sibilants, _of_moments),
    Rule("plosive", (Kind.PLOSIVE,), _VOICE, pops, _of_moments),
    Rule("whistle", (Kind.WHISTLE,), _VOICE, whistles, _of_moments),
    Rule("squeak", (Kind.WHISTLE,), SQUEAK_ROLES, squeaks, _of_moments),
    Rule(
        "loud notes", tuple(Kind), LOUD_TROUBLE_ROLES, harsh_when_loud,
        lambda f: (f.excess_db, f.slope, f.share_of_time), lambda f: f.threshold_db is not None and not f.moments,
    ),
    Rule("wolf", (Kind.RING,), frozenset({Role.STRINGS}), beating_note, _of_moments),
)  # fmt: skip


def _found(x: Floats, role: Role) -> list[Finding]:
    return Search(x[:, None], sample_rate=RATE, role=role).findings(most=30, least_confidence=0.0)


def _looked_at(job: tuple[int, int]) -> dict[str, list[Said]]:
    number, take = job
    source = all_sources()[number]
    x, role = clip(source, take), Role(source.role)
    of_clean = _found(x, role)
    out: dict[str, list[Said]] = {}
    for i, rule in enumerate(r for r in RULES if role in r.roles):
        y = rule.trouble(x, np.random.default_rng([47, number, take, i]))
        of_damaged = [] if np.array_equal(x, y) else _found(y, role)
        for real, found in ((False, of_clean), (True, of_damaged)):
            its = [f for f in found if f.kind in rule.kinds and rule.is_it(f)]
            out.setdefault(rule.name, []).extend(Said(rule.witnesses(f), f.confidence, real) for f in its[:1])
    return out


def jobs(halves: Sequence[str]) -> list[tuple[int, int]]:
    def asked(source: Source) -> bool:
        return source.half in halves and any(Role(source.role) in rule.roles for rule in RULES)

    return [(i, take) for i, source in enumerate(all_sources()) if asked(source) for take in TAKES]


def main(halves: tuple[str, ...]) -> None:
    with ProcessPoolExecutor(2) as pool:
        every = list(pool.map(_looked_at, jobs(halves), chunksize=4))
    for rule in RULES:
        print_said(rule.name, [s for some in every for s in some.get(rule.name, [])])


if __name__ == "__main__":
    main(("held out", "foreign held out") if "held" in sys.argv else ("tune", "foreign"))
