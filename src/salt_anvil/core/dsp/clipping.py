"""Clipping: what a bent or hard ceiling takes away, as it is or in antiderivative form."""

from numba import njit

from salt_anvil.core.dsp.gate import GRID, Sound
from salt_anvil.core.dsp.ramp import Vector

NEAR = 1e-7
"""Steps smaller than this, of the ceiling, are shaped at their middle instead of divided by."""


@njit(cache=True, error_model="numpy")
def taken(x: float, ceiling: float, width: float) -> float:
    """Return x - f(x) for an f that bends over a width around the ceiling and stays below it.

    f is x up to ceiling - width / 2, the ceiling from ceiling + width / 2 on, and a parabola
    between them. width: 0 (hard) to 2 * ceiling.
    """
    beyond = abs(x) - (ceiling - 0.5 * width)
    if beyond <= 0.0:
        return 0.0
    cut = beyond * beyond / (2.0 * width) if beyond < width else abs(x) - ceiling
    return cut if x > 0.0 else -cut


@njit(cache=True, error_model="numpy")
def taken_integral(x: float, ceiling: float, width: float) -> float:
    """Return the integral of `taken` from 0 to x (even in x)."""
    beyond = abs(x) - (ceiling - 0.5 * width)
    if beyond <= 0.0:
        return 0.0
    if beyond < width:
        return beyond * beyond * beyond / (6.0 * width)
    over = abs(x) - ceiling
    return 0.5 * over * over + width * width / 24.0


@njit(cache=True, nogil=True, error_model="numpy")
def clip_rows(
    rows: Sound,
    cut: Sound,
    depth: Sound,
    start: int,
    ceiling: Vector,
    d_ceiling: Vector,
    shape: Vector,
    last: Sound,
    smooth: bool,
) -> None:
    """Fill cut[:, :, TAPS:] with what is taken from rows (lanes, factor, frames).

    depth: (frames, lanes), filled with the share of the greatest value that is cut off. ceiling
    (amplitude), d_ceiling and shape (0 round to 1 hard): per grid point; start: timeline frame of
    the first column. last: (lanes,), the value before,
    changed. smooth: antiderivative form, half a step late.
    """
    lanes, factor, frames = rows.shape
    ahead = cut.shape[2] - frames
    for lane in range(lanes):
        before = last[lane]
        at, k, offset = 0, 0, start % GRID
        while at < frames:
            n = min(GRID - offset, frames - at)
            hard = min(max(shape[k], 0.0), 1.0)
            behind = 0.0
            known = False
            for i in range(at, at + n):
                top = ceiling[k] + d_ceiling[k] * (offset + i - at)
                width = 2.0 * top * (1.0 - hard)
                knee = top - 0.5 * width
                most = 0.0
                for p in range(factor):
                    x = rows[lane, p, i]
                    size = abs(x)
                    if size > most:
                        most = size
                    if smooth:
                        if size <= knee and abs(before) <= knee:
                            value = 0.0
                            known = False
                        else:
                            step = x - before
                            here = taken_integral(x, top, width)
                            if not known:
                                behind = taken_integral(before, top, width)
                            known = d_ceiling[k] == 0.0
                            if abs(step) > NEAR * top:
                                value = (here - behind) / step
                            else:
                                value = taken(0.5 * (x + before), top, width)
                            behind = here
                    else:
                        value = taken(x, top, width)
                    before = x
                    cut[lane, p, ahead + i] = value
                off = taken(most, top, width)
                depth[i, lane] = off / most if off > 0.0 else 0.0
            at += n
            offset = 0
            k += 1
        last[lane] = before


@njit(cache=True, nogil=True, error_model="numpy")
def touched_into(cells: Sound, depth: Sound, start: int, carry: Sound) -> int:
    """Fill cells with the shares of frames in which something is cut off; return how many end.

    depth: (frames, lanes), start: timeline frame of depth[0]. carry: (lanes,), the running count.
    """
    frames, lanes = depth.shape
    done = 0
    at, offset = 0, start % GRID
    while at < frames:
        n = min(GRID - offset, frames - at)
        for lane in range(lanes):
            for i in range(n):
                carry[lane] += depth[at + i, lane] > 0.0
        at += n
        offset += n
        if offset == GRID:
            for lane in range(lanes):
                cells[done, lane] = carry[lane] / GRID
                carry[lane] = 0.0
            done += 1
            offset = 0
    return done
