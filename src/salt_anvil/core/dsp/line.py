"""Lines of numbers in kernels."""

from salt_anvil.core.compiled import inlined
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.maxima import Line


@inlined
def copy_into(out: Line | Vector, values: Line | Vector) -> None:
    """Fill out with as many values.

    A slice that is assigned to costs three seconds of compiling: the sentence that says of two
    lines that they are not of one length, which nobody will read.
    """
    for i in range(len(out)):
        out[i] = values[i]
