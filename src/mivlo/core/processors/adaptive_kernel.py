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
DOMINANT_OCT = 0.5
"""A partial is no partial where something so near outdoes it by FELLOWS_DB."""
PASSED_REACH = 0.8
"""What was passed by is compared so far away, in widths: places lie close there, partials did not."""
PASSED_SHARE = 0.8
"""Nothing is said of a place unless so much of what is around it was passed, too: standing partials leave gaps."""
PASSED_OFTEN = 6.0
"""A place was passed where partials of so many quarters of a window were seen at and beside it."""
PASSED_UNSURE_DB, PASSED_ROUGH = 0.7, 1.5
"""What stands out by less than the first is left alone; with it the more, the less smooth its surroundings are (by so
many times the mean distance of a place from the middle between those beside it). Notes of a chord are passed at levels
of their own; a voice that glides is passed under one envelope."""


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
def partials_of(level, octaves, out, there):  # type: ignore[no-untyped-def]
    """Levels of the partials of one short spectrum on the grid.

    level, octaves, out, there (points,): dB, octaves, dB and 1 where there is a partial; both 0 where there is none. A
    partial is a local maximum that nothing within DOMINANT_OCT outdoes by FELLOWS_DB: the others are side lobes, noise
    between partials, or what is left of the note before.
    """
    points = level.shape[0]
    for j in range(points):
        out[j] = there[j] = 0.0
    for j in range(1, points - 1):
        if not (level[j] >= level[j - 1] and level[j] > level[j + 1] and level[j] > SILENT_DB):
            continue
        belongs = True
        i = j - 1
        while i >= 0 and octaves[j] - octaves[i] <= DOMINANT_OCT:
            belongs = belongs and level[i] < level[j] + FELLOWS_DB
            i -= 1
        i = j + 1
        while i < points and octaves[i] - octaves[j] <= DOMINANT_OCT:
            belongs = belongs and level[i] < level[j] + FELLOWS_DB
            i += 1
        if belongs:
            # the height of a parabola through the three: a partial between two points is no lower
            d = 0.5 * (level[j - 1] - level[j + 1])
            bent = level[j - 1] - 2.0 * level[j] + level[j + 1]
            out[j] = level[j] - (0.5 * d * d / bent if bent < -1e-9 else 0.0)
            there[j] = 1.0


