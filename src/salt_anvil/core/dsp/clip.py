"""Clipping: what a bent or hard ceiling takes away, as it is or in antiderivative form."""

import math

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.compiled import as_written, inlined, kernel
from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp.control_ramp import Vector, along_into
from salt_anvil.core.dsp.line import copy_into
from salt_anvil.core.dsp.maxima import Line, greatest
from salt_anvil.core.state import State

SIXTH = 1.0 / 6.0
ZERO, HALF, THREE = (np.float32(x) for x in (0, 0.5, 3))


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


@as_written
def _mean_into(
    cut: Line, last: Line, now: Line, begin: Line, end: Line, round_off: Line, sizes: Line
) -> None:
    """Fill cut with the mean of what is cut off from the last values to those now; raise sizes.

    begin, end: where a bend begins and ends; round_off: 1 / (6 * (end - begin)), 0 of a corner.
    The integral gains what its parts do, the parabola's and the line's, each by how far a value
    moves inside it times a sum: what moves is the step itself, so that no step is too small.
    """
    for i in range(len(cut)):
        a, b = abs(last[i]), abs(now[i])
        sizes[i] = max(sizes[i], b)
        bent_a, bent_b = min(max(a, begin[i]), end[i]), min(max(b, begin[i]), end[i])
        over_a, over_b = max(a, end[i]), max(b, end[i])
        p, q, width = bent_a - begin[i], bent_b - begin[i], end[i] - begin[i]
        more = (over_a - end[i]) + (over_b - end[i]) + width
        gained = (bent_b - bent_a) * ((p * p + q * (p + q)) * round_off[i])
        gained += (over_b - over_a) * (HALF * more)
        at_once = THREE * q * q * round_off[i] + (over_b - end[i])
        step = now[i] - last[i]
        still = at_once if now[i] > ZERO else -at_once
        cut[i] = gained / step if step != ZERO else still


@inlined
def _cut_rows(
    room: Line,
    tables: o.Tables,
    n: int,
    top: Vector,
    soft: Vector,
    share: Vector,
    work: tuple[Line, Line, Line, Line],
) -> None:
    """Leave in `o.taken` what is cut off `o.raised`.

    top, soft: (n,), ceiling and how round; share: (n,), filled with the share of each frame's
    greatest value that is cut off; work: room for n values each.
    """
    begin, end, round_off, sizes = work
    for i in range(n):
        width = 2.0 * top[i] * soft[i]
        begin[i], end[i] = top[i] - 0.5 * width, top[i] + 0.5 * width
        round_off[i] = SIXTH * _per(width)
        sizes[i] = 0.0
    before = o.raised(room, tables, -1, n)
    for p in range(tables[0]):
        now = o.raised(room, tables, p, n)
        _mean_into(o.taken(room, tables, p, n), before, now, begin, end, round_off, sizes)
        before = now
    for i in range(n):
        width = 2.0 * top[i] * soft[i]
        share[i] = _share(float(sizes[i]), top[i], width, _per(width))


@inlined
def _cut_line(cut: Vector, line: Vector, top: Vector, soft: Vector, share: Vector) -> None:
    """Fill cut with what is cut off the values of a line themselves, share as `_cut_rows`."""
    for i in range(len(line)):
        width = 2.0 * top[i] * soft[i]
        per = _per(width)
        cut[i] = _taken(line[i], top[i], width, per)
        share[i] = _share(abs(line[i]), top[i], width, per)


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
    work = (
        np.empty(o.CHUNK, np.float32),
        np.empty(o.CHUNK, np.float32),
        np.empty(o.CHUNK, np.float32),
        np.empty(o.CHUNK, np.float32),
    )
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
            if tables[0] == 1:
                _cut_line(cut, o.held(block, lane, memory), top, soft, mine)
                copy_into(cut, o.late(cut, lane, memory))
                continue
            o.rise(room, block, lane, tables, memory)
            _cut_rows(room, tables, n, top, soft, mine, work)
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
    weights: Line,
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
    weights: Line,
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
