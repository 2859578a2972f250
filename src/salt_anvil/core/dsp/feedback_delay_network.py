"""A dense room: eight channels through five stages of diffusion, and eight lines that feed each
other.

Feedback delay network after Jot and Chaigne, AES 90th Convention, 1991 (from memory): an orthogonal
matrix keeps the energy, a gain and a low pass in every line make it decay. Before it, each stage
delays the channels by different times and mixes them (the same matrix), so that a click becomes
8^5 echoes; their gains fall with time as those of the lines do, so the whole decays as one.

All of it is float32, half of what float64 has to fetch: nothing that is heard goes through it but
the echoes, and its error is 135 dB below them.
"""

import math

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.compiled import as_written, inlined, kernel
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.grid import grid_cells
from salt_anvil.core.dsp.maxima import Line

LINES = 8
LENGTHS_MS = np.array([24.3, 30.1, 36.7, 43.9, 50.1, 57.3, 64.9, 73.7])
"""Of the lines at size 1; no two have a short common multiple. Common practice, no source."""
STAGES_MS = np.array(
    [
        [0.5, 0.72, 0.9, 1.39, 0.33, 0.06, 1.27, 1.05],
        [1.38, 1.74, 0.89, 2.46, 2.17, 2.69, 0.04, 0.56],
        [0.72, 6.78, 2.52, 3.94, 5.8, 3.32, 4.87, 1.34],
        [13.11, 8.24, 0.4, 6.15, 2.42, 11.59, 4.2, 9.01],
        [12.68, 15.64, 23.78, 18.06, 2.86, 4.47, 27.64, 7.91],
    ]
)
"""Delays of the stages at size 1: one in each eighth of 1.5, 3, 7, 14 and 28 ms, chosen of 3000
at random for the densest echoes from 40 ms on."""
STAGES = len(STAGES_MS)
EVEN = 1 / math.sqrt(LINES)
NEPER = math.log(10) / 20
SIGNS = np.array([1.0, -1.0, -1.0, 1.0, 1.0, 1.0, -1.0, 1.0])
"""Of the channels behind each stage, so that the next does not undo it."""
SMALLER = (1.0, 0.1)
"""How far stages and lines follow a size below 1: the first echoes come sooner, but what rings long
needs many modes, however small the room is."""
LARGER = (0.6, 0.6)
"""And a size above 1, so far that the echoes are dense from 40 ms on."""
MOST_SIZE = 2.0
MOST_PREDELAY_MS = 100.0
LEVEL = 0.525
"""Makes the room about as loud as what goes in, at its default settings."""
MONO_LEVEL = LEVEL * math.sqrt(0.5)
FAINT, LOUD = 1e-30, 1e30
"""What is below the one costs float32 a hundred times as much; over the other it holds no sum."""
EVEN32, FAINT32, NOTHING = (np.float32(x) for x in (EVEN, FAINT, 0))
Lines = NDArray[np.float32]
# Columns of the control vector: decay per frame in dB, the damping's share, the stages' lengths and
# the lines' in whole frames, which are read between frames only while they glide.
FALL, DAMP, SPANS = range(3)
CONTROLS = SPANS + (STAGES + 1) * LINES


def lengths(size: float, rate: int) -> Vector:
    """Return the lengths of all stages, then of the lines, in frames."""
    stage, line = (1 + follows * (size - 1) for follows in (SMALLER if size < 1 else LARGER))
    every = np.concatenate([STAGES_MS.ravel() * stage, LENGTHS_MS * line])
    return np.maximum(np.round(every * rate / 1000), 1.0)


def rings(rate: int) -> list[int]:
    """Return the frames that each stage, and then the lines, have to hold."""
    most = lengths(MOST_SIZE, rate).reshape(STAGES + 1, LINES)
    return [int(row.max()) + GRID + 2 for row in most]


# Rows are not handed over as parts of their arrays: to count who holds a part costs as much as to
# work on it.
@inlined
def _enter_into(rows: Lines, sound: Sound, at: int, n: int) -> None:
    """Fill the rows with the channels of a cell in turn, as float32 holds them."""
    first, channels = max(at, 0), sound.shape[1]
    for c in range(channels):
        for i in range(n):
            x = min(max(sound[first + i, c], -LOUD), LOUD)
            rows[c, i] = x if abs(x) > FAINT else 0.0
    for c in range(channels, LINES):
        for i in range(n):
            rows[c, i] = rows[c - channels, i]


@inlined
def _write(rings: Lines, one: int, size: int, write: int, rows: Lines, c: int, n: int) -> None:
    """Write a row to a ring, of which so many frames are used."""
    first, straight = max(write, 0), min(n, size - write)
    for i in range(straight):
        rings[one, first + i] = rows[c, i]
    for i in range(n - straight):
        rings[one, i] = rows[c, max(straight, 0) + i]


