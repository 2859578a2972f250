"""Harmonics of a range: Chebyshev polynomials of the wave against its own envelope.

T_n(cos a) = cos(n a): a sine at the height of its envelope gives the n-th harmonic alone, at any
level. The polynomial's antiderivative is taken between two values, as in `oversample`.
"""

import math

import numpy as np
from numba import njit
from numpy.polynomial import chebyshev

from salt_anvil.core.audio import GRID, TINY, Sound
from salt_anvil.core.dsp.control_ramp import Vector

DEGREE = 7
CONTROLS = DEGREE + 1
NEAR = 1e-4
CELLS = 64
"""Cells of peaks that are kept: half a period of 25 Hz at 192 kHz is 60."""
SILENT = 1e-9
"""An envelope below this, -180 dBFS, gives nothing."""


def polynomial(order: str, density: float) -> Vector:
    """Return the coefficients of the powers 0 to DEGREE.

    order: even, odd or both. density: 0 to 1, the level of each harmonic against the one two
    below it; 0 is the second or the third alone.
    """
    weights = np.zeros(DEGREE + 1)
    for n in range(2, DEGREE + 1):
        wanted = order == "both" or (order == "even") == (n % 2 == 0)
        weights[n] = wanted * density ** ((n - 2) // 2)
    found = np.zeros(DEGREE + 1)
    powers = chebyshev.cheb2poly(weights)
    found[: len(powers)] = powers
    return found


@njit(cache=True, nogil=True, error_model="numpy")
def envelope_into(
    envelope: Sound,
    sound: Sound,
    start: int,
    cells: int,
    fall: float,
    rate: float,
    least: float,
    most: float,
    peaks: Sound,
    state: Sound,
) -> None:
    """Fill envelope (frames, channels) with the height of the wave one frame before each.

    The height now is the length of the wave and its slope, which is a quarter of a period ahead;
    how much the slope weighs, between least and most, follows from the energies y^2 - y- y+ of both
    (smoothed by `rate` a frame), which of a sine stand still (Kaiser, ICASSP 1990, from memory).
    The envelope is the greatest of the last `cells` whole cells of the grid and of this one, and
    falls to it by the factor `fall` a frame. start: timeline frame of sound[0]. peaks: (CELLS,
    channels), the cells' heights as a ring over the timeline; state: (8, channels); changed.
    """
    frames, channels = sound.shape
    for channel in range(channels):
        height, here = state[0, channel], state[1, channel]
        y1, y2, y3, y4 = state[2:6, channel]
        waves, slopes = state[6, channel], state[7, channel]
        at = 0
        while at < frames:
            cell, inside = divmod(start + at, GRID)
            if inside == 0:
                peaks[(cell - 1) % CELLS, channel] = here
                here = 0.0
            before = 0.0
            for c in range(cell - cells, cell):
                before = max(before, peaks[c % CELLS, channel])
            n = min(GRID - inside, frames - at)
            for i in range(at, at + n):
                y0 = sound[i, channel]
                d1, d2, d3 = 0.5 * (y0 - y2), 0.5 * (y1 - y3), 0.5 * (y2 - y4)
                waves += rate * (y2 * y2 - y1 * y3 - waves)
                slopes += rate * (d2 * d2 - d1 * d3 - slopes)
                weight = most
                if slopes > TINY:
                    weight = min(max(waves / slopes, least), most)
                now = math.sqrt(y1 * y1 + weight * d1 * d1)
                y4, y3, y2, y1 = y3, y2, y1, y0
                here = max(here, now)
                height = max(height * fall, max(before, here))
                envelope[i, channel] = height
            at += n
        state[0, channel], state[1, channel] = height if height > TINY else 0.0, here
        state[2, channel], state[3, channel], state[4, channel], state[5, channel] = y1, y2, y3, y4
        state[6, channel] = waves if abs(waves) > TINY else 0.0
        state[7, channel] = slopes if abs(slopes) > TINY else 0.0


@njit(cache=True, nogil=True, error_model="numpy")
def _value(u: float, c: Vector) -> float:
    total = float(c[DEGREE])
    for n in range(DEGREE - 1, -1, -1):
        total = total * u + c[n]
    return total


@njit(cache=True, nogil=True, error_model="numpy")
def _integral(u: float, c: Vector) -> float:
    """c: the polynomial's, each over its power plus 1."""
    return float(_value(u, c)) * u


@njit(cache=True, nogil=True, error_model="numpy")
def shape_lines(
    lines: Sound,
    made: Sound,
    factor: int,
    envelope: Sound,
    start: int,
    value: Vector,
    step: Vector,
) -> None:
    """Fill the last columns of made with the harmonics of lines (channels, 1 + factor * frames).

    envelope: (frames + 1, channels), in step with the lines, the one behind the last too. value,
    step: (grid points, CONTROLS or more), the polynomial. In antiderivative form, half a step late,
    for factors over 1.
    """
    channels, frames = lines.shape[0], (lines.shape[1] - 1) // factor
    ahead = made.shape[1] - factor * frames
    now, over = np.empty(CONTROLS), np.empty(CONTROLS)
    for channel in range(channels):
        before = lines[channel, 0]
        at, k, offset = 0, 0, start % GRID
        while at < frames:
            n = min(GRID - offset, frames - at)
            moves = False
            for c in range(CONTROLS):
                moves |= step[k, c] != 0.0
            for i in range(at, at + n):
                if moves or i == at:
                    for c in range(CONTROLS):
                        now[c] = value[k, c] + step[k, c] * (offset + i - at)
                        over[c] = now[c] / (c + 1)
                for p in range(factor):
                    x = lines[channel, 1 + factor * i + p]
                    share = p / factor
                    height = envelope[i, channel] + share * (
                        envelope[i + 1, channel] - envelope[i, channel]
                    )
                    made_here = 0.0
                    if height > SILENT:
                        u = min(max(x / height, -1.0), 1.0)
                        if factor > 1:
                            w = min(max(before / height, -1.0), 1.0)
                            if abs(u - w) > NEAR:
                                made_here = (_integral(u, over) - _integral(w, over)) / (u - w)
                            else:
                                made_here = _value(0.5 * (u + w), now)
                        else:
                            made_here = _value(u, now)
                    before = x
                    made[channel, ahead + factor * i + p] = height * made_here
            at += n
            offset = 0
            k += 1
