"""Standing second-order sections one behind the other, two of them and both channels at once.

A recursion waits for itself: of one section on one channel most of a processor stands idle. Here
each section is written by its state (z1, z2), which needs two roundings from one frame to the next,
and the second of two sections works on the frame before the one that the first works on, beside it
in one vector. What comes out is the same to the bit as of one section after another.
"""

from typing import Any

import numpy as np
from llvmlite import ir
from numba import types
from numba.core import cgutils
from numba.extending import intrinsic
from numpy.typing import NDArray

from salt_anvil.core.audio import Sound
from salt_anvil.core.compiled import kernel

OUT, FIRST, SECOND = 0, 3, 6
"""Where a section's row holds the weights of z1, z2 and the input: for what comes out, for the next
z1, for the next z2."""
WEIGHTS = 9
Line = NDArray[np.float64]
Places = NDArray[np.int64]
_REAL, _INDEX = ir.DoubleType(), ir.IntType(64)


def _at(value: int) -> Any:
    return ir.Constant(_INDEX, value)


class _Writer:
    """Writes the code of one or two sections over sound of some channels."""

    def __init__(self, builder: Any, channels: int, sound: Any, weights: Any, states: Any) -> None:
        self.builder, self.channels = builder, channels
        self.sound, self.weights, self.states = sound, weights, states

    def load(self, array: Any, at: Any) -> Any:
        return self.builder.load(self.builder.gep(array, [at]))

    def vector(self, parts: list[Any]) -> Any:
        """Return numbers as one vector."""
        whole = ir.Constant(ir.VectorType(_REAL, len(parts)), ir.Undefined)
        for i, part in enumerate(parts):
            whole = self.builder.insert_element(whole, part, ir.Constant(ir.IntType(32), i))
        return whole

    def joined(self, one: Any, other: Any) -> Any:
        """Return two vectors of all channels as one."""
        mask = ir.Constant(ir.VectorType(ir.IntType(32), 2 * self.channels),
                           [*range(2 * self.channels)])  # fmt: skip
        return self.builder.shuffle_vector(one, other, mask)

    def half(self, vector: Any, which: int) -> Any:
        """Return what one of two sections has of a vector."""
        lanes = [which * self.channels + i for i in range(self.channels)]
        mask = ir.Constant(ir.VectorType(ir.IntType(32), self.channels), lanes)
        return self.builder.shuffle_vector(vector, vector, mask)

    def weight(self, section: Any, column: int) -> Any:
        at = self.builder.add(self.builder.mul(section, _at(WEIGHTS)), _at(column))
        return self.vector([self.load(self.weights, at)] * self.channels)

    def memory(self, place: Any, which: int) -> Any:
        ats = [self.builder.add(place, _at(2 * i + which)) for i in range(self.channels)]
        return self.vector([self.load(self.states, at) for at in ats])

    def remember(self, vector: Any, place: Any, which: int) -> None:
        for i in range(self.channels):
            part = self.builder.extract_element(vector, ir.Constant(ir.IntType(32), i))
            at = self.builder.add(place, _at(2 * i + which))
            self.builder.store(part, self.builder.gep(self.states, [at]))

    def frame(self, at: Any) -> Any:
        """Return where a frame stands, as a vector."""
        place = self.builder.gep(self.sound, [self.builder.mul(at, _at(self.channels))])
        return self.builder.bitcast(place, ir.VectorType(_REAL, self.channels).as_pointer())

    def read(self, at: Any) -> Any:
        return self.builder.load(self.frame(at), align=8)

    def write(self, vector: Any, at: Any) -> None:
        self.builder.store(vector, self.frame(at), align=8)

    def step(self, x: Any, weights: list[Any], z1: Any, z2: Any) -> Any:
        """Return what comes out of a frame, with the state moved on; z1, z2: where it stands."""
        lanes = x.type.count
        kind, name = x.type, f"llvm.fmuladd.v{lanes}f64"
        fused = self.builder.module.globals.get(name) or ir.Function(
            self.builder.module, ir.FunctionType(kind, [kind] * 3), name
        )
        one, two = self.builder.load(z1), self.builder.load(z2)
        found = []
        for row in (OUT, FIRST, SECOND):
            near = self.builder.fmul(weights[row + 2], x)
            near = self.builder.call(fused, [weights[row + 1], two, near])
            found.append(self.builder.call(fused, [weights[row], one, near]))
        self.builder.store(found[1], z1)
        self.builder.store(found[2], z2)
        return found[0]

    def room(self, vector: Any) -> Any:
        with self.builder.goto_entry_block():
            place = self.builder.alloca(vector.type)
        self.builder.store(vector, place)
        return place

    def alone(self, section: Any, place: Any, begin: Any, end: Any) -> None:
        """Run one section in place over frames."""
        weights = [self.weight(section, i) for i in range(WEIGHTS)]
        z = [self.room(self.memory(place, i)) for i in range(2)]
        with cgutils.for_range_slice(self.builder, begin, end, _at(1), intp=_INDEX) as (at, _):
            self.write(self.step(self.read(at), weights, *z), at)
        for i in range(2):
            self.remember(self.builder.load(z[i]), place, i)

    def together(self, sections: list[Any], places: list[Any], begin: Any, end: Any) -> None:
        """Run two sections in place over frames, one at least."""
        each = [[self.weight(s, i) for i in range(WEIGHTS)] for s in sections]
        z = [[self.room(self.memory(place, i)) for i in range(2)] for place in places]
        both = [self.joined(*pair) for pair in zip(*each, strict=True)]
        first = self.room(self.step(self.read(begin), each[0], *z[0]))
        zs = [self.room(self.joined(*(self.builder.load(own[i]) for own in z))) for i in range(2)]
        second = self.builder.add(begin, _at(1))
        with cgutils.for_range_slice(self.builder, second, end, _at(1), intp=_INDEX) as (at, _):
            given = self.joined(self.read(at), self.builder.load(first))
            found = self.step(given, both, *zs)
            self.builder.store(self.half(found, 0), first)
            self.write(self.half(found, 1), self.builder.sub(at, _at(1)))
        for which, own in enumerate(z):
            for i in range(2):
                self.builder.store(self.half(self.builder.load(zs[i]), which), own[i])
        last = self.builder.sub(end, _at(1))
        self.write(self.step(self.builder.load(first), each[1], *z[1]), last)
        for place, own in zip(places, z, strict=True):
            for i in range(2):
                self.remember(self.builder.load(own[i]), place, i)


