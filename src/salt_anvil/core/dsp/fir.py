"""Weighted sums of a line's values, many side by side: what filters without feedback come to.

A loop that numba compiles loads and stores each sum again for every few weights. Here 24 of each of
two rows are held in registers over all the weights, in vectors that LLVM fits to the machine.
"""

from collections.abc import Callable
from typing import Any

from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic
from numpy import int64
from numpy.typing import NDArray

from salt_anvil.core.audio import Sound
from salt_anvil.core.compiled import inlined
from salt_anvil.core.dsp.control_ramp import Vector

LANES, VECTORS, ROWS = 8, 3, 2
TOGETHER = LANES * VECTORS
Places = NDArray[int64]
_DOUBLE = ir.DoubleType()
SINGLE = ir.FloatType()


def sums(rows: int, vectors: int, lanes: int, real: ir.Type = _DOUBLE) -> Callable[..., None]:
    """Return a function that fills rows of vectors * lanes sums from an index on.

    It takes room, places, weights, low, high, to as `sum_into`, and the index. Rows of weights
    stand behind one another; each value is loaded once for all of them. real: of room and weights.
    """
    bits = 64 if real is _DOUBLE else 32

    @intrinsic
    def fill(
        typing: Any, room: Any, places: Any, weights: Any, low: Any, high: Any, to: Any, at: Any
    ) -> Any:
        def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            kind = ir.VectorType(real, lanes)
            arrays = [
                context.make_array(type_)(context, builder, value)
                for type_, value in zip(signature.args[:3], args[:3], strict=True)
            ]
            values, indices, factors = (array.data for array in arrays)
            ends = context.make_array(signature.args[5])(context, builder, args[5]).data
            apart = builder.extract_value(arrays[1].shape, 0)
            name = f"llvm.fmuladd.v{lanes}f{bits}"
            multiply_add = builder.module.globals.get(name) or ir.Function(
                builder.module, ir.FunctionType(kind, [kind] * 3), name
            )
            with builder.goto_entry_block():
                totals = [[builder.alloca(kind) for _ in range(vectors)] for _ in range(rows)]
            for total in (t for row in totals for t in row):
                builder.store(ir.Constant(kind, [0.0] * lanes), total)
            same = ir.Constant(ir.VectorType(ir.IntType(32), lanes), [0] * lanes)
            with cgutils.for_range(builder, args[4], args[3]) as loop:
                spread = []
                for r in range(rows):
                    index = builder.add(loop.index, builder.mul(apart, _index(r, 64)))
                    one = builder.load(builder.gep(factors, [index]))
                    first = builder.insert_element(ir.Constant(kind, ir.Undefined), one, _index(0))
                    spread.append(builder.shuffle_vector(first, first, same))
                place = builder.load(builder.gep(indices, [loop.index]))
                begin = builder.gep(values, [builder.add(args[6], place)])
                for i in range(vectors):
                    here = builder.gep(begin, [_index(i * lanes)])
                    given = builder.load(builder.bitcast(here, kind.as_pointer()), align=bits // 8)
                    for weight, row in zip(spread, totals, strict=True):
                        more = builder.call(multiply_add, [weight, given, builder.load(row[i])])
                        builder.store(more, row[i])
            for r, row in enumerate(totals):
                end = builder.load(builder.gep(ends, [_index(r, 64)]))
                begin = builder.gep(values, [builder.add(end, args[6])])
                for i, total in enumerate(row):
                    there = builder.gep(begin, [_index(i * lanes)])
                    there = builder.bitcast(there, kind.as_pointer())
                    builder.store(builder.load(total), there, align=bits // 8)
            return context.get_dummy_value()

        return types.void(room, places, weights, low, high, to, at), code

    return fill


def _index(value: int, bits: int = 32) -> Any:
    return ir.Constant(ir.IntType(bits), value)


_many, _one = sums(ROWS, VECTORS, LANES), sums(ROWS, 1, 1)
_many_alone, _one_alone = sums(1, ROWS * VECTORS, LANES), sums(1, 1, 1)


@inlined
def sum_into(
    room: Vector, to: Places, n: int, places: Places, weights: Sound, low: int, high: int
) -> None:
    """Fill room[to[r] + i], i < n, for both rows r of weights, (2, len(places)), with sums over
    low <= t < high, in this order, of weights[r, t] * room[places[t] + i].

    A sum is the same to the bit wherever it stands. What is filled does not lie at the places.
    Where both rows lead to the same place, the first is found alone.
    """
    if to[0] == to[1]:
        if n < ROWS * TOGETHER:
            for i in range(n):
                _one_alone(room, places, weights, low, high, to, i)
            return
        for at in range(0, n, ROWS * TOGETHER):
            at = min(at, n - ROWS * TOGETHER)
            _many_alone(room, places, weights, low, high, to, at)
        return
    if n < TOGETHER:
        for i in range(n):
            _one(room, places, weights, low, high, to, i)
        return
    for at in range(0, n, TOGETHER):
        _many(room, places, weights, low, high, to, min(at, n - TOGETHER))
