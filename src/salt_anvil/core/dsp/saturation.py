"""Saturation: an odd and an even bend with closed antiderivatives, blended.

Odd: x / sqrt(1 + x^2). Even: x - (sqrt(1 + x^2) - 1), whose bend is an even function, so that it
adds even harmonics alone. Both have slope 1 at 0; formulas of our own.
"""

import math

from numba import njit

from salt_anvil.core.dsp.gate import GRID, Sound
from salt_anvil.core.dsp.ramp import Vector

NEAR = 1e-6
EVEN_SHARE = 0.5
"""Share of the even bend, so that its slope stays between 1/2 and 3/2."""


@njit(cache=True, error_model="numpy")
def bend(x: float, odd: float, lean: float) -> float:
    """Return x - f(x) at a balance from 0 (even) to 1 (odd); lean shifts the middle of the bend."""
    root = math.sqrt(1.0 + x * x)
    even = EVEN_SHARE * (root - 1.0)
    if lean == 0.0:
        return odd * (x - x / root) + (1.0 - odd) * even
    moved = x + lean
    still = math.sqrt(1.0 + lean * lean)
    # Through 0 with slope 1, like the bend without lean.
    shifted = (moved / math.sqrt(1.0 + moved * moved) - lean / still) * still * still * still
    return odd * (x - shifted) + (1.0 - odd) * even


@njit(cache=True, error_model="numpy")
def bend_integral(x: float, odd: float, lean: float) -> float:
    """Return the integral of `bend` from 0 to x."""
    root = math.sqrt(1.0 + x * x)
    # asinh(x), by the logarithm alone: its error near 0 is that of the terms beside it.
    area = math.copysign(math.log(abs(x) + root), x)
    even = EVEN_SHARE * (0.5 * (x * root + area) - x)
    if lean == 0.0:
        return odd * (0.5 * x * x - (root - 1.0)) + (1.0 - odd) * even
    moved = x + lean
    still = math.sqrt(1.0 + lean * lean)
    cube = still * still * still
    shifted = (math.sqrt(1.0 + moved * moved) - still - lean / still * x) * cube
    return odd * (0.5 * x * x - shifted) + (1.0 - odd) * even


@njit(cache=True, nogil=True, error_model="numpy")
def bend_lines(
    lines: Sound,
    cut: Sound,
    factor: int,
    start: int,
    odd: Vector,
    d_odd: Vector,
    lean: Vector,
    d_lean: Vector,
) -> None:
    """Fill the last columns of cut with what is taken from lines (lanes, 1 + factor * frames).

    odd, lean and their steps: per grid point; start: timeline frame of the block. In
    antiderivative form, half a step late, for factors over 1.
    """
    lanes, frames = lines.shape[0], (lines.shape[1] - 1) // factor
    ahead = cut.shape[1] - factor * frames
    for lane in range(lanes):
        before = lines[lane, 0]
        at, k, offset = 0, 0, start % GRID
        while at < frames:
            n = min(GRID - offset, frames - at)
            known, behind = False, 0.0
            for i in range(at, at + n):
                j = offset + i - at
                a, b = odd[k] + d_odd[k] * j, lean[k] + d_lean[k] * j
                for q in range(factor * i, factor * (i + 1)):
                    x = lines[lane, 1 + q]
                    if factor > 1:
                        here = bend_integral(x, a, b)
                        if not known:
                            behind = bend_integral(before, a, b)
                        known = d_odd[k] == 0.0 and d_lean[k] == 0.0
                        step = x - before
                        if abs(step) > NEAR:
                            value = (here - behind) / step
                        else:
                            value = bend(0.5 * (x + before), a, b)
                        behind = here
                    else:
                        value = bend(x, a, b)
                    before = x
                    cut[lane, ahead + q] = value
            at += n
            offset = 0
            k += 1


@njit(cache=True, nogil=True, error_model="numpy")
def match_into(
    gains: Sound,
    before: Sound,
    after: Sound,
    start: int,
    link: Vector,
    share: Vector,
    d_share: Vector,
    rate: float,
    most_db: float,
    powers: Sound,
    match: Sound,
) -> None:
    """Fill gains (frames, lanes) in dB that bring the power after to the power before.

    before, after: (frames, lanes), K-weighted. link, share, d_share: per grid point; start:
    timeline frame of the first row. powers: (2, lanes), the mean squares, moved on by `rate` a
    frame. match: (2, lanes), the gain in force and the one it moves to, which stands still while
    there is nothing to hear.
    """
    frames, lanes = before.shape
    at, k, offset = 0, 0, start % GRID
    while at < frames:
        n = min(GRID - offset, frames - at)
        for i in range(at, at + n):
            both_in = both_out = 0.0
            for lane in range(lanes):
                x, y = before[i, lane], after[i, lane]
                powers[0, lane] += rate * (x * x - powers[0, lane])
                powers[1, lane] += rate * (y * y - powers[1, lane])
                both_in += powers[0, lane]
                both_out += powers[1, lane]
            if offset + i - at == GRID - 1:
                for lane in range(lanes):
                    a = powers[0, lane] + link[k] * (both_in / lanes - powers[0, lane])
                    b = powers[1, lane] + link[k] * (both_out / lanes - powers[1, lane])
                    if a > 1e-7 and b > 1e-9:
                        wanted = 10.0 * math.log10(a / b)
                        match[1, lane] = min(max(wanted, -most_db), most_db)
            amount = share[k] + d_share[k] * (offset + i - at)
            for lane in range(lanes):
                match[0, lane] += 4.0 * rate * (match[1, lane] - match[0, lane])
                gains[i, lane] = amount * match[0, lane]
        at += n
        offset = 0
        k += 1
