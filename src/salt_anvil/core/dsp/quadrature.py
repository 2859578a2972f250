"""A sound twice, a quarter of a period apart at every frequency: its envelope without a ripple."""

from functools import lru_cache

import numpy as np

from salt_anvil.core.audio import TINY, Sound
from salt_anvil.core.compiled import kernel
from salt_anvil.core.dsp.control_ramp import Vector

SECTIONS = 6
LOWEST_HZ = 30.0
"""From here to as far below half the rate, the two are 90 degrees apart within 7."""


@lru_cache(maxsize=16)
def all_passes(rate: int) -> Vector:
    """Return the coefficients of both chains of all-passes in turn, (SECTIONS,), rising.

    An elliptic half-band filter as two chains, turned by a quarter of the rate (Valenzuela and
    Constantinides 1983, by the series of the theta functions; from memory).
    """
    k = np.tan((1 - 2 * LOWEST_HZ / rate) * np.pi / 4) ** 2
    root = (1 - k * k) ** 0.25
    e = 0.5 * (1 - root) / (1 + root)
    q = e * (1 + e**4 * (2 + e**4 * (15 + 150 * e**4)))
    at = np.arange(1, SECTIONS + 1) * np.pi / (2 * SECTIONS + 1)
    i = np.arange(12)[:, None]
    sines = ((-1.0) ** i * q ** (i * (i + 1)) * np.sin((2 * i + 1) * at)).sum(axis=0)
    cosines = ((-1.0) ** i * q ** (i * i) * np.cos(2 * i * at))[1:].sum(axis=0)
    square = (q**0.25 * sines / (0.5 + cosines)) ** 2
    ratio = np.sqrt((1 - square * k) * (1 - square / k)) / (1 + square)
    found = np.sort((1 - ratio) / (1 + ratio))
    found.setflags(write=False)
    return found


@kernel
def quarters_into(one: Vector, other: Vector, line: Vector, a: Vector, memory: Sound) -> None:
    """Fill one and other with a line, a quarter of a period apart.

    a: of `all_passes`. memory: (SECTIONS + 1, 4), changed: of each section the last two values in
    and out; of the last row the first is the last value of the line.
    """
    last = memory[len(a), 0]
    for i in range(len(line)):
        one[i], other[i] = line[i], last
        last = line[i]
    memory[len(a), 0] = last
    for s in range(0, len(a), 2):
        # One of each chain at once: neither waits for the other.
        c, d = a[s], a[s + 1]
        x1, x2, y1, y2 = memory[s]
        u1, u2, v1, v2 = memory[s + 1]
        for i in range(len(line)):
            x, u = one[i], other[i]
            # In a form in which a value waits for one product of what was before it.
            y, v = c * y2 + (c * x - x2), d * v2 + (d * u - u2)
            x2, x1, y2, y1 = x1, x, y1, y
            u2, u1, v2, v1 = u1, u, v1, v
            one[i], other[i] = y, v
        for row, values in ((s, (x1, x2, y1, y2)), (s + 1, (u1, u2, v1, v2))):
            for k in range(4):
                memory[row, k] = values[k] if abs(values[k]) > TINY else 0.0
