"""Clipping: what a bent or hard ceiling takes away, as it is or in antiderivative form."""

import math

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp.control_ramp import Vector, along_into
from salt_anvil.core.dsp.line import copy_into
from salt_anvil.core.dsp.maxima import greatest
from salt_anvil.core.state import State

SIXTH = 1.0 / 6.0
NEAR = 1e-7
"""Steps smaller than this, of the ceiling, are shaped at their middle instead of divided by."""


@inlined
def _per(width: float) -> float:
    return 1.0 / width if width > 0.0 else 0.0


@inlined
def _beyond(x: float, ceiling: float, width: float) -> float:
    over = abs(x) - (ceiling - 0.5 * width)
    return over if over > 0.0 else 0.0


@inlined
def _taken(x: float, ceiling: float, width: float, per: float) -> float:
    beyond = _beyond(x, ceiling, width)
    bent = beyond if beyond < width else width
    cut = 0.5 * per * bent * bent + (beyond - bent)
    return cut if x > 0.0 else -cut


@inlined
def _integral(x: float, ceiling: float, width: float, per: float) -> float:
    beyond = _beyond(x, ceiling, width)
    bent = beyond if beyond < width else width
    over = beyond - bent
    return SIXTH * per * bent * bent * bent + 0.5 * over * (over + bent)


@inlined
def _share(x: float, ceiling: float, width: float, per: float) -> float:
    """Return the share of x, 0 or more, that is cut off."""
    off = _taken(x, ceiling, width, per)
    return off / x if off > 0.0 else 0.0


@kernel
def taken(x: float, ceiling: float, width: float) -> float:
    """Return x - f(x) for an f that bends over a width around the ceiling and stays below it.

    f is x up to ceiling - width / 2, the ceiling from ceiling + width / 2 on, and a parabola
    between them. width: 0 (hard) to 2 * ceiling.
    """
    return float(_taken(x, ceiling, width, _per(width)))


@kernel
def taken_integral(x: float, ceiling: float, width: float) -> float:
    """Return the integral of `taken` from 0 to x (even in x)."""
    return float(_integral(x, ceiling, width, _per(width)))


@inlined
def _cut_rows(
    room: Vector, tables: o.Tables, n: int, top: Vector, soft: Vector, share: Vector
) -> None:
    """Leave in `o.taken` what is cut off `o.raised`, without branches.

    The mean between two values is what the integral gains over the step; over a short step, the
    value at its middle. top, soft: (n,), ceiling and how round; share: (n,), filled with the share
    of each frame's greatest value that is cut off.
    """
    factor = tables[0]
    sizes, width, per, whole = np.zeros(n), np.empty(n), np.empty(n), np.empty((2, n))
    before = o.raised(room, tables, -1, n)
    for i in range(n):
        width[i] = 2.0 * top[i] * soft[i]
        per[i] = _per(width[i])
        whole[0, i] = _integral(before[i], top[i], width[i], per[i])
    for p in range(factor):
        now, cut = o.raised(room, tables, p, n), o.taken(room, tables, p, n)
        for i in range(n):
            sizes[i] = max(sizes[i], abs(now[i]))
        if factor == 1:
            for i in range(n):
                cut[i] = _taken(now[i], top[i], width[i], per[i])
            continue
        old, new = whole[p % 2], whole[(p + 1) % 2]
        for i in range(n):
            new[i] = _integral(now[i], top[i], width[i], per[i])
        for i in range(n):
            a, b = before[i], now[i]
            step = b - a
            middle = _taken(0.5 * (a + b), top[i], width[i], per[i])
            cut[i] = (new[i] - old[i]) / step if abs(step) > NEAR * top[i] else middle
        before = now
    for i in range(n):
        share[i] = _share(sizes[i], top[i], width[i], per[i])


@inlined
def _cut_into(
    out: Sound,
    share: Sound,
    first: int,
    sound: Sound,
    start: int,
    ceiling: Vector,
    d_ceiling: Vector,
    shape: Vector,
    tables: o.Tables,
    memory: o.Kept,
) -> None:
    """Fill out (channels, frames) with what is cut off a sound (frames, channels), o.LATENCY frames
    late, and share, likewise from `first` on, with the share of each frame, o.UP frames late, that
    is."""
    room, tops, softs = o.room_for(tables), np.empty(o.CHUNK), np.empty(o.CHUNK)
    still = np.zeros(len(shape))
    for at in range(0, len(sound), o.CHUNK):
        block = sound[at : at + o.CHUNK]
        n, k = len(block), (start % GRID + at) // GRID
        top, soft = tops[:n], softs[:n]
        along_into(top, ceiling[k:], d_ceiling[k:], start + at)
        along_into(soft, shape[k:], still, start + at)
        bends_at = np.inf
        for i in range(n):
            soft[i] = 1.0 - min(max(soft[i], 0.0), 1.0)
            bends_at = min(bends_at, top[i] * (1.0 - soft[i]))
        for lane in range(sound.shape[1]):
            cut, mine = out[lane, at : at + n], share[lane, first + at : first + at + n]
            if o.idle(block, bends_at / o.BOUND, lane, tables, memory):
                cut[:] = 0.0
                mine[:] = 0.0
                continue
            o.rise(room, block, lane, tables, memory)
            _cut_rows(room, tables, n, top, soft, mine)
            copy_into(cut, o.fall(room, n, lane, tables, memory))


