"""Weighted sums of a line's values, many side by side: what filters without feedback come to.

A loop that numba compiles loads and stores each sum again for every few weights. Here 48 of each of
two rows are held in registers over all the weights, in vectors that LLVM fits to the machine.
"""

from collections.abc import Callable
from itertools import pairwise
from typing import Any

from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic
from numpy import int64
from numpy.typing import NDArray

from salt_anvil.core.compiled import inlined
from salt_anvil.core.dsp.maxima import Line, greater, magnitude, variable

LANES, VECTORS, ROWS = 16, 3, 2
TOGETHER, TOGETHER_ALONE = VECTORS * LANES, 4 * LANES
Places = NDArray[int64]
_DOUBLE = ir.DoubleType()
_SINGLE = ir.FloatType()


def sums(rows: int, vectors: int, lanes: int) -> Callable[..., None]:
    """Return a function that fills rows of vectors * lanes sums in float32 from an index on.

    It takes room, places, weights, low, high, to as `sum_into`, and the index. Rows of weights
    stand behind one another; each value is loaded once for all of them.
    """

    @intrinsic
    def fill(
        typing: Any, room: Any, places: Any, weights: Any, low: Any, high: Any, to: Any, at: Any
    ) -> Any:
        def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            kind = ir.VectorType(_SINGLE, lanes)
            arrays = [
                context.make_array(type_)(context, builder, value)
                for type_, value in zip(signature.args[:3], args[:3], strict=True)
            ]
            values, indices, factors = (array.data for array in arrays)
            ends = context.make_array(signature.args[5])(context, builder, args[5]).data
            apart = builder.extract_value(arrays[1].shape, 0)
            multiply_add = _multiply_add(builder, kind)
            nothing = ir.Constant(kind, [0.0] * lanes)
            totals = [[variable(builder, nothing) for _ in range(vectors)] for _ in range(rows)]
            with cgutils.for_range(builder, args[4], args[3]) as loop:
                spread = []
                for r in range(rows):
                    index = builder.add(loop.index, builder.mul(apart, _index(r, 64)))
                    spread.append(_spread(builder, kind, builder.gep(factors, [index])))
                place = builder.load(builder.gep(indices, [loop.index]))
                begin = builder.gep(values, [builder.add(args[6], place)])
                for i in range(vectors):
                    here = builder.gep(begin, [_index(i * lanes)])
                    given = _vector_at(builder, kind, here)
                    for weight, row in zip(spread, totals, strict=True):
                        more = builder.call(multiply_add, [weight, given, builder.load(row[i])])
                        builder.store(more, row[i])
            for r, row in enumerate(totals):
                end = builder.load(builder.gep(ends, [_index(r, 64)]))
                begin = builder.gep(values, [builder.add(end, args[6])])
                for i, total in enumerate(row):
                    there = builder.gep(begin, [_index(i * lanes)])
                    there = builder.bitcast(there, kind.as_pointer())
                    builder.store(builder.load(total), there, align=4)
            return context.get_dummy_value()

        return types.void(room, places, weights, low, high, to, at), code

    return fill


def run(vectors: int, lanes: int, *, single: bool = False) -> Callable[..., None]:
    """Return a function that fills vectors * lanes sums of values that follow one another:
    out[to + i] with the sum over t of weights[t] * room[at + i + t]; in float32 if single.

    It takes room, weights, out, to, at; (vectors - 1) * lanes weights at least. Each value is
    loaded once for all the sums that it is part of, which takes half the time of `sums`; the order
    of a sum is the same.
    """

    @intrinsic
    def fill(typing: Any, room: Any, weights: Any, out: Any, to: Any, at: Any) -> Any:
        def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            kind = ir.VectorType(_SINGLE if single else _DOUBLE, lanes)
            arrays = [
                context.make_array(type_)(context, builder, value)
                for type_, value in zip(signature.args[:3], args[:3], strict=True)
            ]
            values, factors, ends = (array.data for array in arrays)
            count = builder.extract_value(arrays[1].shape, 0)
            multiply_add = _multiply_add(builder, kind)
            nothing = ir.Constant(kind, [0.0] * lanes)
            totals = [variable(builder, nothing) for _ in range(vectors)]
            # At the ends of the run a value is part of some of the vectors only.
            begins = [_index(m * lanes, 64) for m in range(vectors)]
            borders = [*begins, *(builder.add(count, begin) for begin in begins)]
            for turn, (low, high) in enumerate(pairwise(borders)):
                part = range(max(turn - vectors + 1, 0), min(turn + 1, vectors))
                with cgutils.for_range(builder, high, low) as loop:
                    here = builder.gep(values, [builder.add(args[4], loop.index)])
                    given = _vector_at(builder, kind, here)
                    for m in part:
                        index = builder.sub(loop.index, _index(m * lanes, 64))
                        weight = _spread(builder, kind, builder.gep(factors, [index]))
                        more = builder.call(multiply_add, [weight, given, builder.load(totals[m])])
                        builder.store(more, totals[m])
            for m, total in enumerate(totals):
                there = builder.gep(ends, [builder.add(args[3], _index(m * lanes, 64))])
                there = builder.bitcast(there, kind.as_pointer())
                builder.store(builder.load(total), there, align=4 if single else 8)
            return context.get_dummy_value()

        return types.void(room, weights, out, to, at), code

    return fill


