"""The greatest of values that follow one another, many compared at once.

A loop that looks for a maximum compares one value after another, because each waits for the one
before; a compiler does not take it apart. Here vectors of many are compared, and folded at the end.
"""

from collections.abc import Callable
from typing import Any, Literal

import numpy as np
from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic
from numpy import float32
from numpy.typing import NDArray

from salt_anvil.core.audio import Values
from salt_anvil.core.compiled import inlined

Of = Literal["value", "negated", "magnitude"]
LANES_32, LANES_64 = 16, 8
Line = NDArray[float32]
_INDEX = ir.IntType(64)


def maxima(lanes: int, kept: int, *of: Of) -> Callable[..., Any]:
    """Return a function of a line and how many of its values are meant, at least `lanes`.

    The line is of float32 or float64. It gives for everything in `of` the greatest; with kept = 2
    that of the values at even and that at odd places, of an even number of them. What is not a
    number is passed over.
    """

    @intrinsic
    def find(typing: Any, line: Any, count: Any) -> Any:
        bits = line.dtype.bitwidth
        kind = ir.VectorType(ir.FloatType() if bits == 32 else ir.DoubleType(), lanes)

        def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            values = context.make_array(signature.args[0])(context, builder, args[0]).data
            least = ir.Constant(kind, [float("-inf")] * lanes)
            # Two of each: a comparison waits for the one before.
            found = [[variable(builder, least) for _ in of] for _ in range(2)]
            last = builder.sub(args[1], ir.Constant(_INDEX, lanes))
            pairs = builder.udiv(
                builder.add(args[1], ir.Constant(_INDEX, 2 * lanes - 1)),
                ir.Constant(_INDEX, 2 * lanes),
            )
            with cgutils.for_range(builder, pairs, intp=_INDEX) as loop:
                for turn, mine in enumerate(found):
                    at = builder.add(builder.mul(loop.index, ir.Constant(_INDEX, 2 * lanes)),
                                     ir.Constant(_INDEX, turn * lanes))  # fmt: skip
                    # At the end some are compared twice, which changes nothing.
                    at = builder.select(builder.icmp_unsigned("<", at, last), at, last)
                    here = builder.bitcast(builder.gep(values, [at]), kind.as_pointer())
                    given = builder.load(here, align=bits // 8)
                    for which, most in zip(of, mine, strict=True):
                        now = _turned(builder, given, which)
                        builder.store(greater(builder, now, builder.load(most)), most)
            result = []
            for one_, other in zip(*found, strict=True):
                whole = greater(builder, builder.load(one_), builder.load(other))
                left = lanes
                while left > kept:
                    left //= 2
                    halves = [_part(builder, whole, at, left) for at in (0, left)]
                    whole = greater(builder, *halves)
                result += [
                    builder.extract_element(whole, ir.Constant(ir.IntType(32), i))
                    for i in range(kept)
                ]
            if len(result) == 1:
                return result[0]
            return context.make_tuple(builder, signature.return_type, result)

        single = kept * len(of) == 1
        several: Any = types.UniTuple
        given = line.dtype if single else several(line.dtype, kept * len(of))
        return given(line, types.int64), code

    return find


def variable(builder: Any, value: Any) -> Any:
    """Write a variable of the function, and what it is at first."""
    with builder.goto_entry_block():
        found = builder.alloca(value.type)
    builder.store(value, found)
    return found


def _turned(builder: Any, vector: Any, of: Of) -> Any:
    if of == "value":
        return vector
    return builder.fneg(vector) if of == "negated" else magnitude(builder, vector)


def magnitude(builder: Any, vector: Any) -> Any:
    """Write the magnitudes of a vector's numbers."""
    bits = 32 if isinstance(vector.type.element, ir.FloatType) else 64
    name = f"llvm.fabs.v{vector.type.count}f{bits}"
    found = builder.module.globals.get(name) or ir.Function(
        builder.module, ir.FunctionType(vector.type, [vector.type]), name
    )
    return builder.call(found, [vector])


def greater(builder: Any, one: Any, other: Any) -> Any:
    """Write the greater of two vectors' numbers each; of one that is none, the other."""
    return builder.select(builder.fcmp_ordered(">", one, other), one, other)


def _part(builder: Any, vector: Any, first: int, count: int) -> Any:
    mask = ir.Constant(ir.VectorType(ir.IntType(32), count), [*range(first, first + count)])
    return builder.shuffle_vector(vector, vector, mask)


def _greater_of_two() -> Callable[..., None]:
    """Return a function that fills a line with the greater of two lines' magnitudes each.

    It takes the three and how many of their values are meant, at least LANES_32.
    """

    @intrinsic
    def fill(typing: Any, out: Any, one: Any, other: Any, count: Any) -> Any:
        def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            kind = ir.VectorType(ir.FloatType(), LANES_32)
            lines = [
                context.make_array(signature.args[i])(context, builder, args[i]).data
                for i in range(3)
            ]
            last = builder.sub(args[3], ir.Constant(_INDEX, LANES_32))
            vectors = builder.udiv(
                builder.add(args[3], ir.Constant(_INDEX, LANES_32 - 1)),
                ir.Constant(_INDEX, LANES_32),
            )
            with cgutils.for_range(builder, vectors, intp=_INDEX) as loop:
                at = builder.mul(loop.index, ir.Constant(_INDEX, LANES_32))
                # At the end some are compared twice, which changes nothing.
                at = builder.select(builder.icmp_unsigned("<", at, last), at, last)
                to, *given = (
                    builder.bitcast(builder.gep(b, [at]), kind.as_pointer()) for b in lines
                )
                sizes = [magnitude(builder, builder.load(g, align=4)) for g in given]
                builder.store(greater(builder, *sizes), to, align=4)
            return context.get_dummy_value()

        return types.void(out, one, other, types.int64), code

    return fill


_greater_of = _greater_of_two()
_magnitude = maxima(LANES_32, 1, "magnitude")
_values_by_two = maxima(LANES_64, 2, "value")
_extremes_by_two = maxima(LANES_64, 2, "value", "negated")


@inlined
def greatest(line: Line | Values) -> float:
    """Return the greatest magnitude of a line of float32 or float64; 0 of none."""
    if len(line) >= LANES_32:
        return float(_magnitude(line, len(line)))
    most = 0.0
    for i in range(len(line)):
        most = max(most, abs(float(line[i])))
    return most


@inlined
def greater_into(out: Line, one: Line, other: Line) -> None:
    """Fill out with the greater magnitude of two lines each; they are as long or longer.

    out may be one of them, and lies apart from what it is not.
    """
    if len(out) >= LANES_32:
        _greater_of(out, one, other, len(out))
        return
    for i in range(len(out)):
        here, there = abs(one[i]), abs(other[i])
        out[i] = here if here > there else there


@inlined
def highest(values: Values, channels: int) -> tuple[float, float]:
    """Return the greatest value of the first and of the last channel, of frames in one line."""
    even = odd = -np.inf
    if len(values) >= LANES_64 and len(values) % 2 == 0:
        even, odd = _values_by_two(values, len(values))
    else:
        for i in range(0, len(values), 2):
            even = max(even, values[i])
        for i in range(1, len(values), 2):
            odd = max(odd, values[i])
    if channels == 2:
        return even, odd
    return max(even, odd), max(even, odd)


@inlined
def extremes_of(values: Values, channels: int) -> tuple[float, float, float, float]:
    """Return highest and lowest value of the first channel, and of the last, as `highest`."""
    high = low = other_high = other_low = -np.inf
    if len(values) >= LANES_64 and len(values) % 2 == 0:
        high, other_high, low, other_low = _extremes_by_two(values, len(values))
    else:
        for i in range(0, len(values), 2):
            high, low = max(high, values[i]), max(low, -values[i])
        for i in range(1, len(values), 2):
            other_high, other_low = max(other_high, values[i]), max(other_low, -values[i])
    if channels == 2:
        return high, 0.0 - low, other_high, 0.0 - other_low
    high, low = max(high, other_high), 0.0 - max(low, other_low)
    return high, low, high, low