@as_written
def _times(
    rows: Lines,
    c: int,
    at: int,
    rings: Lines,
    one: int,
    there: int,
    n: int,
    gain: float,
    step: float,
) -> None:
    """Fill a part of a row with a part of a ring, times a gain."""
    here, d_here, to, first = np.float32(gain), np.float32(step), max(at, 0), max(there, 0)
    if step == 0.0:
        for i in range(n):
            rows[c, to + i] = here * rings[one, first + i]
        return
    for i in range(n):
        rows[c, to + i] = (here + d_here * np.float32(i)) * rings[one, first + i]


@as_written
def _read(
    rows: Lines,
    c: int,
    rings: Lines,
    one: int,
    size: int,
    write: int,
    n: int,
    span: tuple[float, float],
    gain: tuple[float, float],
) -> None:
    """Fill a row with what was written `span` frames before each frame, times a gain; both with
    their steps a frame."""
    if span[1] == 0.0:
        first = write - int(span[0])
        first += size if first < 0 else 0
        straight = min(n, size - first)
        _times(rows, c, 0, rings, one, first, straight, gain[0], gain[1])
        onward = gain[0] + gain[1] * straight
        _times(rows, c, straight, rings, one, 0, n - straight, onward, gain[1])
        return
    here, d_here = np.float32(gain[0]), np.float32(gain[1])
    for i in range(n):
        there = span[0] + span[1] * i
        whole = int(there)
        at = (write + i - whole) % size
        near, far = rings[one, at], rings[one, (at - 1) % size]
        between = near + np.float32(there - whole) * (far - near)
        rows[c, i] = (here + d_here * np.float32(i)) * between


@as_written
def _mix(rows: Lines, n: int) -> None:
    """Multiply eight rows by the Hadamard matrix (Walsh's fast form), EVEN short of orthogonal."""
    for i in range(n):
        # All three turns at once: to fetch and to put back costs more than to add.
        a, b, c, d = rows[0, i], rows[1, i], rows[2, i], rows[3, i]
        e, f, g, h = rows[4, i], rows[5, i], rows[6, i], rows[7, i]
        ae, be, ce, de = a + e, b + f, c + g, d + h
        ea, eb, ec, ed = a - e, b - f, c - g, d - h
        a0, b0, a1, b1 = ae + ce, be + de, ae - ce, be - de
        e0, f0, e1, f1 = ea + ec, eb + ed, ea - ec, eb - ed
        rows[0, i], rows[1, i], rows[2, i], rows[3, i] = a0 + b0, a0 - b0, a1 + b1, a1 - b1
        rows[4, i], rows[5, i], rows[6, i], rows[7, i] = e0 + f0, e0 - f0, e1 + f1, e1 - f1


@as_written
def _damp(rows: Lines, n: int, poles: Vector, last: Line) -> None:
    """Run a one-pole low pass over each row, all at once: none waits for another."""
    own = poles.astype(np.float32)
    for i in range(n):
        for c in range(LINES):
            x = rows[c, i]
            y = x + own[c] * (last[c] - x)
            rows[c, i] = last[c] = y
    for c in range(LINES):
        last[c] = last[c] if abs(last[c]) > FAINT else 0.0


@inlined
def _fall_into(gain: Vector, d_gain: Vector, v: Vector, s: Vector) -> None:
    """Fill in what every length loses at the beginning of a cell, and how that moves a frame."""
    for one in range(CONTROLS - SPANS):
        # At the ends of the cell; dB to amplitude.
        span, d_span = v[SPANS + one], s[SPANS + one]
        here = there = math.exp(-NEPER * v[FALL] * span)
        if s[FALL] != 0.0 or d_span != 0.0:
            there = math.exp(-NEPER * (v[FALL] + s[FALL] * GRID) * (span + d_span * GRID))
        gain[one], d_gain[one] = here, (there - here) / GRID


@inlined
def _poles_into(poles: Vector, v: Vector, s: Vector, offset: int) -> None:
    """Fill in the lines' low passes: a longer line loses more of its top, so that all of them lose
    it in the same time."""
    mean = 0.0
    for one in range(STAGES * LINES, CONTROLS - SPANS):
        mean += (v[SPANS + one] + s[SPANS + one] * offset) / LINES
    pole = 1.0 - (v[DAMP] + s[DAMP] * offset)
    loss = math.atanh(min(max(pole, 0.0), 0.9999))
    for c in range(LINES):
        one = SPANS + STAGES * LINES + c
        poles[c] = math.tanh(loss * (v[one] + s[one] * offset) / mean)


