"""The fast loop of dynamic moves. Plain arrays, no checks.

The moves of a run are at work at once: while the first one treats a cell, the second treats the cell before it, and so
on, so that several fill the lanes of a vector (`dynamic_lanes`). What a lane leaves is what the lane of the next move
reads in the next round: it is written one move further on in the work buffer.
"""

from __future__ import annotations

import math

import numba as nb
import numpy as np

from mivlo.core.processors.dynamic_lanes import (
    AT,
    FALLING,
    GAIN,
    HELD,
    LANES,
    MEMORY,
    POWER,
    RISING,
    WAY,
    filter_plain,
    filter_wide,
    listen_plain,
    listen_wide,
    listen_wide_whole,
)
from mivlo.core.units import Floats

CELL = 16
"""Frames between two looks at a level; gains go straight in between. Cells are counted from the song's first frame."""
LOWEST_POWER = 1e-12
SILENT_DB = -100.0
"""A key below this does not make anything act above a threshold that counts from its own level."""

REST_DB = 1e-7
"""A gain that falls below this is at rest."""

# columns of the numbers of a move. QUIET: the power up to which (`below`: from which on) it does nothing. SOURCE: which
# of the foreign sounds it listens to, or -1 for what reaches it. WHOLE: whether it needs all that listening can do
THRESHOLD, SLOPE, KNEE, RANGE, ATTACK, RELEASE, HOLD, LINK, BELOW, OF_STRIP, QUIET, SOURCE, WHOLE = range(13)
NUMBERS = 13
# what HELD says of a lane that is at rest: its coefficients are on their way there, or have arrived
_RESTING, _RESTED = -1.0, -2.0


