"""Clipping: what a bent or hard ceiling takes away, as it is or in antiderivative form."""

import math

import numpy as np
from numba import njit

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.state import State

SIXTH = 1.0 / 6.0
NEAR = 1e-7
"""Steps smaller than this, of the ceiling, are shaped at their middle instead of divided by."""


@njit(cache=True, nogil=True, error_model="numpy")
def _per(width: float) -> float:
    return 1.0 / width if width > 0.0 else 0.0


@njit(cache=True, nogil=True, error_model="numpy")
def _beyond(x: float, ceiling: float, width: float) -> float:
    over = abs(x) - (ceiling - 0.5 * width)
    return over if over > 0.0 else 0.0


@njit(cache=True, nogil=True, error_model="numpy")
def _taken(x: float, ceiling: float, width: float, per: float) -> float:
    beyond = _beyond(x, ceiling, width)
    bent = beyond if beyond < width else width
    cut = 0.5 * per * bent * bent + (beyond - bent)
    return cut if x > 0.0 else -cut


@njit(cache=True, nogil=True, error_model="numpy")
def _integral(x: float, ceiling: float, width: float, per: float) -> float:
    beyond = _beyond(x, ceiling, width)
    bent = beyond if beyond < width else width
    over = beyond - bent
    return SIXTH * per * bent * bent * bent + 0.5 * over * (over + bent)


@njit(cache=True, nogil=True, error_model="numpy")
def _share(x: float, ceiling: float, width: float, per: float) -> float:
    """Return the share of x, 0 or more, that is cut off."""
    off = _taken(x, ceiling, width, per)
    return off / x if off > 0.0 else 0.0


@njit(cache=True, nogil=True, error_model="numpy")
def taken(x: float, ceiling: float, width: float) -> float:
    """Return x - f(x) for an f that bends over a width around the ceiling and stays below it.

    f is x up to ceiling - width / 2, the ceiling from ceiling + width / 2 on, and a parabola
    between them. width: 0 (hard) to 2 * ceiling.
    """
    return float(_taken(x, ceiling, width, _per(width)))


@njit(cache=True, nogil=True, error_model="numpy")
def taken_integral(x: float, ceiling: float, width: float) -> float:
    """Return the integral of `taken` from 0 to x (even in x)."""
    return float(_integral(x, ceiling, width, _per(width)))


@njit(cache=True, nogil=True, error_model="numpy")
def _clip(cut: Sound, line: Sound, factor: int, top: float, width: float, whole: Vector) -> None:
    """Fill cut (n,) with what is taken from line (1 + n,), without branches.

    The mean between two values is what the integral gains over the step; over a short step, the
    value at its middle. whole: (1 + n,) or more, for the integral.
    """
    per, near = _per(width), NEAR * top
    before, now = line[:-1], line[1:]
    if factor == 1:
        for i in range(len(cut)):
            cut[i] = _taken(now[i], top, width, per)
        return
    for i in range(len(line)):
        whole[i] = _integral(line[i], top, width, per)
    for i in range(len(cut)):
        a, b = before[i], now[i]
        step = b - a
        middle = _taken(0.5 * (a + b), top, width, per)
        cut[i] = (whole[i + 1] - whole[i]) / step if abs(step) > near else middle


