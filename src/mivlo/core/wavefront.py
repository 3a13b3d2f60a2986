"""Sections in series, all at work at once: the fast loop of steady cascades on processors with wide vectors.

In a cascade each sample of a section waits for the one before it, so a plain loop idles most of the time. Here section
k works on frame n - k while the first one works on frame n: with a vector of four numbers two sections of a stereo
sound, or four of a mono one, take a step together, and several such vectors follow each other. One shuffle hands the
outputs on. The first and last frames of a block, where not every section has one, run in scalar code, so that blocks
join without a seam.
"""

from __future__ import annotations

from typing import Any

import numba as nb
import numpy as np
from llvmlite import ir
from numba.core import cgutils, types
from numba.extending import intrinsic

from mivlo.core.vectors import LANES, Emitter

SHORTEST = 64
"""Frames from which on it pays."""


def _wave(vectors: int, channels: int) -> Any:
    """The steps of `vectors` vectors of sections over interleaved frames of so many channels."""
    sections = vectors * LANES // channels
    handed_on = [2, 3, 4, 5] if channels == 2 else [3, 4, 5, 6]

    @intrinsic
    def wave(typingctx, x, first, count, coef, state, last):  # type: ignore[no-untyped-def]
        """Steps first to first + count: reads frame n of x (flat), writes frame n - (sections - 1).

        coef (5 vectors 4,): b0, b1, b2, -a1, -a2. state (2 vectors 4,): the two registers. last (vectors 4,): outputs.
        """

        def codegen(context, builder, signature, args):  # type: ignore[no-untyped-def]
            emit = Emitter(context, builder, signature, args, (0, 3, 4, 5))
            some = ir.VectorType(ir.DoubleType(), channels)
            rows = [[emit.load(3, LANES * (j * vectors + v)) for v in range(vectors)] for j in range(5)]
            first_register = [emit.variable(emit.load(4, LANES * v)) for v in range(vectors)]
            second_register = [emit.variable(emit.load(4, LANES * (vectors + v))) for v in range(vectors)]
            outputs = [emit.variable(emit.load(5, LANES * v)) for v in range(vectors)]
            with cgutils.for_range(builder, args[2]) as loop:
                at = builder.mul(builder.add(args[1], loop.index), emit.index(channels))
                before = [builder.load(slot) for slot in outputs]
                spread = [0, 1, 0, 1] if channels == 2 else [0, 0, 0, 0]
                left = emit.shuffle(emit.load(0, at, some), ir.Constant(some, ir.Undefined), spread)
                y = left
                for v in range(vectors):
                    u = emit.shuffle(left, before[v], handed_on)
                    y = emit.multiply_add(rows[0][v], u, builder.load(first_register[v]))
                    wait = emit.multiply_add(rows[1][v], u, builder.load(second_register[v]))
                    builder.store(emit.multiply_add(rows[3][v], y, wait), first_register[v])
                    rest = builder.fmul(rows[2][v], u)
                    builder.store(emit.multiply_add(rows[4][v], y, rest), second_register[v])
                    builder.store(y, outputs[v])
                    left = before[v]
                done = emit.shuffle(y, y, [2, 3] if channels == 2 else [3])
                emit.store(done, 0, builder.sub(at, emit.index(channels * (sections - 1))))
            for v in range(vectors):
                emit.store(builder.load(first_register[v]), 4, LANES * v)
                emit.store(builder.load(second_register[v]), 4, LANES * (vectors + v))
                emit.store(builder.load(outputs[v]), 5, LANES * v)
            return context.get_dummy_value()

        return types.void(x, first, count, coef, state, last), codegen

    return wave


_stereo_8, _stereo_4, _stereo_2 = _wave(4, 2), _wave(2, 2), _wave(1, 2)
_mono_8, _mono_4 = _wave(2, 1), _wave(1, 1)