@nb.njit(cache=True, nogil=True)
def swell_of(bands, out):  # type: ignore[no-untyped-def]
    """How loud each of the last spectra is against the others, in dB: what most bands rise and fall by.

    bands (n, bands): level of broad bands, NaN where silent. out (n,): NaN where nothing sounds.
    """
    n, count = bands.shape
    mean, room = np.zeros(count), np.empty(count)
    for b in range(count):
        total, known = 0.0, 0
        for k in range(n):
            if not math.isnan(bands[k, b]):
                total += bands[k, b]
                known += 1
        mean[b] = total / max(known, 1)
    for k in range(n):
        known = 0
        for b in range(count):
            if math.isnan(bands[k, b]):
                continue
            value, i = bands[k, b] - mean[b], known
            while i > 0 and room[i - 1] > value:  # kept in order
                room[i] = room[i - 1]
                i -= 1
            room[i] = value
            known += 1
        out[k] = 0.5 * (room[(known - 1) // 2] + room[known // 2]) if known > 0 else np.nan


@nb.njit(cache=True, nogil=True)
def passed_over(seen, there, swell, octaves, width, line, out):  # type: ignore[no-untyped-def]
    """How far the places that partials passed stand over the smooth line through what was passed beside them: dB.

    seen, there (n, points): of `partials_of`, of the last spectra. swell (n,): of `swell_of`.
    octaves (points,). width : octaves. line (points,): used on the way. out (points,), 0 or above.
    """
    n, points = seen.shape
    count = np.zeros(points)
    for j in range(points):
        line[j] = 0.0
        out[j] = 0.0
    for k in range(n):
        if not math.isnan(swell[k]):
            for j in range(points):
                line[j] += seen[k, j] - swell[k] * there[k, j]
                count[j] += there[k, j]
    at, tops, where = np.empty(points), np.empty(points), np.empty(points, dtype=np.int64)
    raw = np.empty(points)
    known = 0
    for j in range(points):
        total, weight = 0.0, 0.0
        for i in range(max(0, j - 1), min(points, j + 2)):  # over three points, the middle one twice
            part = 2.0 if i == j else 1.0
            total += part * line[i]
            weight += part * count[i]
        if weight >= PASSED_OFTEN:
            at[known], tops[known], where[known] = octaves[j], total / weight, j
            raw[known] = line[j] / count[j] if count[j] > 0.0 else tops[known]
            known += 1
    apart, reach = APART * width, PASSED_REACH * width
    for i in range(1, known - 1):
        if not (tops[i] >= tops[i - 1] and tops[i] > tops[i + 1]):
            continue
        rough, judged, around = 0.0, 0, 0
        for j in range(1, known - 1):
            away = abs(at[j] - at[i])
            if away < reach:
                around += 1
                if away >= apart:
                    rough += abs(raw[j] - 0.5 * (raw[j - 1] + raw[j + 1]))
                    judged += 1
        if around < PASSED_SHARE * 2.0 * reach / (octaves[1] - octaves[0]) or judged == 0:
            continue
        best, bent = -1e9, 0.0
        left = i - 1
        while left >= 0 and at[i] - at[left] < reach:
            if at[i] - at[left] >= apart:
                right = i + 1
                while right < known and at[right] - at[i] < reach:
                    if at[right] - at[i] >= apart:
                        share = (at[i] - at[left]) / (at[right] - at[left])
                        here = tops[left] + (tops[right] - tops[left]) * share
                        if here > best:
                            best, bent = here, (at[i] - at[left]) * (at[right] - at[i])
                    right += 1
            left -= 1
        if best < -1e8:
            continue  # nothing was passed on one side
        over = tops[i] - best
        unsure = PASSED_UNSURE_DB + PASSED_ROUGH * rough / judged + BENT_DB * bent / (width * width)
        if over <= unsure:
            continue
        sure = min(1.0, (over - unsure) / unsure)
        floor = tops[i] - over * sure * sure * (3.0 - 2.0 * sure)
        for j in range(known):
            if abs(at[j] - at[i]) <= width:
                out[where[j]] = max(out[where[j]], tops[j] - floor)


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
    seen,
    there,
    bands,
    band_bins,
    at,
    out,
    rows,
):
    """Gains of all bins for windows that follow each other; the share of the treated sound behind them.

    spectra (k, channels, bins) of what is listened to; scale turns their power into that of a full-scale sine.
    averages (2, bins), gain (points,) in dB: what is remembered. shares (2,): of the new power. first, last, weight,
    grid, factors (points,): the grid. bin_first: the first bin that is reached, bin_at, bin_weight (reached,): where it
    lies between points. seen, there (n, points), bands (n, b): of the last n windows, the next one goes to row `at`.
    band_bins (b + 1,): where broad bands begin and end. out (k, bins). rows (k or 0, points): the gains of the grid.
    """
    fresh, swell = np.empty(spectra.shape[2]), np.empty(seen.shape[0])
    points = grid.shape[0]
    level, here, over, room = np.empty(points), np.empty(points), np.empty(points), np.empty((3, points))
    for k in range(spectra.shape[0]):
        for b in range(spectra.shape[2]):
            power = 0.0
            for c in range(spectra.shape[1]):
                z = spectra[k, c, b]
                power = max(power, z.real * z.real + z.imag * z.imag)
            fresh[b] = power * scale
        band_levels(fresh, first, last, weight, level)
        partials_of(level, grid, seen[at], there[at])
        for b in range(bands.shape[1]):
            total = 0.0
            for i in range(band_bins[b], band_bins[b + 1]):
                total += fresh[i]
            bands[at, b] = 10.0 * math.log10(total) if total > 1e-9 else np.nan
        at = (at + 1) % seen.shape[0]
        swell_of(bands, swell)
        passed_over(seen, there, swell, grid, width, room[0], over)
        for a in range(averages.shape[0]):
            for b in range(spectra.shape[2]):
                averages[a, b] += shares[a] * (fresh[b] - averages[a, b])
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
    return mix, at


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