@njit(cache=True, nogil=True, error_model="numpy")
def _peaks(line: Sound, factor: int) -> Vector:
    """Return the greatest amplitude of each `factor` values (a power of 2), pair by pair."""
    if factor == 1:
        return np.abs(line)
    sizes = line
    while factor > 1:
        pairs = np.empty(len(sizes) // 2)
        for i in range(len(pairs)):
            pairs[i] = max(abs(sizes[2 * i]), abs(sizes[2 * i + 1]))
        sizes, factor = pairs, factor // 2
    return sizes


@njit(cache=True, nogil=True, error_model="numpy")
def clip_lines(
    lines: Sound,
    cut: Sound,
    share: Sound,
    factor: int,
    start: int,
    ceiling: Vector,
    d_ceiling: Vector,
    shape: Vector,
) -> None:
    """Fill the last columns of cut with what is taken from lines (channels, 1 + factor * frames).

    share: (channels, more + frames), whose last columns get the share of each frame's greatest
    value that is cut off. ceiling (amplitude), d_ceiling and shape (0 round to 1 hard): per grid
    point; start: timeline frame of the block. In antiderivative form, half a step late, for factors
    over 1.
    """
    channels, frames = lines.shape[0], (lines.shape[1] - 1) // factor
    ahead, before = cut.shape[1] - factor * frames, share.shape[1] - frames
    whole = np.empty(factor * GRID + 1)
    for channel in range(channels):
        sizes, off = _peaks(lines[channel, 1:], factor), share[channel, before:]
        at, k, offset = 0, 0, start % GRID
        while at < frames:
            n = min(GRID - offset, frames - at)
            soft = 1.0 - min(max(shape[k], 0.0), 1.0)
            line = lines[channel, factor * at : factor * (at + n) + 1]
            found = cut[channel, ahead + factor * at : ahead + factor * (at + n)]
            top, d_top = ceiling[k] + d_ceiling[k] * offset, d_ceiling[k]
            size, mine = sizes[at : at + n], off[at : at + n]
            greatest = max(abs(line[0]), o.greatest(size))
            if greatest <= min(top, top + d_top * n) * (1.0 - soft):
                found[:] = 0.0
                mine[:] = 0.0
            elif d_top == 0.0:
                width, per = 2.0 * top * soft, _per(2.0 * top * soft)
                _clip(found, line, factor, top, width, whole)
                for i in range(n):
                    mine[i] = _share(size[i], top, width, per)
            else:
                for i in range(n):
                    now, first = top + d_top * i, factor * i
                    width, per = 2.0 * now * soft, _per(2.0 * now * soft)
                    _clip(
                        found[first : first + factor],
                        line[first : first + factor + 1],
                        factor,
                        now,
                        width,
                        whole,
                    )
                    mine[i] = _share(size[i], now, width, per)
            at += n
            offset = 0
            k += 1


def clipper_state(channels: int) -> State:
    """Return the cold state of `clip_block`, to be held in a processor's own."""
    state = State(
        past=np.zeros((channels, o.LATENCY)),
        share=np.zeros((channels, o.DOWN)),
        reported=np.zeros((3, channels)),
    )
    state.update(o.shaping_state(channels))
    return state


@njit(cache=True, nogil=True, error_model="numpy")
def clip_block(
    dry: Sound,
    band: Sound,
    start: int,
    ceiling: Vector,
    d_ceiling: Vector,
    shape: Vector,
    hold: bool,
    sides: bool,
    spared: int,
    past: Sound,
    kept: Sound,
    reported: Sound,
    factor: int,
    rise: o.Rows,
    rise_weights: Sound,
    fall: o.Rows,
    fall_weights: Sound,
    was: Vector,
    last: Sound,
    up: Sound,
    down: Sound,
) -> tuple[Sound, Sound]:
    """Return a block o.LATENCY frames late without what is cut off band, and its cells.

    dry, band: (frames, channels). start: timeline frame; ceiling (amplitude), d_ceiling, shape: per
    grid point. hold: clip to the ceiling once it is told. sides: middle and side are made left and
    right. spared: channel that keeps what is cut off, or -1. past, kept, told: `past`, `share` and
    `told` of `clipper_state`, changed. The others: `o.given`. The cells, (3, cells, channels): dB
    cut off at most, share of the frames touched, dB over the ceiling at most.
    """
    tables = (factor, rise, rise_weights, fall, fall_weights)
    memory = (was, last, up, down)
    frames, channels = dry.shape
    share, late = np.empty((channels, o.DOWN + frames)), np.empty((channels, o.LATENCY + frames))
    for channel in range(channels):
        share[channel, : o.DOWN], late[channel, : o.LATENCY] = kept[channel], past[channel]
        for i in range(frames):
            late[channel, o.LATENCY + i] = dry[i, channel]
        past[channel] = late[channel, frames:]
    lines = late[:, :frames]
    bends_at = np.inf
    for k in range(len(shape)):
        least = min(ceiling[k], ceiling[k] + GRID * d_ceiling[k])
        bends_at = min(bends_at, least * max(shape[k], 0.0))
    if o.idle(band, bends_at / o.BOUND, memory):
        o.pass_by(band, tables, memory)
        share[:, o.DOWN :] = 0.0
    else:
        risen = o.rise(band, tables, memory)
        cut = o.room(risen.shape[1] - 1, tables, memory)
        clip_lines(risen, cut, share, factor, start, ceiling, d_ceiling, shape)
        taken = o.fall_lines(cut, tables, memory)
        for channel in range(channels):
            if channel == spared:
                share[channel, o.DOWN :] = 0.0
                continue
            line, off = lines[channel], taken[channel, 1:]
            for i in range(frames):
                line[i] -= off[i]
    if sides:
        left, right = lines[0], lines[1]
        for i in range(frames):
            left[i], right[i] = left[i] + right[i], left[i] - right[i]
    cells, done = np.empty((3, frames // GRID + 1, channels)), 0
    out = np.empty((frames, channels))
    for channel in range(channels):
        kept[channel] = share[channel, frames:]
        done = _notify_into(
            cells[:, :, channel],
            lines[channel],
            share[channel],
            start,
            ceiling,
            d_ceiling,
            hold,
            reported[:, channel],
        )
        for i in range(frames):
            out[i, channel] = lines[channel, i]
    return out, cells[:, :done]


@njit(cache=True, nogil=True, error_model="numpy")
def _notify_into(
    cells: Sound,
    line: Vector,
    share: Vector,
    start: int,
    ceiling: Vector,
    d_ceiling: Vector,
    hold: bool,
    reported: Vector,
) -> int:
    """Fill cells (3, cells) with what 64 frames of a line come to; return how many cells end.

    share: of these frames, and of more. told: (3,), the running cell: its greatest share, frames
    touched, greatest value over the ceiling.
    """
    most, count, over = reported
    at, done, k, moved, inside = 0, 0, 0, start % GRID, (start - o.LATENCY) % GRID
    while at < len(line):
        n = min(GRID - moved, GRID - inside, len(line) - at)
        top, d_top, touched = ceiling[k] + d_ceiling[k] * moved, d_ceiling[k], 0
        shares, values = share[at : at + n], line[at : at + n]
        for i in range(n):
            touched += shares[i] > 0.0
        most, count = max(most, o.greatest(shares)), count + touched
        if d_top == 0.0:
            over = max(over, o.greatest(values) / top)
        else:
            for i in range(n):
                over = max(over, abs(values[i]) / (top + d_top * i))
        if hold:
            for i in range(n):
                now = top + d_top * i
                values[i] = min(max(values[i], -now), now)
        at, moved, inside = at + n, moved + n, inside + n
        if moved == GRID:
            moved = 0
            k += 1
        if inside == GRID:
            cells[0, done] = -20.0 * math.log10(1.0 - most)
            cells[1, done] = count / GRID
            cells[2, done] = 20.0 * math.log10(max(over, 1.0))
            most, count, over = 0.0, 0.0, 0.0
            inside = 0
            done += 1
    reported[0], reported[1], reported[2] = most, count, over
    return done
