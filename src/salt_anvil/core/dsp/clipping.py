"""Clipping: what a bent or hard ceiling takes away, as it is or in antiderivative form."""

import math

import numpy as np
from numba import njit

from salt_anvil.core.dsp.gate import GRID, Sound
from salt_anvil.core.dsp.ramp import Vector

SIXTH = 1.0 / 6.0
NEAR = 1e-7
"""Steps smaller than this, of the ceiling, are shaped at their middle instead of divided by."""


@njit(cache=True, error_model="numpy")
def _per(width: float) -> float:
    return 1.0 / width if width > 0.0 else 0.0


@njit(cache=True, error_model="numpy")
def _beyond(x: float, ceiling: float, width: float) -> float:
    over = abs(x) - (ceiling - 0.5 * width)
    return over if over > 0.0 else 0.0


@njit(cache=True, error_model="numpy")
def _taken(x: float, ceiling: float, width: float, per: float) -> float:
    beyond = _beyond(x, ceiling, width)
    bent = beyond if beyond < width else width
    cut = 0.5 * per * bent * bent + (beyond - bent)
    return cut if x > 0.0 else -cut


@njit(cache=True, error_model="numpy")
def _integral(x: float, ceiling: float, width: float, per: float) -> float:
    beyond = _beyond(x, ceiling, width)
    bent = beyond if beyond < width else width
    over = beyond - bent
    return SIXTH * per * bent * bent * bent + 0.5 * over * (over + bent)


@njit(cache=True, error_model="numpy")
def _share(x: float, ceiling: float, width: float, per: float) -> float:
    """Return the share of x, 0 or more, that is cut off."""
    off = _taken(x, ceiling, width, per)
    return off / x if off > 0.0 else 0.0


@njit(cache=True, error_model="numpy")
def taken(x: float, ceiling: float, width: float) -> float:
    """Return x - f(x) for an f that bends over a width around the ceiling and stays below it.

    f is x up to ceiling - width / 2, the ceiling from ceiling + width / 2 on, and a parabola
    between them. width: 0 (hard) to 2 * ceiling.
    """
    return float(_taken(x, ceiling, width, _per(width)))


@njit(cache=True, error_model="numpy")
def taken_integral(x: float, ceiling: float, width: float) -> float:
    """Return the integral of `taken` from 0 to x (even in x)."""
    return float(_integral(x, ceiling, width, _per(width)))


@njit(cache=True, error_model="numpy")
def _clip(cut: Sound, line: Sound, factor: int, top: float, width: float) -> None:
    """Fill cut (n,) with what is taken from line (1 + n,), without branches.

    The mean between two values is what the integral gains over the step; over a short step, the
    value at its middle.
    """
    per, near = _per(width), NEAR * top
    before, now = line[:-1], line[1:]
    if factor == 1:
        for i in range(len(cut)):
            cut[i] = _taken(now[i], top, width, per)
        return
    for i in range(len(cut)):
        a, b = before[i], now[i]
        step = b - a
        gained = _integral(b, top, width, per) - _integral(a, top, width, per)
        middle = _taken(0.5 * (a + b), top, width, per)
        cut[i] = gained / step if abs(step) > near else middle


@njit(cache=True, error_model="numpy")
def _peaks(line: Sound, factor: int) -> Vector:
    """Return the greatest amplitude of each `factor` values (a power of 2), pair by pair."""
    sizes = np.abs(line)
    while factor > 1:
        pairs = np.empty(len(sizes) // 2)
        for i in range(len(pairs)):
            pairs[i] = max(sizes[2 * i], sizes[2 * i + 1])
        sizes, factor = pairs, factor // 2
    return sizes


@njit(cache=True, nogil=True, error_model="numpy")
def clip_lines(
    lines: Sound,
    cut: Sound,
    depth: Sound,
    factor: int,
    start: int,
    ceiling: Vector,
    d_ceiling: Vector,
    shape: Vector,
) -> None:
    """Fill the last columns of cut with what is taken from lines (lanes, 1 + factor * frames).

    depth: (more + frames, lanes), whose last rows get the share of each frame's greatest value that
    is cut off. ceiling (amplitude), d_ceiling and shape (0 round to 1 hard): per grid point; start:
    timeline frame of the block. In antiderivative form, half a step late, for factors over 1.
    """
    lanes, frames = lines.shape[0], (lines.shape[1] - 1) // factor
    ahead, before = cut.shape[1] - factor * frames, len(depth) - frames
    for lane in range(lanes):
        off = _peaks(lines[lane, 1:], factor)
        at, k, offset = 0, 0, start % GRID
        while at < frames:
            n = min(GRID - offset, frames - at)
            soft = 1.0 - min(max(shape[k], 0.0), 1.0)
            line = lines[lane, factor * at : factor * (at + n) + 1]
            found = cut[lane, ahead + factor * at : ahead + factor * (at + n)]
            top, d_top = ceiling[k] + d_ceiling[k] * offset, d_ceiling[k]
            greatest = abs(line[0])
            mine = off[at : at + n]
            for i in range(n):
                greatest = mine[i] if mine[i] > greatest else greatest
            if greatest <= min(top, top + d_top * n) * (1.0 - soft):
                found[:] = 0.0
                mine[:] = 0.0
            elif d_top == 0.0:
                width, per = 2.0 * top * soft, _per(2.0 * top * soft)
                _clip(found, line, factor, top, width)
                for i in range(n):
                    mine[i] = _share(mine[i], top, width, per)
            else:
                for i in range(n):
                    now, first = top + d_top * i, factor * i
                    width, per = 2.0 * now * soft, _per(2.0 * now * soft)
                    _clip(found[first : first + factor], line[first : first + factor + 1],
                          factor, now, width)  # fmt: skip
                    mine[i] = _share(mine[i], now, width, per)
            at += n
            offset = 0
            k += 1
        for i in range(frames):
            depth[before + i, lane] = off[i]


@njit(cache=True, nogil=True, error_model="numpy")
def tell_into(
    cells: Sound,
    out: Sound,
    depth: Sound,
    start: int,
    late: int,
    ceiling: Vector,
    d_ceiling: Vector,
    hold: bool,
    carry: Sound,
) -> int:
    """Fill cells (3, cells, lanes) with what 64 frames come to; return how many cells end.

    They are: the greatest share cut off, the share of frames that are touched, the greatest value
    against the ceiling. out: (frames, lanes), with hold clipped to the ceiling once it is told.
    depth: the share cut off each frame, and more rows behind. start: timeline frame of the
    controls, late: of out[0]. carry: (3, lanes), the running cell.
    """
    frames, lanes = out.shape
    done = 0
    for lane in range(lanes):
        done, k, moved, inside = 0, 0, start % GRID, late % GRID
        most, count, over = carry[0, lane], carry[1, lane], carry[2, lane]
        for i in range(frames):
            top = ceiling[k] + d_ceiling[k] * moved
            size, cut = abs(out[i, lane]), depth[i, lane]
            most = max(most, cut)
            count += cut > 0.0
            over = max(over, size / top)
            if hold and size > top:
                out[i, lane] = math.copysign(top, out[i, lane])
            moved += 1
            if moved == GRID:
                moved = 0
                k += 1
            inside += 1
            if inside == GRID:
                cells[0, done, lane], cells[1, done, lane] = most, count / GRID
                cells[2, done, lane] = over
                most, count, over = 0.0, 0.0, 0.0
                inside = 0
                done += 1
        carry[0, lane], carry[1, lane], carry[2, lane] = most, count, over
    return done