@inlined
def _stands(v: Vector, s: Vector, known: Vector) -> bool:
    """Say whether a cell's controls stand as they are known."""
    moved = 0
    for c in range(CONTROLS):
        moved += 1 if v[c] != known[c] or s[c] != 0.0 else 0
    return moved == 0


@as_written
def _sides_into(sides: Lines, rows: Lines, back: Lines, n: int) -> None:
    """Fill in what is heard of both: even rows left, odd ones right, with alternating signs."""
    for i in range(n):
        sides[0, i] = rows[0, i] + rows[2, i] - rows[4, i] - rows[6, i]
        sides[0, i] += back[0, i] + back[2, i] - back[4, i] - back[6, i]
        sides[1, i] = rows[1, i] - rows[3, i] + rows[5, i] - rows[7, i]
        sides[1, i] += back[1, i] - back[3, i] + back[5, i] - back[7, i]


@inlined
def _out_of(out: Sound, at: int, sides: Lines, n: int) -> None:
    first = max(at, 0)
    if out.shape[1] == 2:
        for i in range(n):
            out[first + i, 0], out[first + i, 1] = LEVEL * sides[0, i], LEVEL * sides[1, i]
    else:
        for i in range(n):
            out[first + i, 0] = MONO_LEVEL * (float(sides[0, i]) + float(sides[1, i]))


@as_written
def _fed_into(fed: Lines, rows: Lines, c: int, n: int) -> None:
    """Fill in what goes into a line: what came out of all, and what is new."""
    for i in range(n):
        both = EVEN32 * fed[c, i] + rows[c, i]
        fed[c, i] = both if abs(both) > FAINT32 else NOTHING


@as_written
def _turn(rows: Lines, c: int, n: int, turned: float) -> None:
    for i in range(n):
        rows[c, i] = np.float32(turned) * rows[c, i]


@kernel
def room_into(
    out: Sound,
    sound: Sound,
    start: int,
    value: Vector,
    step: Vector,
    stages: Lines,
    lines: Lines,
    damped: Line,
    at: Sound,
) -> None:
    """Fill out (frames, channels) with the room alone.

    start: timeline frame of sound[0]; value, step: (grid points, CONTROLS). stages: (STAGES *
    LINES, longest) rings, lines: (LINES, longest), of which `rings` frames are used; damped:
    (LINES,); at: (2, STAGES + 1), where the rings are written, and those frames; changed.
    """
    frames = len(sound)
    rows, back = np.empty((LINES, GRID), np.float32), np.empty((LINES, GRID), np.float32)
    sides = np.empty((2, GRID), np.float32)
    gain, d_gain = np.empty(CONTROLS - SPANS), np.empty(CONTROLS - SPANS)
    poles, known = np.empty(LINES), np.full(CONTROLS, np.nan)
    for done, n, k, offset in grid_cells(start, frames):
        v, s = value[k], step[k]
        if not _stands(v, s, known):
            _fall_into(gain, d_gain, v, s)
            _poles_into(poles, v, s, offset)
            for c in range(CONTROLS):
                known[c] = v[c] if s[c] == 0.0 else np.nan
        _enter_into(rows, sound, done, n)
        for stage in range(STAGES):
            write, size = int(at[0, stage]), int(at[1, stage])
            for c in range(LINES):
                one = stage * LINES + c
                _write(stages, one, size, write, rows, c, n)
                span = v[SPANS + one] + s[SPANS + one] * offset, s[SPANS + one]
                turned = EVEN * SIGNS[c] if stage > 0 else 1.0
                falls = turned * (gain[one] + d_gain[one] * offset), turned * d_gain[one]
                _read(rows, c, stages, one, size, write, n, span, falls)
            _mix(rows, n)
        for c in range(LINES):
            _turn(rows, c, n, EVEN * SIGNS[c])
        late, size = int(at[0, STAGES]), int(at[1, STAGES])
        for c in range(LINES):
            one = STAGES * LINES + c
            span = v[SPANS + one] + s[SPANS + one] * offset, s[SPANS + one]
            falls = gain[one] + d_gain[one] * offset, d_gain[one]
            _read(back, c, lines, c, size, late, n, span, falls)
        if poles[0] > 0.0:
            _damp(back, n, poles, damped)
        _sides_into(sides, rows, back, n)
        _out_of(out, done, sides, n)
        _mix(back, n)
        for c in range(LINES):
            _fed_into(back, rows, c, n)
            _write(lines, c, size, late, back, c, n)
        for ring in range(STAGES + 1):
            at[0, ring] = (at[0, ring] + n) % at[1, ring]
