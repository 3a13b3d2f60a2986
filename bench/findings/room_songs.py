"""How sure a ring is that stays in a room whatever is played: `python -m bench.findings.room_songs`.

Songs of two to eight of the benchmark's clips, some with rests, in rooms with and without rings: image sources, a tail
of noise that decays, or both; what the room gives back is spilled into every track. A ring counts where it lifts its
own band by 3 dB, as everywhere in the benchmark. The clips are those that are looked at while something is made; with
`held`, those that are held out.
"""

from __future__ import annotations

import sys
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import numpy as np
from scipy.signal import oaconvolve

from bench.findings.clips import clip
from bench.findings.damage import Bell, apply, is_audible, levels, lifts_its_band, log_uniform
from bench.findings.judge import means
from bench.findings.rooms import room_response
from bench.findings.rules import Said, print_said
from bench.findings.sources import RATE, Source, all_sources
from bench.findings.spill import hall_tail
from mivlo.core.findings.room_rings import find_room_rings
from mivlo.core.units import Floats

SONGS = 320


@dataclass(frozen=True, slots=True)
class Heard:
    """Of a song: how many rings are there, how far off those are that were found, and all that was said."""

    rings: int
    cents: tuple[float, ...]
    said: tuple[Said, ...]


def _players(sources: Sequence[Source], random: np.random.Generator) -> list[Floats]:
    """(n,) each, of one length, as loud as one another within some decibels."""
    n = round(float(random.uniform(8.0, 24.0)) * RATE)
    out = []
    for i in random.choice(len(sources), int(random.integers(2, 9)), replace=False):
        x = np.tile(np.concatenate([clip(sources[i], 0), clip(sources[i], int(random.integers(2)))]), 3)[:n]
        if random.random() < 0.4:  # two seconds of rest now and then
            plays = np.repeat(random.random(n // (2 * RATE) + 1) < 0.7, 2 * RATE)[:n]
            x = x * np.convolve(plays, np.full(480, 1.0 / 480.0), mode="same")
        out.append(x * 0.05 * 10.0 ** (random.normal(0.0, 5.0) / 20.0) / (np.std(x) + 1e-9))
    return out


def _room_of(players: Sequence[Floats], random: np.random.Generator) -> Floats:
    """(n,) all of them as a microphone in the room hears them."""
    tail, walls = hall_tail(random), random.random() < 0.4
    far = 1.0 if not walls else float(random.uniform(0.3, 1.0)) * (random.random() < 0.5)
    out = np.zeros(len(players[0]))
    for x in players:
        heard = far * oaconvolve(x, tail)[: len(x)]
        if walls:
            heard = heard + oaconvolve(x, room_response(random, RATE))[: len(x)]
        out += heard * 10.0 ** (random.normal(0.0, 3.0) / 20.0)
    dry = np.sum(players, axis=0)
    return np.asarray(out + float(random.uniform(0.0, 0.4)) * np.std(out) / (np.std(dry) + 1e-12) * dry)


def _rings(room: Floats, random: np.random.Generator) -> tuple[Bell, ...]:
    """None, one or two, each of which is heard."""
    out: list[Bell] = []
    before, wanted = levels(room), int(random.integers(0, 3))
    for _ in range(40):
        if len(out) == wanted:
            break
        hz, octaves = log_uniform(random, 160.0, 5_000.0), log_uniform(random, 0.03, 0.25)
        bell = Bell(hz, octaves, float(random.uniform(6.0, 16.0)), False)
        apart = all(abs(np.log2(bell.frequency_hz / b.frequency_hz)) > 0.3 for b in out)
        if apart and is_audible(bell, before) and lifts_its_band(bell, room):
            out.append(bell)
    return tuple(out)


def _heard(job: tuple[int, tuple[str, ...]]) -> Heard:
    number, halves = job
    sources = [s for s in all_sources() if s.half in halves]
    random = np.random.default_rng([42, number])
    players = _players(sources, random)
    room = _room_of(players, random)
    bells = _rings(room, random)
    rung = apply(room, bells) if bells else room
    spill = rung * (0.05 * 10.0 ** (-random.uniform(22.0, 45.0) / 20.0) / (np.std(rung) + 1e-9))
    hiss = random.standard_normal(len(rung)) * np.std(rung) * 1e-3
    said = find_room_rings((rung + hiss)[:, None], [(x + spill)[:, None] for x in players], sample_rate=RATE)
    told = [
        Said(ring.witnesses, ring.confidence, any(means(ring.frequency_hz, ring.octaves, b) for b in bells))
        for ring in said
    ]
    off = [
        min((abs(1200.0 * np.log2(r.frequency_hz / b.frequency_hz)) for r in said
             if means(r.frequency_hz, r.octaves, b)), default=np.nan)
        for b in bells
    ]  # fmt: skip
    return Heard(len(bells), tuple(float(c) for c in off if np.isfinite(c)), tuple(told))


def main(halves: tuple[str, ...]) -> None:
    with ProcessPoolExecutor(2) as pool:
        every = list(pool.map(_heard, [(k, halves) for k in range(SONGS)], chunksize=4))
    cents = [c for heard in every for c in heard.cents]
    rings = sum(heard.rings for heard in every)
    print(f"{len(every)} songs, {rings} rings, {len(cents)} among what is said, {np.median(cents):.1f} cents off")
    print_said("rings of a room", [said for heard in every for said in heard.said])


if __name__ == "__main__":
    main(("held out", "foreign held out") if "held" in sys.argv else ("tune", "foreign"))
