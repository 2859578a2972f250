"""Lines of numbers in kernels."""

from salt_anvil.core.compiled import inlined
from salt_anvil.core.dsp.control_ramp import Vector


@inlined
def copy_into(out: Vector, values: Vector) -> None:
    """Fill out with as many values.

    A slice that is assigned to costs three seconds of compiling: the sentence that says of two
    lines that they are not of one length, which nobody will read.
    """
    for i in range(len(out)):
        out[i] = values[i]
