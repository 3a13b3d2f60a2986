"""The fast loops shared by the chain, the probe and the meters. Plain arrays, no checks."""

from __future__ import annotations

import numba as nb
import numpy as np

from mivlo.core.vectors import WIDE
from mivlo.core.wavefront import SHORTEST, run_wavefront

# The memory of a section is that of direct form 1 (two inputs, two outputs): it keeps its meaning while
# coefficients change. The inner loops run in transposed direct form 2, which needs fewer operations; its
# two registers are made from that memory at the start, and the memory is brought up to date at the end.


@nb.njit(cache=True, nogil=True, inline="always")
def _registers(coef, past):  # type: ignore[no-untyped-def]
    """The two registers of transposed direct form 2 for the past (x1, x2, y1, y2)."""
    first = coef[1] * past[0] + coef[2] * past[1] - coef[3] * past[2] - coef[4] * past[3]
    return first, coef[2] * past[0] - coef[4] * past[2]


@nb.njit(cache=True, nogil=True, fastmath={"contract", "nsz"})
def _section_stereo(x, coef, state):  # type: ignore[no-untyped-def]
    """One section in place over x (n, 2), n > 1."""
    b0, b1, b2, a1, a2 = coef[0], coef[1], coef[2], coef[3], coef[4]
    s1, s2 = _registers(coef, state[0])
    t1, t2 = _registers(coef, state[1])
    last = x.shape[0] - 1
    p1, p2, q1, q2 = x[last, 0], x[last - 1, 0], x[last, 1], x[last - 1, 1]
    for n in range(x.shape[0]):
        u, v = x[n, 0], x[n, 1]
        y = b0 * u + s1
        z = b0 * v + t1
        s1 = (b1 * u + s2) - a1 * y
        t1 = (b1 * v + t2) - a1 * z
        s2 = b2 * u - a2 * y
        t2 = b2 * v - a2 * z
        x[n, 0], x[n, 1] = y, z
    state[0, 0], state[0, 1], state[0, 2], state[0, 3] = p1, p2, x[last, 0], x[last - 1, 0]
    state[1, 0], state[1, 1], state[1, 2], state[1, 3] = q1, q2, x[last, 1], x[last - 1, 1]


@nb.njit(cache=True, nogil=True, fastmath={"contract", "nsz"})
def _section_mono(x, coef, state):  # type: ignore[no-untyped-def]
    """One section in place over x (n, 1), n > 1."""
    b0, b1, b2, a1, a2 = coef[0], coef[1], coef[2], coef[3], coef[4]
    s1, s2 = _registers(coef, state[0])
    last = x.shape[0] - 1
    p1, p2 = x[last, 0], x[last - 1, 0]
    for n in range(x.shape[0]):
        u = x[n, 0]
        y = b0 * u + s1
        s1 = (b1 * u + s2) - a1 * y
        s2 = b2 * u - a2 * y
        x[n, 0] = y
    state[0, 0], state[0, 1], state[0, 2], state[0, 3] = p1, p2, x[last, 0], x[last - 1, 0]


@nb.njit(cache=True, nogil=True, fastmath={"contract", "nsz"})
def _pair_stereo(x, c, d, state, next_state):  # type: ignore[no-untyped-def]
    """Two sections in place over x (n, 2), n > 1: while one waits for its own last sample, the other works."""
    b0, b1, b2, a1, a2 = c[0], c[1], c[2], c[3], c[4]
    d0, d1, d2, e1, e2 = d[0], d[1], d[2], d[3], d[4]
    s1, s2 = _registers(c, state[0])
    t1, t2 = _registers(c, state[1])
    p1, p2 = _registers(d, next_state[0])
    q1, q2 = _registers(d, next_state[1])
    last = x.shape[0] - 1
    in1, in2, jn1, jn2 = x[last, 0], x[last - 1, 0], x[last, 1], x[last - 1, 1]
    y = z = y_before = z_before = 0.0
    for n in range(x.shape[0]):
        u, v = x[n, 0], x[n, 1]
        y_before, z_before = y, z
        y = b0 * u + s1
        z = b0 * v + t1
        s1 = (b1 * u + s2) - a1 * y
        t1 = (b1 * v + t2) - a1 * z
        s2 = b2 * u - a2 * y
        t2 = b2 * v - a2 * z
        g = d0 * y + p1
        h = d0 * z + q1
        p1 = (d1 * y + p2) - e1 * g
        q1 = (d1 * z + q2) - e1 * h
        p2 = d2 * y - e2 * g
        q2 = d2 * z - e2 * h
        x[n, 0], x[n, 1] = g, h
    state[0, 0], state[0, 1], state[0, 2], state[0, 3] = in1, in2, y, y_before
    state[1, 0], state[1, 1], state[1, 2], state[1, 3] = jn1, jn2, z, z_before
    next_state[0, 0], next_state[0, 1], next_state[0, 2], next_state[0, 3] = y, y_before, x[last, 0], x[last - 1, 0]
    next_state[1, 0], next_state[1, 1], next_state[1, 2], next_state[1, 3] = z, z_before, x[last, 1], x[last - 1, 1]


