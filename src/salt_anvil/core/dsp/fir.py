"""Weighted sums of a line's values, many side by side: what filters without feedback come to.

A loop that numba compiles loads and stores each sum again for every few weights. Here 48 of them
are held in registers over all the weights, in vectors that LLVM fits to the machine.
"""

from collections.abc import Callable
from typing import Any

from llvmlite import ir
from numba import njit, types
from numba.core import cgutils
from numba.extending import intrinsic
from numpy import int64
from numpy.typing import NDArray

from salt_anvil.core.dsp.control_ramp import Vector

LANES, VECTORS = 4, 12
TOGETHER = LANES * VECTORS
Places = NDArray[int64]


def _sums(vectors: int, lanes: int) -> Callable[..., None]:
    """Return a function that fills vectors * lanes sums from an index on."""

    @intrinsic
    def fill(
        typing: Any, room: Any, places: Any, weights: Any, low: Any, high: Any, to: Any, at: Any
    ) -> Any:
        def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            kind = ir.VectorType(ir.DoubleType(), lanes)
            values, indices, factors = (
                context.make_array(type_)(context, builder, value).data
                for type_, value in zip(signature.args[:3], args[:3], strict=True)
            )
            name = f"llvm.fmuladd.v{lanes}f64"
            multiply_add = builder.module.globals.get(name) or ir.Function(
                builder.module, ir.FunctionType(kind, [kind] * 3), name
            )
            with builder.goto_entry_block():
                totals = [builder.alloca(kind) for _ in range(vectors)]
            for total in totals:
                builder.store(ir.Constant(kind, [0.0] * lanes), total)
            with cgutils.for_range(builder, args[4], args[3]) as loop:
                one = builder.load(builder.gep(factors, [loop.index]))
                first = builder.insert_element(ir.Constant(kind, ir.Undefined), one, _index(0))
                same = ir.Constant(ir.VectorType(ir.IntType(32), lanes), [0] * lanes)
                weight = builder.shuffle_vector(first, first, same)
                place = builder.load(builder.gep(indices, [loop.index]))
                begin = builder.gep(values, [builder.add(args[6], place)])
                for i, total in enumerate(totals):
                    here = builder.gep(begin, [_index(i * lanes)])
                    given = builder.load(builder.bitcast(here, kind.as_pointer()), align=8)
                    more = builder.call(multiply_add, [weight, given, builder.load(total)])
                    builder.store(more, total)
            begin = builder.gep(values, [builder.add(args[5], args[6])])
            for i, total in enumerate(totals):
                here = builder.bitcast(builder.gep(begin, [_index(i * lanes)]), kind.as_pointer())
                builder.store(builder.load(total), here, align=8)
            return context.get_dummy_value()

        return types.void(room, places, weights, low, high, to, at), code

    return fill


def _index(value: int) -> Any:
    return ir.Constant(ir.IntType(32), value)


_many, _one = _sums(VECTORS, LANES), _sums(1, 1)


@njit(cache=True, nogil=True, error_model="numpy")
def sum_into(
    room: Vector, to: int, n: int, places: Places, weights: Vector, low: int, high: int
) -> None:
    """Fill room[to + i], i < n, with sums over low <= t < high, in this order, of weights[t] *
    room[places[t] + i]; the places lie elsewhere.

    A sum is the same to the bit wherever it stands.
    """
    if n < TOGETHER:
        for i in range(n):
            _one(room, places, weights, low, high, to, i)
        return
    for at in range(0, n, TOGETHER):
        _many(room, places, weights, low, high, to, min(at, n - TOGETHER))
