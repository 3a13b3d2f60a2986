"""The figures: how far the proposed cuts repair the damage, what is found, and what is said of clean clips."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from bench.findings.clips import clip
from bench.findings.damage import DAMAGES, Bell, distance, levels
from bench.findings.sources import RATE, Source, all_sources
from bench.findings.spill import damaged_beside, others_of_half, playing_beside, spill_of_half
from mivlo.core.findings import Finding
from mivlo.core.findings.finding import Kind
from mivlo.core.graph import treat
from mivlo.core.units import Floats, q_to_octaves

MOST = 8
OTHER_KINDS = frozenset({Kind.RUMBLE, Kind.HUM, Kind.SIBILANCE, Kind.PLOSIVE, Kind.WHISTLE})
"""Troubles that no damage of the benchmark makes: how often they are so, others measure (`rules`, `moments`)."""
MOST_REST_S = 12.0
"""A player in a song rests for so long at most behind each take."""


@dataclass(frozen=True, slots=True)
class Case:
    """A damaged clip and its clean one. others : what the microphones of those hear that play beside it."""

    source: Source
    take: int
    clean: Floats
    damaged: Floats
    bells: tuple[Bell, ...]
    others: tuple[Floats, ...] = ()


Find = Callable[[Floats, Case], Sequence[Finding]]


@dataclass(frozen=True, slots=True)
class Verdict:
    """One case judged."""

    name: str
    family: str
    repair: float
    rings: int
    rings_found: int
    humps: int
    humps_found: int
    cents: list[float]
    average_precision: float
    said_of_clean: int
    deep_on_clean: int
    changed_clean_db: float
    seconds_per_minute: float
    missed: list[str]
    against_itself: int
    """Findings of what is broad and always there whose own evidence hardly stands out."""
    believed: list[tuple[float, bool]]
    """Confidence of each finding of a kind that is planted, in the damaged and in the clean clip, and whether it is
    real."""
    not_planted_on_clean: int
    """What is said of the clean clip and is of OTHER_KINDS: a recording may have it, nobody knows."""


TAKES, FRESH_TAKES = (0, 1), (2, 3)
"""The benchmark's own, and others of the same sources with other damage, to see how much the figures vary."""


def cases(half: str, takes: tuple[int, ...] = TAKES, how: str = "bells") -> Iterator[Case]:
    """The benchmark's clips of a half; the damage, one of DAMAGES, is another than any that was trained on."""
    for number, source in enumerate(s for s in all_sources() if s.half == half):
        for take in takes:
            yield from _damaged(source, take, clip(source, take), how, [20_261, number, take])


def long_cases(half: str, how: str = "bells") -> Iterator[Case]:
    """Of each source of a half a track of 32 to 48 s, its takes one after the other, damaged as a whole."""
    for number, source in enumerate(s for s in all_sources() if s.half == half):
        clean = np.concatenate([clip(source, take) for take in (*TAKES, *FRESH_TAKES)])
        yield from _damaged(source, 0, clean, how, [20_262, number])


def song_cases(half: str) -> Iterator[Case]:
    """Of each source of a half a track in a song: four takes with rests behind them; one to five others play so, too.

    All are in a room, and each is heard in the microphones of the others.
    """
    for number, source in enumerate(s for s in all_sources() if s.half == half):
        case = _in_song(source, np.random.default_rng([20_265, number]))
        if case.bells:
            yield case


def _in_song(source: Source, random: np.random.Generator) -> Case:
    beside = others_of_half(source)

    def part(of: Source) -> Floats:
        takes = (clip(of, take) for take in (*TAKES, *FRESH_TAKES))
        return np.concatenate([np.pad(take, (0, round(random.uniform(0.0, MOST_REST_S) * RATE))) for take in takes])

    clean = part(source)
    playing = playing_beside(len(clean), random, lambda: part(beside[int(random.integers(len(beside)))]))
    left = playing.left_in(clean, playing.players, random)
    damaged, bells = damaged_beside(clean, left, random)
    return Case(source, 0, clean + left, damaged, bells, playing.microphones(clean, random))