@nb.njit(cache=True, nogil=True, inline="always")
def _one(u, c, s):  # type: ignore[no-untyped-def]
    """One section over one sample; s: its two registers."""
    y = c[0] * u + s[0]
    s[0] = c[1] * u + s[1] - c[3] * y
    s[1] = c[2] * u - c[4] * y
    return y


@nb.njit(cache=True, nogil=True)
def _together(x, coefs, registers):  # type: ignore[no-untyped-def]
    """coefs (s, 5) over x (n, ch) in place, s one of 2 (stereo), 4, 8; registers (s, ch, 2) last."""
    count, channels = x.shape
    sections = coefs.shape[0]
    vectors = sections * channels // 4
    coef, state, last = np.empty((5, vectors * 4)), np.empty((2, vectors * 4)), np.empty(vectors * 4)
    for i in range(sections - 1):  # frame i passes the first sections
        for c in range(channels):
            u = x[i, c]
            for k in range(sections - 1 - i):
                u = _one(u, coefs[k], registers[k, c])
            x[i, c] = u
    for k in range(sections):
        for c in range(channels):
            lane = k * channels + c
            for j in range(5):
                coef[j, lane] = coefs[k, j] if j < 3 else -coefs[k, j]
            state[0, lane], state[1, lane] = registers[k, c, 0], registers[k, c, 1]
            last[lane] = x[sections - 2 - k, c] if k < sections - 1 else 0.0
    flat, rows, memory = x.reshape(-1), coef.reshape(-1), state.reshape(-1)
    first, steps = sections - 1, count - (sections - 1)
    if channels == 2:
        if sections == 8:
            _stereo_8(flat, first, steps, rows, memory, last)
        elif sections == 4:
            _stereo_4(flat, first, steps, rows, memory, last)
        else:
            _stereo_2(flat, first, steps, rows, memory, last)
    elif sections == 8:
        _mono_8(flat, first, steps, rows, memory, last)
    else:
        _mono_4(flat, first, steps, rows, memory, last)
    for k in range(sections):
        for c in range(channels):
            lane = k * channels + c
            registers[k, c, 0], registers[k, c, 1] = state[0, lane], state[1, lane]
    for j in range(sections - 1, 0, -1):  # frame count - j has passed the first j sections
        for c in range(channels):
            u = last[(j - 1) * channels + c]
            for k in range(j, sections):
                u = _one(u, coefs[k], registers[k, c])
            x[count - j, c] = u


@nb.njit(cache=True, nogil=True)
def run_wavefront(x, coefs, states):  # type: ignore[no-untyped-def]
    """A cascade in place over x (n, ch), n >= SHORTEST: coefs (s, 5), states (s, ch, 4) as of direct form 1."""
    count, channels = x.shape
    total = coefs.shape[0]
    some, registers = np.zeros((8, 5)), np.zeros((8, 2, 2))
    done = 0
    while done < total:
        left = total - done
        size = 8 if left > 4 else (4 if left > 2 or channels == 1 else 2)
        for k in range(size):
            for j in range(5):
                some[k, j] = coefs[done + k, j] if k < left else (1.0 if j == 0 else 0.0)
            for c in range(channels):
                registers[k, c, 0] = registers[k, c, 1] = 0.0
                if k < left:
                    p, b = states[done + k, c], coefs[done + k]
                    registers[k, c, 0] = b[1] * p[0] + b[2] * p[1] - b[3] * p[2] - b[4] * p[3]
                    registers[k, c, 1] = b[2] * p[0] - b[4] * p[2]
        _together(x[: count - 2], some[:size], registers[:size, :channels])
        for m in range(count - 2, count):  # the last two frames leave the memory of direct form 1 behind
            for c in range(channels):
                u = x[m, c]
                for k in range(min(size, left)):
                    y = _one(u, some[k], registers[k, c])
                    p = states[done + k, c]
                    p[1], p[0], p[3], p[2] = p[0], u, p[2], y
                    u = y
                x[m, c] = u
        done += size