def vectors_of(moves: int, channels: int) -> int:
    """Vectors that so many moves fill."""
    return -(-moves * channels // LANES)


def working_room(vectors: int) -> Floats:
    """What `run_dynamic` works in: what lanes treat, what they hear instead, a vector's memory, what vectors need."""
    return np.zeros(2 * CELL * (vectors * LANES + 2) + MEMORY * LANES + vectors)


@nb.njit(cache=True, nogil=True, inline="always")
def _target(level, total, numbers, k):  # type: ignore[no-untyped-def]
    """Where the gain goes, 0 (nothing) to |range|, for a level and that of all frequencies in dB."""
    if numbers[k, OF_STRIP] > 0.0:
        if level < SILENT_DB:
            return 0.0
        level = level - total
    over = numbers[k, THRESHOLD] - level if numbers[k, BELOW] > 0.0 else level - numbers[k, THRESHOLD]
    knee = numbers[k, KNEE]
    if knee > 0.0 and abs(over) < 0.5 * knee:
        over = (over + 0.5 * knee) ** 2 / (2.0 * knee)
    elif over < 0.0:
        over = 0.0
    return min(numbers[k, SLOPE] * over, abs(numbers[k, RANGE]))


@nb.njit(cache=True, nogil=True, inline="always")
def _db(power):  # type: ignore[no-untyped-def]
    return 10.0 * math.log10(power + LOWEST_POWER)


@nb.njit(cache=True, nogil=True, error_model="numpy", inline="always")
def _goals(k, numbers, memory, channels, trace, row, goals):  # type: ignore[no-untyped-def]
    """Where the gains of the channels of a move go; the levels are written down where someone asks."""
    g, lane = k * channels // LANES, k * channels % LANES
    of_strip, link = numbers[k, OF_STRIP] > 0.0, numbers[k, LINK]
    highest, highest_total = memory[g, POWER, lane], max(memory[g, FALLING, lane], memory[g, RISING, lane])
    for c in range(lane + 1, lane + channels):
        highest = max(highest, memory[g, POWER, c])
        highest_total = max(highest_total, max(memory[g, FALLING, c], memory[g, RISING, c]))
    loudest = _db(highest)
    loudest_total = _db(2.0 * highest_total) if of_strip else 0.0
    for c in range(channels):
        level, total = loudest, loudest_total
        if link < 1.0:
            level = _db(memory[g, POWER, lane + c])
            level += link * (loudest - level)
            if of_strip:
                total = _db(2.0 * max(memory[g, FALLING, lane + c], memory[g, RISING, lane + c]))
                total += link * (loudest_total - total)
        goals[c] = _target(level, total, numbers, k)
        if row >= 0:
            trace[k, row, c, 0] = level - total if of_strip else level


@nb.njit(cache=True, nogil=True, error_model="numpy", inline="always")
def _decide(k, numbers, tables, memory, channels, trace, row, goals, aims):  # type: ignore[no-untyped-def]
    """Levels are read, the gains of a move and the ways of its coefficients set, for the cell that begins."""
    g, lane = k * channels // LANES, k * channels % LANES
    highest = memory[g, POWER, lane]
    for c in range(lane + 1, lane + channels):
        highest = max(highest, memory[g, POWER, c])
    linked, quiet = numbers[k, LINK] == 1.0 or channels == 1, numbers[k, QUIET]
    if row < 0 and linked and (highest >= quiet if numbers[k, BELOW] > 0.0 else highest <= quiet):
        goals[0] = goals[1] = 0.0  # most of the time; a logarithm costs more than all else here
    else:
        _goals(k, numbers, memory, channels, trace, row, goals)
    last, span = tables.shape[1] - 1, abs(numbers[k, RANGE])
    per_db = last / span if span > REST_DB else 0.0
    aimed = False
    for c in range(lane, lane + channels):
        goal, gain, held = goals[c - lane], memory[g, GAIN, c], memory[g, HELD, c]
        if goal == 0.0 and gain == 0.0:
            if held == _RESTING:
                for j in range(6):
                    memory[g, WAY + j, c] = 0.0
            if held < 0.0:
                memory[g, HELD, c] = _RESTED
                continue
            held = _RESTING
        else:  # without branches: which way a gain goes can't be foretold
            rising, waits = goal >= gain, held > 0.0
            share = numbers[k, ATTACK] if rising else (0.0 if waits else numbers[k, RELEASE])
            held = numbers[k, HOLD] if rising else max(held - 1.0, 0.0)
            gain += share * (goal - gain)
            gain = gain if rising or gain >= REST_DB else 0.0
        memory[g, GAIN, c], memory[g, HELD, c] = gain, held
        if not aimed or gain != memory[g, GAIN, lane]:
            aimed = c == lane  # what is aimed at for the first channel serves the second one, where they go alike
            place = min(gain * per_db, float(last))
            i = min(int(place), last - 1)
            t = place - i
            for j in range(6):
                aims[j] = tables[k, i, j] + t * (tables[k, i + 1, j] - tables[k, i, j])
        for j in range(6):
            memory[g, WAY + j, c] = (aims[j] - memory[g, AT + j, c]) * (1.0 / CELL)
    if row >= 0:
        for c in range(channels):
            trace[k, row, c, 1] = memory[g, GAIN, lane + c]


@nb.njit(cache=True, nogil=True, inline="always")
def _copy(a, at_a, width_a, b, at_b, width_b, frames, channels):  # type: ignore[no-untyped-def]
    """Frames from one flat table of rows to another."""
    if channels == 2:
        for i in range(frames):
            b[at_b + i * width_b] = a[at_a + i * width_a]
            b[at_b + i * width_b + 1] = a[at_a + i * width_a + 1]
    else:
        for i in range(frames):
            b[at_b + i * width_b] = a[at_a + i * width_a]


@nb.njit(cache=True, nogil=True, error_model="numpy")
def run_dynamic(x, foreign, frame, numbers, tables, values, memory, work, trace, wide):  # type: ignore[no-untyped-def]
    """Dynamic moves in series, in place over x (n, channels).

    foreign : (keys, n, channels), what some of them listen to. frame : of the song, of the first sample. numbers
    (moves, NUMBERS). tables (moves, points, 6): coefficients over the way of each gain. values (vectors, VALUES,
    LANES), memory (vectors, MEMORY, LANES): see `dynamic_lanes`. work : `working_room`. trace (moves, cells, channels,
    2): level, as the threshold counts, and gain at the start of each cell that begins here, or 0 cells. wide: whether
    the processor steps whole vectors.
    """
    count, channels = x.shape
    moves, vectors = numbers.shape[0], memory.shape[0]
    width, per = vectors * LANES + 2, LANES // channels
    heard = CELL * width
    kept = 2 * heard
    needs = kept + MEMORY * LANES
    flat = x.reshape(-1)
    flat_values, flat_memory = values.reshape(-1), memory.reshape(-1)
    work[:kept] = 0.0
    for g in range(vectors):
        work[needs + g] = 0.0
    for k in range(moves):
        need = (1.0 if numbers[k, WHOLE] > 0.0 else 0.0) + (2.0 if numbers[k, SOURCE] >= 0.0 else 0.0)
        work[needs + k // per] = float(int(work[needs + k // per]) | int(need))
    goals, aims = np.zeros(2), np.zeros(6)
    n, begun = 0, 0
    while n < count:
        into = (frame + n) % CELL
        frames, cells = CELL, (count - n) // CELL
        if into > 0 or cells == 0:
            frames, cells = min(CELL - into, count - n), 1
        for turn in range(cells + moves - 1):
            if turn < cells:
                _copy(flat, (n + turn * CELL) * channels, channels, work, 0, width, frames, channels)
            for g in range(vectors - 1, -1, -1):
                first, lane = g * per, g * LANES
                stop = min(first + per, moves)
                if turn < first or turn - (stop - 1) >= cells:
                    continue
                some_wait = turn < stop - 1 or turn - first >= cells
                need = int(work[needs + g])
                whole, elsewhere = need & 1 > 0, need & 2 > 0
                if into == 0:
                    for k in range(first, stop):
                        if turn - k >= 0 and turn - k < cells:
                            row = begun + turn - k if trace.shape[1] > 0 else -1
                            _decide(k, numbers, tables, memory, channels, trace, row, goals, aims)
                if some_wait:
                    for row in range(MEMORY):
                        for c in range(LANES):
                            work[kept + row * LANES + c] = memory[g, row, c]
                if elsewhere:
                    for k in range(first, stop):
                        if turn - k >= 0 and turn - k < cells:
                            for i in range(frames):
                                for c in range(channels):
                                    at = k * channels + c
                                    if numbers[k, SOURCE] < 0.0:
                                        work[heard + i * width + at] = work[i * width + at]
                                    else:
                                        there = foreign[int(numbers[k, SOURCE]), n + (turn - k) * CELL + i, c]
                                        work[heard + i * width + at] = there
                start = heard + lane if elsewhere else lane
                if wide:
                    if whole:
                        listen_wide_whole(work, start, width, frames, flat_values, flat_memory, g)
                    else:
                        listen_wide(work, start, width, frames, flat_values, flat_memory, g)
                    filter_wide(work, lane, width, frames, flat_memory, g, channels)
                else:
                    listen_plain(work, start, width, frames, values, memory, g)
                    filter_plain(work, lane, width, frames, memory, g, channels)
                if some_wait:
                    for k in range(first, stop):
                        if turn - k < 0 or turn - k >= cells:
                            for c in range(k * channels - lane, (k + 1) * channels - lane):
                                for row in range(MEMORY):
                                    memory[g, row, c] = work[kept + row * LANES + c]
            done = turn - (moves - 1)
            if done >= 0:
                at = (n + done * CELL) * channels
                _copy(work, moves * channels, width, flat, at, channels, frames, channels)
        if into == 0:
            begun += cells
        n += frames * cells
