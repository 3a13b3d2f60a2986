"""The two inner loops of dynamic moves, over the frames of one cell: four or eight lanes take a step together.

A lane is one channel of one move. What the lanes of a vector are and what they remember are columns of two tables, so
that a row is one vector. `listen_wide` and `filter_wide` are the vector loops, `listen_plain` and
`filter_plain` do the same lane by lane on processors without wide vectors.
"""

from __future__ import annotations

from typing import Any

import numba as nb
from numba.core import cgutils, types
from numba.extending import intrinsic

from mivlo.core.vectors import WIDEST_LANES, Emitter

LANES = WIDEST_LANES

# rows of what a lane is: two sections of its key's band (b0 b1 b2 -a1 -a2), how a level is read
C00, C01, C02, C03, C04, C10, C11, C12, C13, C14 = range(10)
SPLIT_1, SPLIT_2, SHARE, LEFT, TOTAL_FALL, TOTAL_RISE, PEAK_SHARE, IS_PEAK = range(10, 18)
VALUES = 18
# rows of what it remembers: registers of both sections, of the allpasses, powers; the filter's registers, its
# coefficients (as in `moving.in_steps`) now and their way per frame, gain in dB from 0 to |range|, cells still to wait,
# treated share
S1, S2, U1, U2, ALL_1, ALL_2, POWER, FALLING, RISING = range(9)
F1, F2, AT, WAY, GAIN, HELD, MIX, MIX_WAY = 9, 10, 11, 17, 23, 24, 25, 26
MEMORY = 27


def _listening(whole: bool) -> Any:
    @intrinsic
    def listen(typingctx, work, start, width, frames, values, memory, vector):  # type: ignore[no-untyped-def]
        """The lanes of a vector hear frames of work (flat, from `start` on in rows of `width`).

        values, memory : flat, of all vectors. `whole`: with a second section, peaks and the level over all frequencies;
        else the first section's mean alone.
        """

        def codegen(context, builder, signature, args):  # type: ignore[no-untyped-def]
            emit = Emitter(context, builder, signature, args, (0, 4, 5), LANES)
            first_value = builder.mul(args[6], emit.index(VALUES * LANES))
            first_memory = builder.mul(args[6], emit.index(MEMORY * LANES))

            def value(row):  # type: ignore[no-untyped-def]
                return builder.add(first_value, emit.index(row * LANES))

            def at(row):  # type: ignore[no-untyped-def]
                return builder.add(first_memory, emit.index(row * LANES))

            def band(u, c, first, second):  # type: ignore[no-untyped-def]
                y = emit.multiply_add(c[0], u, builder.load(first))
                wait = emit.multiply_add(c[1], u, builder.load(second))
                builder.store(emit.multiply_add(c[3], y, wait), first)
                builder.store(emit.multiply_add(c[4], y, builder.fmul(c[2], u)), second)
                return y

            def split(y, p, register):  # type: ignore[no-untyped-def]
                out = emit.multiply_add(p, y, builder.load(register))
                builder.store(emit.multiply_add(builder.fsub(zero, p), out, y), register)
                return out

            def follow(old, new, share):  # type: ignore[no-untyped-def]
                return emit.multiply_add(share, builder.fsub(new, old), old)

            zero = emit.constant(0.0)
            remembered = range(9) if whole else (S1, S2, ALL_1, ALL_2, POWER)
            v = [emit.load(4, value(row)) for row in range(VALUES)]
            m = {row: emit.variable(emit.load(5, at(row))) for row in remembered}
            with cgutils.for_range(builder, args[3]) as loop:
                u = emit.load(0, builder.add(builder.mul(loop.index, args[2]), args[1]))
                y = band(u, v[C00 : C04 + 1], m[S1], m[S2])
                if whole:
                    y = band(y, v[C10 : C14 + 1], m[U1], m[U2])
                first, second = split(y, v[SPLIT_1], m[ALL_1]), split(y, v[SPLIT_2], m[ALL_2])
                here = emit.multiply_add(first, first, builder.fmul(second, second))
                before = builder.load(m[POWER])
                power = follow(before, here, v[SHARE])
                if whole:
                    peak = emit.larger(builder.fmul(v[PEAK_SHARE], here), builder.fmul(before, v[LEFT]))
                    is_peak = builder.fcmp_ordered(">", v[IS_PEAK], emit.constant(0.5))
                    power = builder.select(is_peak, peak, power)
                    all_of_it = builder.fmul(u, u)
                    for row, share in ((FALLING, TOTAL_FALL), (RISING, TOTAL_RISE)):
                        builder.store(follow(builder.load(m[row]), all_of_it, v[share]), m[row])
                builder.store(power, m[POWER])
            for row, register in m.items():
                emit.store(builder.load(register), 5, at(row))
            return context.get_dummy_value()

        return types.void(work, start, width, frames, values, memory, vector), codegen

    return listen


listen_wide, listen_wide_whole = _listening(False), _listening(True)


