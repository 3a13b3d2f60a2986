"""The fast loop of dynamic moves. Plain arrays, no checks."""

from __future__ import annotations

import math

import numba as nb
import numpy as np

CELL = 8
"""Frames between two looks at a level; gains go straight in between. Cells are counted from the song's first frame."""
LOWEST_POWER = 1e-12
SILENT_DB = -100.0
"""A key below this does not make anything act above a threshold that counts from its own level."""

# columns of the numbers of a move
THRESHOLD, SLOPE, KNEE, RANGE, ATTACK, RELEASE, HOLD, LINK, BELOW, OF_STRIP, PEAK = range(11)
NUMBERS = 11


@nb.njit(cache=True, nogil=True, inline="always")
def _target(level, total, v):  # type: ignore[no-untyped-def]
    """Where the gain goes, 0 (nothing) to |range|, for a level and that of all frequencies in dB."""
    if v[OF_STRIP] > 0.0:
        if level < SILENT_DB:
            return 0.0
        level = level - total
    over = v[THRESHOLD] - level if v[BELOW] > 0.0 else level - v[THRESHOLD]
    knee = v[KNEE]
    if knee > 0.0 and abs(over) < 0.5 * knee:
        over = (over + 0.5 * knee) ** 2 / (2.0 * knee)
    elif over < 0.0:
        over = 0.0
    return min(v[SLOPE] * over, abs(v[RANGE]))


@nb.njit(cache=True, nogil=True, error_model="numpy")
def run_dynamic(  # type: ignore[no-untyped-def]
    x, key, frame, v, sections, read, band, splits, powers, gain, held, table, at, step, states, mix, trace
):
    """One dynamic move in place over x (n, channels), listening to key (n, 1 or channels).

    frame : of the song, of the first sample. v (NUMBERS,), sections (2, 5), read (7,): what the move is. band
    (2, channels, 2), splits (channels, 2), powers (channels, 3): what listening remembers. gain (channels,): the moving
    part in dB, from 0 to |range|. held (channels,): cells that it still waits. table (POINTS, 6): coefficients over the
    way of the gain. at, step (channels, 6): coefficients now and their way per frame. states (channels, 2). mix: the
    treated share at the first frame and its way per frame, (2,). trace (cells, channels, 2): level, as the
    threshold counts, and gain at the start of each cell that begins here, or (0, channels, 2).
    """
    channels = x.shape[1]
    keyed = key.shape[1]
    last = table.shape[0] - 1
    span = abs(v[RANGE])
    c00, c01, c02, c03, c04 = sections[0, 0], sections[0, 1], sections[0, 2], sections[0, 3], sections[0, 4]
    c10, c11, c12, c13, c14 = sections[1, 0], sections[1, 1], sections[1, 2], sections[1, 3], sections[1, 4]
    two = not (c10 == 1.0 and c11 == 0.0 and c12 == 0.0)
    p0, p1, share, left, slow, quick, peak_share = read[0], read[1], read[2], read[3], read[4], read[5], read[6]
    peak, of_strip = v[PEAK] > 0.0, v[OF_STRIP] > 0.0
    levels, totals = np.empty(2), np.empty(2)
    count, cell, n = x.shape[0], 0, 0
    while n < count:
        if (frame + n) % CELL == 0:
            loudest, loudest_total = -1e9, -1e9
            for c in range(keyed):
                levels[c] = 10.0 * math.log10(powers[c, 0] + LOWEST_POWER)
                loudest = max(loudest, levels[c])
                if of_strip:
                    totals[c] = 10.0 * math.log10(2.0 * max(powers[c, 1], powers[c, 2]) + LOWEST_POWER)
                    loudest_total = max(loudest_total, totals[c])
            for c in range(channels):
                own, own_total = loudest, loudest_total
                if keyed == channels:
                    own, own_total = levels[c], totals[c]
                level = own + v[LINK] * (loudest - own)
                total = own_total + v[LINK] * (loudest_total - own_total)
                goal = _target(level, total, v)
                if goal >= gain[c]:
                    gain[c] += v[ATTACK] * (goal - gain[c])
                    held[c] = v[HOLD]
                elif held[c] > 0.0:
                    held[c] -= 1.0
                else:
                    gain[c] += v[RELEASE] * (goal - gain[c])
                place = min(gain[c] / span, 1.0) * last if span > 0.0 else 0.0
                i = min(int(place), last - 1)
                t = place - i
                for j in range(6):
                    step[c, j] = (table[i, j] + t * (table[i + 1, j] - table[i, j]) - at[c, j]) / CELL
                if trace.shape[0] > 0:
                    trace[cell, c, 0] = level - total if of_strip else level
                    trace[cell, c, 1] = gain[c]
            cell += 1
        stop = min(count, n + CELL - (frame + n) % CELL)
        for c in range(keyed):
            s1, s2, u1, u2 = band[0, c, 0], band[0, c, 1], band[1, c, 0], band[1, c, 1]
            a, b = splits[c, 0], splits[c, 1]
            power = powers[c, 0]
            for m in range(n, stop):
                k = key[m, c]
                y = c00 * k + s1
                s1 = c01 * k + s2 - c03 * y
                s2 = c02 * k - c04 * y
                if two:
                    z = c10 * y + u1
                    u1 = c11 * y + u2 - c13 * z
                    u2 = c12 * y - c14 * z
                    y = z
                first = p0 * y + a
                a = y - p0 * first
                second = p1 * y + b
                b = y - p1 * second
                here = first * first + second * second
                if peak:
                    power = max(peak_share * here, power * left)
                else:
                    power += share * (here - power)
            if of_strip:
                for m in range(n, stop):
                    here = key[m, c] * key[m, c]
                    powers[c, 1] += slow * (here - powers[c, 1])
                    powers[c, 2] += quick * (here - powers[c, 2])
            band[0, c, 0], band[0, c, 1], band[1, c, 0], band[1, c, 1] = s1, s2, u1, u2
            splits[c, 0], splits[c, 1] = a, b
            powers[c, 0] = power
        for c in range(channels):
            a1, a2, a3, m0, m1, m2 = at[c, 0], at[c, 1], at[c, 2], at[c, 3], at[c, 4], at[c, 5]
            d1, d2, d3, e0, e1, e2 = step[c, 0], step[c, 1], step[c, 2], step[c, 3], step[c, 4], step[c, 5]
            s1, s2 = states[c, 0], states[c, 1]
            wet, grow = mix[0] + n * mix[1], mix[1]
            for m in range(n, stop):
                a1, a2, a3, m0, m1, m2 = a1 + d1, a2 + d2, a3 + d3, m0 + e0, m1 + e1, m2 + e2
                u = x[m, c]
                w = u - s2
                v1 = a1 * s1 + a2 * w
                v2 = s2 + a2 * s1 + a3 * w
                s1, s2 = 2.0 * v1 - s1, 2.0 * v2 - s2
                wet += grow
                x[m, c] = u + wet * ((m0 - 1.0) * u + m1 * v1 + m2 * v2)
            at[c, 0], at[c, 1], at[c, 2], at[c, 3], at[c, 4], at[c, 5] = a1, a2, a3, m0, m1, m2
            states[c, 0], states[c, 1] = s1, s2
        n = stop
