"""Harmonics of a range: Chebyshev polynomials of the wave against its own envelope.

T_n(cos a) = cos(n a): a sine at the height of its envelope gives the n-th harmonic alone, at any
level. Its mean between two values, as `oversample` wants it, is that of Gauss's two points: the
seventh harmonic of what is heard ends far below what folds back, so that only the level counts.
"""

import math

import numpy as np
from numpy.polynomial import chebyshev

from salt_anvil.core.audio import GRID, TINY, Sound
from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp.control_ramp import Vector, along_into
from salt_anvil.core.dsp.grid import grid_cells
from salt_anvil.core.dsp.maxima import Line

DEGREE = 7
CONTROLS = DEGREE + 1
GAUSS = 1 / math.sqrt(3)
"""Gauss's two points, in half steps from the middle (Abramowitz and Stegun, 25.4.30)."""
MOST = 1.01
"""What is raised for straight lines between its values stands a little over its envelope."""
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


@kernel
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
        for at, n, k, inside in grid_cells(start, frames):
            cell = start // GRID + k
            if inside == 0:
                peaks[(cell - 1) % CELLS, channel] = here
                here = 0.0
            before = 0.0
            for c in range(cell - cells, cell):
                before = max(before, peaks[c % CELLS, channel])
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
        state[0, channel], state[1, channel] = height if height > TINY else 0.0, here
        state[2, channel], state[3, channel], state[4, channel], state[5, channel] = y1, y2, y3, y4
        state[6, channel] = waves if abs(waves) > TINY else 0.0
        state[7, channel] = slopes if abs(slopes) > TINY else 0.0


@inlined
def _points(now: float, last: float, height: float, far: float) -> tuple[float, float]:
    """Return two points between two values against the envelope, so far from their middle."""
    per = 1.0 / max(height, SILENT)
    u = min(max(now * per, -MOST), MOST)
    w = min(max(last * per, -MOST), MOST)
    middle, apart = 0.5 * (u + w), far * (u - w)
    return middle - apart, middle + apart


@inlined
def _shape_into(
    made: Line | Vector,
    now: Line | Vector,
    last: Line | Vector,
    envelope: Vector,
    share: float,
    far: float,
    powers: Sound,
    steady: bool,
) -> None:
    """Fill made with the mean harmonics of two points between the last values and those now.

    share: of a frame that has passed; the rest as in `_shape_rows`.
    """
    n, ahead = len(made), envelope[1:]
    if steady:
        c0, c1, c2, c3 = powers[0, 0], powers[1, 0], powers[2, 0], powers[3, 0]
        c4, c5, c6, c7 = powers[4, 0], powers[5, 0], powers[6, 0], powers[7, 0]
        for i in range(n):
            height = envelope[i] + share * (ahead[i] - envelope[i])
            x, y = _points(now[i], last[i], height, far)
            a = ((((((c7 * x + c6) * x + c5) * x + c4) * x + c3) * x + c2) * x + c1) * x + c0
            b = ((((((c7 * y + c6) * y + c5) * y + c4) * y + c3) * y + c2) * y + c1) * y + c0
            made[i] = height * (0.5 * (a + b)) if height > SILENT else 0.0
        return
    for i in range(n):
        height = envelope[i] + share * (ahead[i] - envelope[i])
        x, y = _points(now[i], last[i], height, far)
        a = b = powers[DEGREE, i]
        for k in range(DEGREE - 1, -1, -1):
            a, b = a * x + powers[k, i], b * y + powers[k, i]
        made[i] = height * (0.5 * (a + b)) if height > SILENT else 0.0


@inlined
def _shape_rows(
    room: Line, tables: o.Tables, n: int, envelope: Vector, powers: Sound, steady: bool
) -> None:
    """Leave in `o.taken` the harmonics of `o.raised`.

    envelope: (n + 1,), in step with the rows, the one behind the last too; powers: (CONTROLS, n),
    the polynomial; steady: it is the first all along.
    """
    factor = tables[0]
    before = o.raised(room, tables, -1, n)
    for p in range(factor):
        now, made = o.raised(room, tables, p, n), o.taken(room, tables, p, n)
        _shape_into(made, now, before, envelope, p / factor, 0.5 * GAUSS, powers, steady)
        before = now


@inlined
def _steady(value: Vector, step: Vector, frames: int) -> bool:
    """Say whether the polynomial stands over so many frames from a grid point on."""
    moves = 0
    for k in range((frames + GRID - 1) // GRID):
        for c in range(CONTROLS):
            moves += 1 if step[k, c] != 0.0 or value[k, c] != value[0, c] else 0
    return moves == 0


@kernel
def harmonics_block(
    sound: Sound,
    start: int,
    envelope: Sound,
    value: Vector,
    step: Vector,
    factor: int,
    stages: o.Ints,
    pairs: o.Ints,
    places: o.Ints,
    weights: Line,
    was: Vector,
    frames: Sound,
    past: Sound,
    last: Sound,
) -> Sound:
    """Return the harmonics of a block (frames, channels), o.LATENCY frames late.

    envelope: (frames + 1 or more, channels), that of the wave o.UP frames before; value, step:
    (grid points, CONTROLS or more), the polynomial; start: timeline frame; the others: `o.given`.
    """
    tables, memory = (factor, stages, pairs, places, weights), (was, frames, past, last)
    out, room = np.empty_like(sound), o.room_for(tables)
    heights, powers = np.empty(o.CHUNK + 1), np.empty((CONTROLS, o.CHUNK))
    made = np.empty(o.CHUNK)
    for at in range(0, len(sound), o.CHUNK):
        block = sound[at : at + o.CHUNK]
        n, k = len(block), (start % GRID + at) // GRID
        steady = _steady(value[k:], step[k:], (start + at) % GRID + n)
        for c in range(CONTROLS):
            if steady:
                powers[c, 0] = value[k, c]
            else:
                along_into(powers[c, :n], value[k:, c], step[k:, c], start + at)
        for lane in range(sound.shape[1]):
            given, ours = envelope[at:], out[at:]
            for i in range(n + 1):
                heights[i] = min(given[i, lane], o.LOUD)
            if factor == 1:
                line = o.held(block, lane, memory)
                # At the values themselves, as nothing is raised between them.
                _shape_into(made[:n], line, line, heights[: n + 1], 0.0, 0.0, powers[:, :n], steady)
                line = o.late(made[:n], lane, memory)
                for i in range(n):
                    ours[i, lane] = line[i]
                continue
            o.rise(room, block, lane, tables, memory)
            _shape_rows(room, tables, n, heights[: n + 1], powers[:, :n], steady)
            fallen = o.fall(room, n, lane, tables, memory)
            for i in range(n):
                ours[i, lane] = fallen[i]
    return out
