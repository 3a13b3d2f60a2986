"""Loops written in LLVM's vector types.

numba keeps no vector in a register by itself; where the speed of the ear depends on it, a loop is an `intrinsic` that
emits vector instructions. What such loops share stands here.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import llvmlite.binding
from llvmlite import ir
from numba.core import cgutils


def _has(*features: str) -> bool:
    try:
        known = llvmlite.binding.get_host_cpu_features()
    except RuntimeError:
        return False
    return all(known.get(feature) for feature in features)


LANES = 4
"""Numbers that one vector holds."""
WIDE = _has("avx2", "fma")
"""Whether this processor steps four numbers at once; else the scalar loops serve."""
WIDEST_LANES = 8 if WIDE and _has("avx512f") else LANES
"""Numbers that its widest vectors hold."""


class Emitter:
    """Emits vector instructions on the flat arrays among an intrinsic's arguments.

    Parameters
    ----------
    context, builder, signature, args : as numba hands them to a code generator.
    arrays : which of the arguments are arrays of float64, contiguous.
    lanes : numbers in a vector.
    """

    def __init__(
        self, context: Any, builder: Any, signature: Any, args: Any, arrays: Sequence[int], lanes: int = LANES
    ) -> None:
        self.builder = builder
        self.lanes = ir.VectorType(ir.DoubleType(), lanes)
        self._data = {k: context.make_array(signature.args[k])(context, builder, args[k]).data for k in arrays}
        self._multiply_add = cgutils.get_or_insert_function(
            builder.module, ir.FunctionType(self.lanes, [self.lanes] * 3), f"llvm.fmuladd.v{lanes}f64"
        )

    def index(self, value: int) -> Any:
        return ir.Constant(ir.IntType(64), value)

    def _place(self, array: int, index: Any, vector: Any) -> Any:
        index = self.index(index) if isinstance(index, int) else index
        return self.builder.bitcast(self.builder.gep(self._data[array], [index]), vector.as_pointer())

    def load(self, array: int, index: Any, vector: Any = None) -> Any:
        """The numbers from an index on."""
        value = self.builder.load(self._place(array, index, vector or self.lanes))
        value.align = 8
        return value

    def store(self, value: Any, array: int, index: Any) -> None:
        self.builder.store(value, self._place(array, index, value.type)).align = 8

    def variable(self, value: Any) -> Any:
        """A vector that changes in a loop; LLVM keeps it in a register."""
        slot = cgutils.alloca_once(self.builder, self.lanes)
        self.builder.store(value, slot)
        return slot

    def shuffle(self, a: Any, b: Any, lanes: Sequence[int]) -> Any:
        return self.builder.shuffle_vector(a, b, ir.Constant(ir.VectorType(ir.IntType(32), len(lanes)), list(lanes)))

    def constant(self, value: float) -> Any:
        return ir.Constant(self.lanes, [ir.Constant(ir.DoubleType(), value)] * self.lanes.count)

    def multiply_add(self, a: Any, b: Any, c: Any) -> Any:
        """a b + c."""
        return self.builder.call(self._multiply_add, [a, b, c])

    def larger(self, a: Any, b: Any) -> Any:
        return self.builder.select(self.builder.fcmp_ordered(">", a, b), a, b)