@kernel
def cut_block(
    sound: Sound,
    start: int,
    ceiling: Vector,
    d_ceiling: Vector,
    shape: Vector,
    factor: int,
    stages: o.Ints,
    pairs: o.Ints,
    places: o.Ints,
    weights: Sound,
    was: Vector,
    frames: Sound,
    past: Sound,
    last: Sound,
) -> Sound:
    """Return what is cut off a block (frames, channels), o.LATENCY frames late.

    start: timeline frame; ceiling (amplitude), d_ceiling, shape: per grid point; the others:
    `o.given`.
    """
    tables, memory = (factor, stages, pairs, places, weights), (was, frames, past, last)
    cut, share = np.empty(sound.T.shape), np.empty(sound.T.shape)
    _cut_into(cut, share, 0, sound, start, ceiling, d_ceiling, shape, tables, memory)
    return cut.T


def clipper_state(channels: int) -> State:
    """Return the cold state of `clip_block`, to be held in a processor's own."""
    state = State(
        past=np.zeros((channels, o.LATENCY)),
        share=np.zeros((channels, o.DOWN)),
        reported=np.zeros((3, channels)),
    )
    state.update(o.shaping_state(channels))
    return state


@kernel
def clip_block(
    dry: Sound,
    band: Sound,
    start: int,
    ceiling: Vector,
    d_ceiling: Vector,
    shape: Vector,
    sides: bool,
    spared: int,
    past: Sound,
    kept: Sound,
    reported: Sound,
    factor: int,
    stages: o.Ints,
    pairs: o.Ints,
    places: o.Ints,
    weights: Sound,
    was: Vector,
    known: Sound,
    ahead: Sound,
    last: Sound,
) -> tuple[Sound, Sound]:
    """Return a block o.LATENCY frames late without what is cut off band, and its cells.

    dry, band: (frames, channels). start: timeline frame; ceiling (amplitude), d_ceiling, shape: per
    grid point. sides: middle and side are made left and
    right. spared: channel that keeps what is cut off, or -1. past, kept, told: `past`, `share` and
    `told` of `clipper_state`, changed. The others: `o.given`. The cells, (3, cells, channels): dB
    cut off at most, share of the frames touched, dB over the ceiling at most.
    """
    tables, memory = (factor, stages, pairs, places, weights), (was, known, ahead, last)
    frames, channels = dry.shape
    share, late = np.empty((channels, o.DOWN + frames)), np.empty((channels, o.LATENCY + frames))
    for channel in range(channels):
        copy_into(share[channel, : o.DOWN], kept[channel])
        copy_into(late[channel, : o.LATENCY], past[channel])
        for i in range(frames):
            late[channel, o.LATENCY + i] = dry[i, channel]
        copy_into(past[channel], late[channel, frames:])
    lines, taken = late[:, :frames], np.empty((channels, frames))
    _cut_into(taken, share, o.DOWN, band, start, ceiling, d_ceiling, shape, tables, memory)
    for channel in range(channels):
        if channel == spared:
            share[channel, o.DOWN :] = 0.0
            continue
        line, off = lines[channel], taken[channel]
        for i in range(frames):
            line[i] -= off[i]
    if sides:
        left, right = lines[0], lines[1]
        for i in range(frames):
            left[i], right[i] = left[i] + right[i], left[i] - right[i]
    cells, done = np.empty((3, frames // GRID + 1, channels)), 0
    out = np.empty((frames, channels))
    for channel in range(channels):
        copy_into(kept[channel], share[channel, frames:])
        done = _notify_into(
            cells[:, :, channel],
            lines[channel],
            share[channel],
            start,
            ceiling,
            d_ceiling,
            reported[:, channel],
        )
        for i in range(frames):
            out[i, channel] = lines[channel, i]
    return out, cells[:, :done]


@inlined
def _notify_into(
    cells: Sound,
    line: Vector,
    share: Vector,
    start: int,
    ceiling: Vector,
    d_ceiling: Vector,
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
        most, count = max(most, greatest(shares)), count + touched
        if d_top == 0.0:
            over = max(over, greatest(values) / top)
        else:
            for i in range(n):
                over = max(over, abs(values[i]) / (top + d_top * i))
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