def tops(rows: int, count: int, lanes: int) -> Callable[..., None]:
    """Return a function that raises float32 values to the greatest magnitude of several sums:
    most[to + i], i < lanes, to those over t < count of weights[r * count + t] *
    line[at + i + places[t]].

    It takes most, to, line, places, at, weights. No sum is stored.
    """

    @intrinsic
    def fill(typing: Any, most: Any, to: Any, line: Any, places: Any, at: Any, weights: Any) -> Any:
        def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            kind = ir.VectorType(_SINGLE, lanes)
            ends, values, indices, factors = (
                context.make_array(signature.args[i])(context, builder, args[i]).data
                for i in (0, 2, 3, 5)
            )
            multiply_add = _multiply_add(builder, kind)
            nothing = ir.Constant(kind, [0.0] * lanes)
            totals = [variable(builder, nothing) for _ in range(rows)]
            with cgutils.for_range(builder, _index(count, 64)) as loop:
                place = builder.load(builder.gep(indices, [loop.index]))
                where = builder.gep(values, [builder.add(args[4], place)])
                given = _vector_at(builder, kind, where)
                for r, total in enumerate(totals):
                    index = builder.add(loop.index, _index(r * count, 64))
                    weight = _spread(builder, kind, builder.gep(factors, [index]))
                    more = builder.call(multiply_add, [weight, given, builder.load(total)])
                    builder.store(more, total)
            there = builder.bitcast(builder.gep(ends, [args[1]]), kind.as_pointer())
            found = builder.load(there, align=4)
            for total in totals:
                found = greater(builder, magnitude(builder, builder.load(total)), found)
            builder.store(found, there, align=4)
            return context.get_dummy_value()

        return types.void(most, to, line, places, at, weights), code

    return fill


def _multiply_add(builder: Any, kind: ir.VectorType) -> Any:
    name = f"llvm.fmuladd.v{kind.count}f{64 if kind.element is _DOUBLE else 32}"
    return builder.module.globals.get(name) or ir.Function(
        builder.module, ir.FunctionType(kind, [kind] * 3), name
    )


def _spread(builder: Any, kind: ir.VectorType, where: Any) -> Any:
    """Return a vector of the number that stands somewhere."""
    first = builder.insert_element(ir.Constant(kind, ir.Undefined), builder.load(where), _index(0))
    same = ir.Constant(ir.VectorType(ir.IntType(32), kind.count), [0] * kind.count)
    return builder.shuffle_vector(first, first, same)


def _vector_at(builder: Any, kind: ir.VectorType, where: Any) -> Any:
    """Return the numbers from somewhere on."""
    size = 8 if kind.element is _DOUBLE else 4
    return builder.load(builder.bitcast(where, kind.as_pointer()), align=size)


def _index(value: int, bits: int = 32) -> Any:
    return ir.Constant(ir.IntType(bits), value)


_many, _one = sums(ROWS, VECTORS, LANES), sums(ROWS, 1, 1)
_many_alone, _one_alone = sums(1, TOGETHER_ALONE // LANES, LANES), sums(1, 1, 1)


@inlined
def sum_into(
    room: Line, to: Places, n: int, places: Places, weights: Line, low: int, high: int
) -> None:
    """Fill room[to[r] + i], i < n, for both rows r of weights, (2, len(places)), with sums over
    low <= t < high, in this order, of weights[r, t] * room[places[t] + i].

    A sum is the same to the bit wherever it stands. What is filled does not lie at the places.
    Where both rows lead to the same place, the first is found alone.
    """
    if to[0] == to[1]:
        if n < TOGETHER_ALONE:
            for i in range(n):
                _one_alone(room, places, weights, low, high, to, i)
            return
        for at in range(0, n, TOGETHER_ALONE):
            _many_alone(room, places, weights, low, high, to, min(at, n - TOGETHER_ALONE))
        return
    if n < TOGETHER:
        for i in range(n):
            _one(room, places, weights, low, high, to, i)
        return
    for at in range(0, n, TOGETHER):
        _many(room, places, weights, low, high, to, min(at, n - TOGETHER))
