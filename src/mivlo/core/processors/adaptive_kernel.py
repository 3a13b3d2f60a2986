"""The fast loops of adaptive moves: how far each partial stands over a line through the others. Plain arrays."""

from __future__ import annotations

import math

import numba as nb
import numpy as np

SILENT_DB = -90.0
"""Peaks below this, in dB of a full-scale sine, are nobody's."""
UNSURE_DB, BENT_DB = 0.7, 2.0
"""What stands out by less than the first of these is left alone. The line may also be bent where its ends lie apart: by
the second for ends one width away on either side, more with the square of it. What is twice as much counts in full."""
APART = 0.5
"""Partials closer than this, in widths, belong to the same thing and are no surroundings."""
REACH = 2.0
"""How far beyond its width a partial is compared, in widths."""
FARTHEST_OCT = 1.6
"""Where partials lie far apart, the next one counts up to here."""
FELLOWS_DB = 18.0
"""What lies so far below a partial belongs to something else: noise, a room, the note before."""
EDGE_DB, EDGE_DB_PER_OCT = 9.0, 9.0
"""Where both sides differ by more than this and this an octave the line is steep, by twice as much it is an edge."""
ALONE_DB = 12.0
"""A partial with nothing on one side stands out where it is so much over the other side."""


@nb.njit(cache=True, nogil=True)
def band_levels(power, first, last, weight, out):  # type: ignore[no-untyped-def]
    """Level of each grid point in dB: the mean power of its bins, or straight between two where it has less than one.

    power (bins,); first, last (points,): bins from and to; weight (points,): below 0 a mean, else how far between.
    """
    for j in range(out.shape[0]):
        if weight[j] < 0.0:
            total = 0.0
            for b in range(first[j], last[j]):
                total += power[b]
            out[j] = 10.0 * math.log10(total / (last[j] - first[j]) + 1e-15)
        else:
            low = 10.0 * math.log10(power[first[j]] + 1e-15)
            high = 10.0 * math.log10(power[first[j] + 1] + 1e-15)
            out[j] = low + weight[j] * (high - low)


@nb.njit(cache=True, nogil=True)
def _line_over_others(i, at, level, count, apart, reach):  # type: ignore[no-untyped-def]
    """The highest line through one peak on either side, at peak i, and how much it may be bent (octaves²)."""
    left_nearest, right_nearest = -1, -1
    best, bent = -1e9, 0.0
    low = i - 1
    least = level[i] - FELLOWS_DB
    while low >= 0 and (at[i] - at[low] < apart or level[low] < least):
        low -= 1
    high = i + 1
    while high < count and (at[high] - at[i] < apart or level[high] < least):
        high += 1
    if low >= 0 and at[i] - at[low] < FARTHEST_OCT:
        left_nearest = low
    if high < count and at[high] - at[i] < FARTHEST_OCT:
        right_nearest = high
    if left_nearest < 0 and right_nearest < 0:
        return 1e9, 0.0
    if left_nearest < 0:
        return level[right_nearest] + ALONE_DB, (at[right_nearest] - at[i]) ** 2
    if right_nearest < 0:
        return level[left_nearest], (at[i] - at[left_nearest]) ** 2
    left = left_nearest
    while left >= 0 and (left == left_nearest or at[i] - at[left] < reach):
        right = right_nearest
        while right < count and (right == right_nearest or at[right] - at[i] < reach):
            if level[left] < least or level[right] < least:
                right += 1
                continue
            here = level[left] + (level[right] - level[left]) * (at[i] - at[left]) / (at[right] - at[left])
            # at an edge of the spectrum (below the lowest partial, say) there is no line: the higher side counts
            before, behind = at[i] - at[left], at[right] - at[i]
            bend = before * behind
            edge = EDGE_DB + EDGE_DB_PER_OCT * (before + behind)
            steep = min(1.0, (abs(level[right] - level[left]) - edge) / edge)
            if steep > 0.0:
                higher = behind if level[right] > level[left] else before
                here += steep * (max(level[left], level[right]) - here)
                bend += steep * (higher * higher - bend)
            if here > best:
                best, bent = here, bend
            right += 1
        left -= 1
    return best, bent


