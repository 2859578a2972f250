"""Saturation: an odd and an even bend with closed antiderivatives, blended.

Odd: x / sqrt(1 + x^2). Even: x - (sqrt(1 + x^2) - 1), whose bend is an even function, so that it
adds even harmonics alone. Both have slope 1 at 0; formulas of our own.
"""

import math

import numpy as np
from numba import njit

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp.control_ramp import Vector

NEAR = 1e-6
EVEN_SHARE = 0.5
"""Share of the even bend, so that its slope stays between 1/2 and 3/2."""


@njit(cache=True, nogil=True, error_model="numpy")
def _straight(x: float, odd: float) -> float:
    root = math.sqrt(1.0 + x * x)
    return odd * (x - x / root) + (1.0 - odd) * (EVEN_SHARE * (root - 1.0))


@njit(cache=True, nogil=True, error_model="numpy")
def _leaning(x: float, odd: float, lean: float, still: float) -> float:
    even = EVEN_SHARE * (math.sqrt(1.0 + x * x) - 1.0)
    moved = x + lean
    # Through 0 with slope 1, like the bend without lean.
    shifted = (moved / math.sqrt(1.0 + moved * moved) - lean / still) * still * still * still
    return odd * (x - shifted) + (1.0 - odd) * even


@njit(cache=True, nogil=True, error_model="numpy")
def _even_integral(x: float, root: float, log: float) -> float:
    """log: of abs(x) + root, asinh(x) but for its sign; its error near 0 is that of the rest."""
    return EVEN_SHARE * (0.5 * (x * root + math.copysign(log, x)) - x)


@njit(cache=True, nogil=True, error_model="numpy")
def _straight_integral(x: float, root: float, log: float, odd: float) -> float:
    even = _even_integral(x, root, log)
    return odd * (0.5 * x * x - (root - 1.0)) + (1.0 - odd) * even


@njit(cache=True, nogil=True, error_model="numpy")
def _leaning_integral(
    x: float, root: float, log: float, odd: float, lean: float, still: float
) -> float:
    moved = x + lean
    shifted = math.sqrt(1.0 + moved * moved) - still - lean / still * x
    even = _even_integral(x, root, log)
    return odd * (0.5 * x * x - shifted * (still * still * still)) + (1.0 - odd) * even


@njit(cache=True, nogil=True, error_model="numpy")
def bend(x: float, odd: float, lean: float) -> float:
    """Return x - f(x) at a balance from 0 (even) to 1 (odd); lean shifts the middle of the bend."""
    if lean == 0.0:
        return float(_straight(x, odd))
    return float(_leaning(x, odd, lean, math.sqrt(1.0 + lean * lean)))


@njit(cache=True, nogil=True, error_model="numpy")
def bend_integral(x: float, odd: float, lean: float) -> float:
    """Return the integral of `bend` from 0 to x."""
    root = math.sqrt(1.0 + x * x)
    log = math.log(abs(x) + root)
    if lean == 0.0:
        return float(_straight_integral(x, root, log, odd))
    return float(_leaning_integral(x, root, log, odd, lean, math.sqrt(1.0 + lean * lean)))


@njit(cache=True, nogil=True, error_model="numpy")
def _bend_line(
    cut: Vector, line: Vector, odd: float, lean: float, root: Vector, whole: Vector
) -> None:
    """Fill cut (n,) with what is taken from line (1 + n,), each a mean over a step.

    Roots, logarithms and quotients in passes of their own: all but the logarithms are found many
    at a time. root, whole: (1 + n,) or more, to work in.
    """
    still = math.sqrt(1.0 + lean * lean)
    for i in range(len(line)):
        root[i] = math.sqrt(1.0 + line[i] * line[i])
        whole[i] = 0.0
    if odd < 1.0:
        for i in range(len(line)):
            whole[i] = math.log(abs(line[i]) + root[i])
    if lean == 0.0:
        for i in range(len(line)):
            whole[i] = _straight_integral(line[i], root[i], whole[i], odd)
        for i in range(len(cut)):
            a, b = line[i], line[i + 1]
            step, middle = b - a, _straight(0.5 * (b + a), odd)
            cut[i] = (whole[i + 1] - whole[i]) / step if abs(step) > NEAR else middle
        return
    for i in range(len(line)):
        whole[i] = _leaning_integral(line[i], root[i], whole[i], odd, lean, still)
    for i in range(len(cut)):
        a, b = line[i], line[i + 1]
        step, middle = b - a, _leaning(0.5 * (b + a), odd, lean, still)
        cut[i] = (whole[i + 1] - whole[i]) / step if abs(step) > NEAR else middle


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
    """Fill the last columns of cut with what is taken from lines (channels, 1 + factor * frames).

    odd, lean and their steps: per grid point; start: timeline frame of the block. In
    antiderivative form, half a step late, for factors over 1.
    """
    channels, frames = lines.shape[0], (lines.shape[1] - 1) // factor
    ahead = cut.shape[1] - factor * frames
    root, whole = np.empty(factor * GRID + 1), np.empty(factor * GRID + 1)
    for channel in range(channels):
        at, k, offset = 0, 0, start % GRID
        while at < frames:
            n = min(GRID - offset, frames - at)
            line = lines[channel, factor * at : factor * (at + n) + 1]
            found = cut[channel, ahead + factor * at : ahead + factor * (at + n)]
            steady = d_odd[k] == 0.0 and d_lean[k] == 0.0
            if factor == 1:
                for i in range(n):
                    a, b = odd[k] + d_odd[k] * (offset + i), lean[k] + d_lean[k] * (offset + i)
                    found[i] = bend(line[1 + i], a, b)
            elif steady:
                _bend_line(found, line, odd[k], lean[k], root, whole)
            else:
                for i in range(n):
                    a, b = odd[k] + d_odd[k] * (offset + i), lean[k] + d_lean[k] * (offset + i)
                    first = factor * i
                    _bend_line(
                        found[first : first + factor],
                        line[first : first + factor + 1],
                        a,
                        b,
                        root,
                        whole,
                    )
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
    """Fill gains (frames, channels) in dB that bring the power after to the power before.

    before, after: (frames, channels), K-weighted. link, share, d_share: per grid point; start:
    timeline frame of the first row. powers: (2, channels), the mean squares, moved on by `rate` a
    frame. match: (2, channels), the gain in force and the one it moves to, which stands still while
    there is nothing to hear.
    """
    frames, channels = before.shape
    at, k, offset = 0, 0, start % GRID
    while at < frames:
        n = min(GRID - offset, frames - at)
        for i in range(at, at + n):
            both_in = both_out = 0.0
            for channel in range(channels):
                x, y = before[i, channel], after[i, channel]
                powers[0, channel] += rate * (x * x - powers[0, channel])
                powers[1, channel] += rate * (y * y - powers[1, channel])
                both_in += powers[0, channel]
                both_out += powers[1, channel]
            if offset + i - at == GRID - 1:
                for channel in range(channels):
                    a = powers[0, channel] + link[k] * (both_in / channels - powers[0, channel])
                    b = powers[1, channel] + link[k] * (both_out / channels - powers[1, channel])
                    if a > 1e-7 and b > 1e-9:
                        wanted = 10.0 * math.log10(a / b)
                        match[1, channel] = min(max(wanted, -most_db), most_db)
            amount = share[k] + d_share[k] * (offset + i - at)
            for channel in range(channels):
                match[0, channel] += 4.0 * rate * (match[1, channel] - match[0, channel])
                gains[i, channel] = amount * match[0, channel]
        at += n
        offset = 0
        k += 1