@nb.njit(cache=True, nogil=True)
def _one_sample(x, coef, state):  # type: ignore[no-untyped-def]
    """One section over a single frame x (1, channels)."""
    for c in range(x.shape[1]):
        past = state[c]
        u = x[0, c]
        y = coef[0] * u + coef[1] * past[0] + coef[2] * past[1] - coef[3] * past[2] - coef[4] * past[3]
        past[1], past[0], past[3], past[2] = past[0], u, past[2], y
        x[0, c] = y


@nb.njit(cache=True, nogil=True)
def run_steady(x, coefs, states):  # type: ignore[no-untyped-def]
    """A cascade in place over x (n, channels): coefs (s, 5), states (s, channels, 4)."""
    s, count = 0, coefs.shape[0]
    if WIDE and x.shape[0] >= SHORTEST and count > 1:
        run_wavefront(x, coefs, states)
        return
    while s < count:
        if x.shape[0] == 1:
            _one_sample(x, coefs[s], states[s])
        elif x.shape[1] == 1:
            _section_mono(x, coefs[s], states[s])
        elif s + 1 < count:
            _pair_stereo(x, coefs[s], coefs[s + 1], states[s], states[s + 1])
            s += 1
        else:
            _section_stereo(x, coefs[s], states[s])
        s += 1


@nb.njit(cache=True, nogil=True)
def run_gliding(x, coefs, steps, states, mix_from, mix_to, done, per_sample):  # type: ignore[no-untyped-def]
    """One slot in place over x (n, channels): coefficients walk linearly, the treated share in an S.

    done is how far the S has come (0 to 1); its ends are smooth, so that no kink is heard.
    """
    k = coefs.copy()
    for n in range(x.shape[0]):
        t = min(1.0, done + per_sample * (n + 1))
        wet = mix_from + (mix_to - mix_from) * t * t * (3.0 - 2.0 * t)
        k += steps
        for c in range(x.shape[1]):
            dry = x[n, c]
            u = dry
            for s in range(k.shape[0]):
                b0, b1, b2, a1, a2 = k[s, 0], k[s, 1], k[s, 2], k[s, 3], k[s, 4]
                st = states[s, c]
                y = ((b0 * u + b1 * st[0] + b2 * st[1]) - a2 * st[3]) - a1 * st[2]
                st[1], st[0], st[3], st[2] = st[0], u, st[2], y
                u = y
            x[n, c] = dry + wet * (u - dry)


@nb.njit(cache=True, nogil=True)
def hold_level(y, dry, y_weighted, dry_weighted, margin, state, fall, average, release):  # type: ignore[no-untyped-def]
    """Turn y (n, ch) down in place so that it stays within `margin` times `dry` (n, ch).

    Both the peak (held, falling by `fall` a sample) and the running mean square of the weighted
    signals count. state: peak of dry, mean square of dry, mean square of y, gain.
    """
    peak, power_dry, power_y, gain = state[0], state[1], state[2], state[3]
    smallest = gain
    for n in range(y.shape[0]):
        here, out, pd, py = 0.0, 0.0, 0.0, 0.0
        for c in range(y.shape[1]):
            here = max(here, abs(dry[n, c]))
            out = max(out, abs(y[n, c]))
            pd += dry_weighted[n, c] ** 2
            py += y_weighted[n, c] ** 2
        peak = max(here, peak * fall)
        power_dry += average * (pd - power_dry)
        power_y += average * (py - power_y)
        goal = 1.0
        if out > margin * peak:
            goal = margin * peak / out
        if power_y > margin * margin * power_dry and power_y > 1e-14:
            goal = min(goal, margin * (power_dry / power_y) ** 0.5)
        gain = goal if goal < gain else gain + release * (goal - gain)
        smallest = min(smallest, gain)
        for c in range(y.shape[1]):
            y[n, c] *= gain
    state[0], state[1], state[2], state[3] = peak, power_dry, power_y, gain
    return smallest