def _runner(channels: int, count: int) -> Any:
    """Return a function that runs one or two sections, from a number on, over some frames."""

    @intrinsic
    def run(
        typing: Any,
        sound: Any,
        begin: Any,
        end: Any,
        weights: Any,
        states: Any,
        places: Any,
        s: Any,
    ) -> Any:
        def code(context: Any, builder: Any, signature: Any, args: Any) -> Any:
            kinds = signature.args
            data = [
                context.make_array(kinds[i])(context, builder, args[i]).data for i in (0, 3, 4, 5)
            ]
            writer = _Writer(builder, channels, *data[:3])
            sections = [builder.add(args[6], _at(i)) for i in range(count)]
            at = [writer.load(data[3], section) for section in sections]
            if count == 1:
                writer.alone(sections[0], at[0], args[1], args[2])
            else:
                writer.together(sections, at, args[1], args[2])
            return context.get_dummy_value()

        return types.void(sound, begin, end, weights, states, places, s), code

    return run


_mono, _monos, _stereo, _stereos = (_runner(channels, n) for channels in (1, 2) for n in (1, 2))


@kernel
def run_sections(
    sound: Sound, begin: int, end: int, weights: Sound, states: Line, places: Places, count: int
) -> None:
    """Run the first `count` sections in place over frames [begin, end) of a sound.

    sound: (frames, 1 or 2), contiguous. weights: (sections, WEIGHTS). states: z1 and z2 of each
    channel, from places[s] on for section s; changed.
    """
    if begin >= end:
        return
    if sound.shape[1] == 2:
        for s in range(0, count - 1, 2):
            _stereos(sound, begin, end, weights, states, places, s)
        if count % 2 == 1:
            _stereo(sound, begin, end, weights, states, places, count - 1)
        return
    for s in range(0, count - 1, 2):
        _monos(sound, begin, end, weights, states, places, s)
    if count % 2 == 1:
        _mono(sound, begin, end, weights, states, places, count - 1)