def cases_beside(half: str, takes: tuple[int, ...] = TAKES) -> Iterator[Case]:
    """Clips of a half in whose microphone some others of it are heard, 18 to 46 dB below, damaged before that."""
    for number, source in enumerate(s for s in all_sources() if s.half == half):
        for take in takes:
            random = np.random.default_rng([20_263, number, take])
            clean = clip(source, take)
            beside = spill_of_half(source, clean, random, (take,))
            damaged, bells = damaged_beside(clean, beside, random)
            if bells:
                yield Case(source, take, clean + beside, damaged, bells)


def _damaged(source: Source, take: int, clean: Floats, how: str, seed: list[int]) -> list[Case]:
    """A case, or none: a clip with hardly any range of its own may have no place for a bell."""
    damaged, bells = DAMAGES[how](clean, np.random.default_rng(seed))
    return [Case(source, take, clean, damaged, bells)] if bells or how == "rooms" else []


def means(frequency_hz: float, octaves: float, bell: Bell) -> bool:
    """Whether a proposal at a frequency, so wide, means this bell."""
    apart = abs(np.log2(frequency_hz / bell.frequency_hz))
    if bell.hump:
        return bool(apart <= bell.octaves / 2 and octaves >= bell.octaves / 4)
    return bool(apart <= max(1 / 24, bell.octaves / 2))


def hits(finding: Finding, bell: Bell) -> bool:
    return means(finding.move.frequency_hz, q_to_octaves(finding.move.q), bell)


def speaks_against_itself(finding: Finding) -> bool:
    """Whether number, share of time and picture disagree, of a broad finding that no rule made."""
    if finding.after_db is None or finding.bandwidth_oct < 0.5:
        return False
    return finding.share_of_time < 0.15 or max(finding.evidence.excess_db, default=0.0) < 3.0


def average_precision(said: Sequence[Finding], bells: Sequence[Bell], also: Sequence[Finding]) -> float:
    """Of the ranked proposals; what is also said of the clean clip and is no hit does not count against them."""
    left, rank, precisions = list(bells), 0, []
    for finding in said:
        hit = next((b for b in left if hits(finding, b)), None)
        if hit is not None:
            rank += 1
            left.remove(hit)
            precisions.append((len(bells) - len(left)) / rank)
            continue
        if any(abs(np.log2(finding.frequency_hz / c.frequency_hz)) < 1 / 12 for c in also):
            continue
        rank += 1
    return float(sum(precisions) / max(1, len(bells)))


def treated(x: Floats, said: Sequence[Finding]) -> Floats:
    moves = [f.move for f in said[:MOST]]
    return treat(x[:, None], moves, sample_rate=RATE)[:, 0] if moves else x


def judge(case: Case, find: Find) -> Verdict:
    began = time.process_time()
    said = find(case.damaged, case)
    spent = time.process_time() - began
    of_clean = find(case.clean, case)
    target = levels(case.clean)
    before = distance(levels(case.damaged), target)
    after = distance(levels(treated(case.damaged, said)), target)
    top = said[:MOST]
    rings = [b for b in case.bells if not b.hump]
    humps = [b for b in case.bells if b.hump]
    cents, missed = [], []
    for bell in case.bells:
        found = [f.move.frequency_hz for f in top if hits(f, bell)]
        if not found:
            missed.append(f"{bell.frequency_hz:.0f} Hz {bell.octaves:.2f} oct {bell.gain_db:.0f} dB")
        elif not bell.hump:
            cents.append(float(min(abs(1200 * np.log2(f / bell.frequency_hz)) for f in found)))
    return Verdict(
        name=f"{case.source.name}/{case.take}",
        family=case.source.role,
        repair=1.0 - after / before,
        rings=len(rings),
        rings_found=len(cents),
        humps=len(humps),
        humps_found=sum(any(hits(f, b) for f in top) for b in humps),
        cents=cents,
        average_precision=average_precision(said, case.bells, of_clean),
        said_of_clean=len(of_clean),
        deep_on_clean=sum(f.move.gain_db <= -4.0 for f in of_clean),
        changed_clean_db=distance(levels(treated(case.clean, of_clean)), target),
        seconds_per_minute=spent / (len(case.damaged) / RATE / 60.0),
        missed=missed,
        against_itself=sum(speaks_against_itself(f) for f in [*said, *of_clean]),
        believed=[
            (f.confidence, any(hits(f, b) for b in bells))
            for found, bells in ((said, case.bells), (of_clean, ()))
            for f in found
            if f.kind not in OTHER_KINDS
        ],
        not_planted_on_clean=sum(f.kind in OTHER_KINDS for f in of_clean),
    )