def _filtering() -> Any:
    @intrinsic
    def filtering(typingctx, work, start, width, frames, memory, vector, shift):  # type: ignore[no-untyped-def]
        """The lanes of a vector filter their columns of work and leave them `shift` columns further on."""

        def codegen(context, builder, signature, args):  # type: ignore[no-untyped-def]
            emit = Emitter(context, builder, signature, args, (0, 4), LANES)
            first_memory = builder.mul(args[5], emit.index(MEMORY * LANES))

            def at(row):  # type: ignore[no-untyped-def]
                return builder.add(first_memory, emit.index(row * LANES))

            changing = (*range(AT, AT + 6), MIX)
            moving = [emit.variable(emit.load(4, at(row))) for row in changing]
            ways = [emit.load(4, at(row)) for row in (*range(WAY, WAY + 6), MIX_WAY)]
            first, second = emit.variable(emit.load(4, at(F1))), emit.variable(emit.load(4, at(F2)))
            zero, one = emit.constant(0.0), emit.constant(1.0)
            with cgutils.for_range(builder, args[3]) as loop:
                place = builder.add(builder.mul(loop.index, args[2]), args[1])
                now = [builder.fadd(builder.load(value), way) for value, way in zip(moving, ways, strict=True)]
                for slot, value in zip(moving, now, strict=True):
                    builder.store(value, slot)
                a1, a2, a3, m0, m1, m2, mix = now
                u, s1, s2 = emit.load(0, place), builder.load(first), builder.load(second)
                # each register hangs on the last ones by two operations: what does not need them comes first
                t1 = emit.multiply_add(builder.fsub(zero, a2), s2, builder.fmul(a2, u))
                t1 = emit.multiply_add(a1, s1, t1)
                t2 = emit.multiply_add(builder.fsub(one, a3), s2, builder.fmul(a3, u))
                t2 = emit.multiply_add(a2, s1, t2)
                builder.store(t1, first)
                builder.store(t2, second)
                band, low = builder.fadd(t1, s1), builder.fadd(t2, s2)
                change = emit.multiply_add(m2, low, emit.multiply_add(m1, band, builder.fmul(m0, u)))
                emit.store(emit.multiply_add(mix, change, u), 0, builder.add(place, args[6]))
            for row, slot in zip((*changing, F1, F2), (*moving, first, second), strict=True):
                emit.store(builder.load(slot), 4, at(row))
            return context.get_dummy_value()

        return types.void(work, start, width, frames, memory, vector, shift), codegen

    return filtering


filter_wide = _filtering()


@nb.njit(cache=True, nogil=True, error_model="numpy")
def listen_plain(work, start, width, frames, values, memory, vector):  # type: ignore[no-untyped-def]
    """As listen_wide_whole, of values and memory (vectors, rows, LANES)."""
    for k in range(LANES):
        v, m = values[vector, :, k], memory[vector, :, k]
        for i in range(frames):
            u = work[start + i * width + k]
            y = v[C00] * u + m[S1]
            m[S1] = v[C01] * u + m[S2] + v[C03] * y
            m[S2] = v[C02] * u + v[C04] * y
            z = v[C10] * y + m[U1]
            m[U1] = v[C11] * y + m[U2] + v[C13] * z
            m[U2] = v[C12] * y + v[C14] * z
            first = v[SPLIT_1] * z + m[ALL_1]
            m[ALL_1] = z - v[SPLIT_1] * first
            second = v[SPLIT_2] * z + m[ALL_2]
            m[ALL_2] = z - v[SPLIT_2] * second
            here = first * first + second * second
            if v[IS_PEAK] > 0.5:
                m[POWER] = max(v[PEAK_SHARE] * here, m[POWER] * v[LEFT])
            else:
                m[POWER] += v[SHARE] * (here - m[POWER])
            m[FALLING] += v[TOTAL_FALL] * (u * u - m[FALLING])
            m[RISING] += v[TOTAL_RISE] * (u * u - m[RISING])


@nb.njit(cache=True, nogil=True, error_model="numpy")
def filter_plain(work, start, width, frames, memory, vector, shift):  # type: ignore[no-untyped-def]
    """As filter_wide, of memory (vectors, rows, LANES)."""
    for k in range(LANES - 1, -1, -1):  # the last first: each leaves its output where the next one reads
        m = memory[vector, :, k]
        for i in range(frames):
            for j in range(6):
                m[AT + j] += m[WAY + j]
            m[MIX] += m[MIX_WAY]
            u, s1, s2 = work[start + i * width + k], m[F1], m[F2]
            t1 = m[AT] * s1 + (m[AT + 1] * u - m[AT + 1] * s2)
            t2 = m[AT + 1] * s1 + (m[AT + 2] * u + (1.0 - m[AT + 2]) * s2)
            m[F1], m[F2] = t1, t2
            work[start + i * width + k + shift] = u + m[MIX] * (
                m[AT + 3] * u + m[AT + 4] * (t1 + s1) + m[AT + 5] * (t2 + s2)
            )