@nb.njit(cache=True, nogil=True)
def cuts(level, grid, width, room, out):  # type: ignore[no-untyped-def]
    """How far each grid point stands over the smooth line through the other peaks, in dB: (points,), 0 or above.

    level, grid (points,): dB and octaves. width : octaves. room (3, points): used on the way.
    """
    points = level.shape[0]
    at, tops, lines = room[0], room[1], room[2]
    count = 0
    for j in range(1, points - 1):
        if level[j] >= level[j - 1] and level[j] > level[j + 1] and level[j] > SILENT_DB:
            at[count], tops[count] = grid[j], level[j]
            count += 1
    for j in range(points):
        out[j] = 0.0
    if count == 0:
        return
    for i in range(count):
        lines[i], bend = _line_over_others(i, at, tops, count, APART * width, REACH * width)
        over = tops[i] - lines[i]
        unsure = UNSURE_DB + BENT_DB * bend / (width * width)
        if over <= unsure:
            lines[i] = 1e9  # nothing to be taken around it
        else:
            sure = min(1.0, (over - unsure) / unsure)
            lines[i] = tops[i] - over * sure * sure * (3.0 - 2.0 * sure)
    i = 0
    for j in range(points):
        while i + 1 < count and grid[j] - at[i] > at[i + 1] - grid[j]:
            i += 1
        if abs(grid[j] - at[i]) <= width:
            out[j] = max(0.0, level[j] - lines[i])


@nb.njit(cache=True, nogil=True)
def gains_of(  # type: ignore[no-untyped-def]
    spectra,
    scale,
    averages,
    shares,
    first,
    last,
    weight,
    grid,
    width,
    factors,
    most,
    attack,
    release,
    gain,
    bin_first,
    bin_at,
    bin_weight,
    mix,
    mix_goal,
    mix_step,
    out,
    rows,
):
    """Gains of all bins for windows that follow each other; the share of the treated sound behind them.

    spectra (k, channels, bins) of what is listened to; scale turns their power into that of a full-scale sine.
    averages (2, bins), gain (points,) in dB: what is remembered. shares (2,): of the new power. first, last, weight,
    grid, factors (points,): the grid. bin_first: the first bin that is reached, bin_at, bin_weight (reached,): where it
    lies between points. out (k, bins). rows (k or 0, points): the gains of the grid.
    """
    points = grid.shape[0]
    level, here, over, room = np.empty(points), np.empty(points), np.empty(points), np.empty((3, points))
    for k in range(spectra.shape[0]):
        for j in range(points):
            over[j] = 0.0
        for a in range(averages.shape[0]):
            for b in range(spectra.shape[2]):
                power = 0.0
                for c in range(spectra.shape[1]):
                    z = spectra[k, c, b]
                    power = max(power, z.real * z.real + z.imag * z.imag)
                averages[a, b] += shares[a] * (power * scale - averages[a, b])
            band_levels(averages[a], first, last, weight, level)
            cuts(level, grid, width, room, here)
            for j in range(points):
                over[j] = max(over[j], here[j])
        deepest = 0.0
        for j in range(points):
            goal = max(-factors[j] * over[j], most)
            gain[j] += (attack if goal < gain[j] else release) * (goal - gain[j])
            deepest = min(deepest, gain[j])
        if rows.shape[0] > 0:
            rows[k] = gain
        mix = min(mix_goal, mix + mix_step) if mix < mix_goal else max(mix_goal, mix - mix_step)
        for b in range(out.shape[1]):
            out[k, b] = 1.0
        if mix > 0.0 and deepest < -1e-9:
            for b in range(bin_at.shape[0]):
                j = bin_at[b]
                db = gain[j] + bin_weight[b] * (gain[j + 1] - gain[j])
                if db < 0.0:
                    out[k, bin_first + b] = math.exp(mix * db * 0.1151292546497023)
    return mix


@nb.njit(cache=True, nogil=True)
def overlap_add(pieces, tail, out, hop):  # type: ignore[no-untyped-def]
    """Add windows (k, length, channels) one hop apart to tail (length - hop, channels); what is done goes to out."""
    length, channels = pieces.shape[1], pieces.shape[2]
    rest = length - hop
    for k in range(pieces.shape[0]):
        for n in range(hop):
            for c in range(channels):
                out[k * hop + n, c] = tail[n, c] + pieces[k, n, c]
        for n in range(rest):
            for c in range(channels):
                old = tail[n + hop, c] if n + hop < rest else 0.0
                tail[n, c] = old + pieces[k, n + hop, c]