def _per_clean_clip(verdicts: Sequence[Verdict]) -> str:
    said, deep = np.mean([v.said_of_clean for v in verdicts]), np.mean([v.deep_on_clean for v in verdicts])
    return f"{said:.1f} / {deep:.2f}"


def _share(some: int, of: int) -> str:
    return f"{100 * some / max(1, of):.0f} % of {of}"


def _belief(verdicts: Sequence[Verdict], low: float, high: float) -> str:
    """Mean confidence between two limits, and the share of those that are real."""
    rows = np.array([pair for v in verdicts for pair in v.believed if low <= pair[0] < high], dtype=np.float64)
    if not len(rows):
        return "none"
    return f"{rows[:, 0].mean():.2f} / {rows[:, 1].mean():.2f} of {len(rows)}"


def table(verdicts: Sequence[Verdict]) -> list[tuple[str, str, str]]:
    """(what, measured, asked for)."""
    repair = np.array([v.repair for v in verdicts])
    cents = [c for v in verdicts for c in v.cents]
    rings, humps = sum(v.rings for v in verdicts), sum(v.humps for v in verdicts)
    return [
        ("clips", str(len(verdicts)), ""),
        ("repair, mean / median", f"{repair.mean():.2f} / {np.median(repair):.2f}", ".37 / .38, aim .60"),
        ("clips made worse", f"{100 * np.mean(repair < 0):.0f} %", "at most 8 %, aim 3 %"),
        ("rings in the top 8", _share(sum(v.rings_found for v in verdicts), rings), "86 %, aim 95 %"),
        ("humps found", _share(sum(v.humps_found for v in verdicts), humps), "70 %, aim 90 %"),
        ("centre error, median", f"{np.median(cents):.1f} cents" if cents else "none", "7 cents, aim 5"),
        ("mean average precision", f"{np.mean([v.average_precision for v in verdicts]):.2f}", "0.84, aim 0.92"),
        (
            "proposals per clean clip / at least 4 dB deep",
            _per_clean_clip(verdicts),
            "2 / 0.15, aim 1 / .05",
        ),
        (
            "of these rumble, hum and the like: may be so",
            f"{np.mean([v.not_planted_on_clean for v in verdicts]):.2f}",
            "",
        ),
        ("broad, and their evidence against them", str(sum(v.against_itself for v in verdicts)), "0"),
        (
            "change of a clean clip, mean",
            f"{np.mean([v.changed_clean_db for v in verdicts]):.2f} dB",
            "0.35 dB, aim 0.2",
        ),
        ("confidence 0.7 and more: said / real", _belief(verdicts, 0.7, 1.1), "within 0.1"),
        ("confidence 0.4 to 0.7: said / real", _belief(verdicts, 0.4, 0.7), "within 0.1"),
        ("confidence below 0.4: said / real", _belief(verdicts, 0.0, 0.4), "within 0.1"),
        ("compute per minute of audio", f"{np.median([v.seconds_per_minute for v in verdicts]):.2f} s", "3 s, aim 1 s"),
    ]


def families(verdicts: Sequence[Verdict]) -> list[str]:
    """A line for each family of instruments, those first whose clips are made worse most often."""
    told = []
    for family in sorted({v.family for v in verdicts}):
        some = [v for v in verdicts if v.family == family]
        repair = np.array([v.repair for v in some])
        rings = _share(sum(v.rings_found for v in some), sum(v.rings for v in some))
        clean = np.mean([v.changed_clean_db for v in some])
        worse = float(np.mean(repair < 0))
        line = f"{family:12} {len(some):3} clips  repair {repair.mean():5.2f}  worse {100 * worse:3.0f} %"
        told.append((worse, f"{line}  rings {rings:>12}  clean clips changed by {clean:.2f} dB"))
    return [line for _, line in sorted(told, key=lambda pair: -pair[0])]