@nb.njit(cache=True)
def limit_peaks(y, ceiling, gain, release):  # type: ignore[no-untyped-def]
    """Keep |y| (n, ch) at or below `ceiling`, in place. Returns the gain and the least gain used."""
    smallest = 1.0
    for n in range(y.shape[0]):
        top = 0.0
        for c in range(y.shape[1]):
            top = max(top, abs(y[n, c]))
        goal = ceiling / top if top > ceiling else 1.0
        gain = goal if goal < gain else gain + release * (goal - gain)
        if gain > 0.999999:
            gain = 1.0
        smallest = min(smallest, gain)
        for c in range(y.shape[1]):
            y[n, c] *= gain
    return gain, smallest


@nb.njit(cache=True, nogil=True, fastmath=True)
def oversampled_peak(x, taps, top):  # type: ignore[no-untyped-def]
    """The larger of `top` and the largest |sample| of x through the polyphase filter taps.

    x (ch, n) begins with the length - 1 samples before the new ones; taps (phases, length) are in
    reverse order. Stretches that can't exceed the peak so far (by the filter's absolute sum) are
    passed over, which is exact and saves nearly all of the work.
    """
    phases, length = taps.shape
    sums = np.empty(64)
    most = 0.0
    for p in range(phases):
        total = 0.0
        for k in range(length):
            total += abs(taps[p, k])
        most = max(most, total)
    for c in range(x.shape[0]):
        count = x.shape[1] - length + 1
        for start in range(0, count, 64):
            stop = min(count, start + 64)
            loudest = 0.0
            for n in range(start, stop + length - 1):
                loudest = max(loudest, abs(x[c, n]))
            if loudest * most <= top:
                continue
            width = stop - start
            for p in range(phases):
                for n in range(width):
                    sums[n] = 0.0
                for k in range(length):  # samples innermost: that is what the processor does side by side
                    tap = taps[p, k]
                    shifted = x[c, start + k : start + k + width]
                    for n in range(width):
                        sums[n] += tap * shifted[n]
                for n in range(width):
                    top = max(top, abs(sums[n]))
    return top


# What follows is done within microseconds for a block that is listened to. It keeps the interpreter's lock: to let
# it go and wait for it again would take far longer where many listen.


@nb.njit(cache=True)
def to_single(x, out):  # type: ignore[no-untyped-def]
    """Round x (n, ch) to single precision, in out of any float type."""
    for n in range(x.shape[0]):
        for c in range(x.shape[1]):
            out[n, c] = np.float32(x[n, c])


SHORT_FRAMES = 1_024
"""Blocks up to this length are short: what listens uses them, what writes files does not."""


@nb.njit(cache=True)
def run_steady_short(x, coefs, states):  # type: ignore[no-untyped-def]
    """`run_steady` for a short block."""
    run_steady(x, coefs, states)


@nb.njit(cache=True)
def add_to(out, x):  # type: ignore[no-untyped-def]
    """Add x (n, 2) to out (n, 2)."""
    for n in range(out.shape[0]):
        out[n, 0] += x[n, 0]
        out[n, 1] += x[n, 1]


@nb.njit(cache=True)
def scale_to(x, left, right, out):  # type: ignore[no-untyped-def]
    """x (n, 1 or 2), turned by one gain a side, in out (n, 2)."""
    last = x.shape[1] - 1
    for n in range(out.shape[0]):
        out[n, 0] = x[n, 0] * left
        out[n, 1] = x[n, last] * right


KNOWN_AT_ONCE = 16
"""Sounds that `add_known` takes: a fixed number, so that it is compiled once."""
NO_SOUND = np.zeros((0, 1), dtype=np.float32)
NO_SOUND.flags.writeable = False


@nb.njit(cache=True)
def add_known(out, sounds, start, gains, peaks):  # type: ignore[no-untyped-def]
    """Add sounds from frame `start` on to out (n, 2), each turned by its row of gains (k, 2).

    sounds: KNOWN_AT_ONCE arrays of single precision, (frames, 1 or 2) each, of which the first k are used; silent
    outside of themselves. Their largest samples behind the gains are put into peaks (k,).
    """
    for k in range(gains.shape[0]):
        sound = sounds[k]
        right = sound.shape[1] - 1
        g, h = gains[k, 0], gains[k, 1]
        peak = 0.0
        for n in range(max(0, -start), min(out.shape[0], sound.shape[0] - start)):
            u, v = sound[start + n, 0] * g, sound[start + n, right] * h
            out[n, 0] += u
            out[n, 1] += v
            peak = max(peak, abs(u), abs(v))
        peaks[k] = peak
