"""Weighted sums along a line, many side by side: what every filter without feedback comes to.

A loop that numba compiles loads and stores each sum again for every few weights. Here 48 of them
are held in registers over all the weights, in vectors that LLVM fits to the machine.
"""

from collections.abc import Callable
from typing import Any

from llvmlite import ir
from numba import njit, types
from numba.core import cgutils
from numba.extending import intrinsic

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp.control_ramp import Vector

LANES, VECTORS = 8, 6
TOGETHER = LANES * VECTORS


def _sums(vectors: int, lanes: int) -> Callable[..., None]:
    """Return a function that fills vectors * lanes sums of a line from an index on."""

    @intrinsic
    def fill(typing: Any, out: Any, line: Any, weights: Any, at: Any) -> Any:
        def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            kind = ir.VectorType(ir.DoubleType(), lanes)
            arrays = [
                context.make_array(type_)(context, builder, value)
                for type_, value in zip(signature.args[:3], args[:3], strict=True)
            ]
            sums, values, factors = (array.data for array in arrays)
            taps = builder.extract_value(arrays[2].shape, 0)
            name = f"llvm.fmuladd.v{lanes}f64"
            multiply_add = builder.module.globals.get(name) or ir.Function(
                builder.module, ir.FunctionType(kind, [kind] * 3), name
            )
            with builder.goto_entry_block():
                totals = [builder.alloca(kind) for _ in range(vectors)]
            for total in totals:
                builder.store(ir.Constant(kind, [0.0] * lanes), total)
            with cgutils.for_range(builder, taps) as loop:
                one = builder.load(builder.gep(factors, [loop.index]))
                first = builder.insert_element(ir.Constant(kind, ir.Undefined), one, _index(0))
                same = ir.Constant(ir.VectorType(ir.IntType(32), lanes), [0] * lanes)
                weight = builder.shuffle_vector(first, first, same)
                begin = builder.gep(values, [builder.add(args[3], loop.index)])
                for i, total in enumerate(totals):
                    place = builder.gep(begin, [_index(i * lanes)])
                    given = builder.load(builder.bitcast(place, kind.as_pointer()), align=8)
                    more = builder.call(multiply_add, [weight, given, builder.load(total)])
                    builder.store(more, total)
            begin = builder.gep(sums, [args[3]])
            for i, total in enumerate(totals):
                place = builder.bitcast(builder.gep(begin, [_index(i * lanes)]), kind.as_pointer())
                builder.store(builder.load(total), place, align=8)
            return context.get_dummy_value()

        return types.void(out, line, weights, at), code

    return fill


def _index(value: int) -> Any:
    return ir.Constant(ir.IntType(32), value)


_many, _one = _sums(VECTORS, LANES), _sums(1, 1)


@njit(cache=True, nogil=True, error_model="numpy")
def sum_into(out: Sound, line: Vector, weights: Vector) -> None:
    """Fill out (n,) with the weighted sums of line (n + taps - 1,), in the order of the weights.

    A sum is the same to the bit wherever it stands. Where the line is silent, so is what comes out.
    """
    n, ahead = len(out), len(weights) - 1
    heard = _last_heard(line[:ahead], -1, 0)
    for at in range(0, n, TOGETHER):
        end = min(at + TOGETHER, n)
        heard = _last_heard(line[at + ahead : end + ahead], heard, at + ahead)
        if heard < at:
            out[at:end] = 0.0
        elif n >= TOGETHER:
            _many(out, line, weights, end - TOGETHER)
        else:
            for i in range(at, end):
                _one(out, line, weights, i)


@njit(cache=True, nogil=True, error_model="numpy")
def _last_heard(values: Vector, before: int, first: int) -> int:
    """Return where the last of some values stands if any is heard; else, where one did before."""
    heard = False
    for i in range(len(values)):
        heard |= values[i] != 0.0
    return first + len(values) - 1 if heard else before
