"""A dense room: eight channels through five stages of diffusion, and eight lines that feed each
other.

Feedback delay network after Jot and Chaigne, AES 90th Convention, 1991 (from memory): an orthogonal
matrix keeps the energy, a gain and a low pass in every line make it decay. Before it, each stage
delays the channels by different times and mixes them (the same matrix), so that a click becomes
8^5 echoes; their gains fall with time as those of the lines do, so the whole decays as one.
"""

import math

import numpy as np

from salt_anvil.core.audio import GRID, TINY, Sound
from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.grid import grid_cells

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


@inlined
def _write(ring: Vector, row: Vector, n: int, write: int) -> None:
    straight = min(n, len(ring) - write)
    part = ring[write : write + straight]
    for i in range(straight):
        part[i] = row[i]
    for i in range(straight, n):
        ring[i - straight] = row[i]


@inlined
def _read(
    row: Vector,
    ring: Vector,
    n: int,
    write: int,
    span: float,
    d_span: float,
    gain: float,
    d_gain: float,
) -> None:
    """Fill row with what was written `span` frames before each frame, times a gain."""
    size = len(ring)
    if d_span == 0.0:
        first = (write - int(span)) % size
        straight = min(n, size - first)
        part = ring[first : first + straight]
        for i in range(straight):
            row[i] = (gain + d_gain * i) * part[i]
        for i in range(straight, n):
            row[i] = (gain + d_gain * i) * ring[i - straight]
        return
    for i in range(n):
        there = span + d_span * i
        whole = int(there)
        at = (write + i - whole) % size
        before = (at - 1) % size
        row[i] = (gain + d_gain * i) * (ring[at] + (there - whole) * (ring[before] - ring[at]))


@inlined
def _mix(rows: Sound, n: int) -> None:
    """Multiply eight rows by the Hadamard matrix (Walsh's fast form), EVEN short of orthogonal."""
    for half in (4, 2, 1):
        for first in range(0, LINES, 2 * half):
            for one in range(first, first + half):
                a, b = rows[one], rows[one + half]
                for i in range(n):
                    total, apart = a[i] + b[i], a[i] - b[i]
                    a[i], b[i] = total, apart


@inlined
def _damp(rows: Sound, n: int, poles: Vector, last: Vector) -> None:
    """Run a one-pole low pass over each row, all at once: none waits for another."""
    for i in range(n):
        for c in range(LINES):
            x = rows[c, i]
            y = x + poles[c] * (last[c] - x)
            rows[c, i] = last[c] = y
    for c in range(LINES):
        last[c] = last[c] if abs(last[c]) > TINY else 0.0


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


@inlined
def _add_sides(out: Sound, at: int, rows: Sound, n: int, left: Vector, right: Vector) -> None:
    """Add the rows to what is heard: even ones left, odd ones right, with alternating signs."""
    for i in range(n):
        left[i] = rows[0, i] + rows[2, i] - rows[4, i] - rows[6, i]
        right[i] = rows[1, i] - rows[3, i] + rows[5, i] - rows[7, i]
    ours = out[at:]
    if out.shape[1] == 2:
        for i in range(n):
            ours[i, 0] += LEVEL * left[i]
            ours[i, 1] += LEVEL * right[i]
    else:
        for i in range(n):
            ours[i, 0] += LEVEL * (left[i] + right[i]) * 0.7071067811865476


@kernel
def room_into(
    out: Sound,
    sound: Sound,
    start: int,
    value: Vector,
    step: Vector,
    stages: Sound,
    lines: Sound,
    damped: Vector,
    at: Sound,
) -> None:
    """Fill out (frames, channels) with the room alone.

    start: timeline frame of sound[0]; value, step: (grid points, CONTROLS). stages: (STAGES, LINES,
    longest) rings, lines: (LINES, longest), of which `rings` frames are used; damped: (LINES,);
    at: (2, STAGES + 1), where the rings are written, and those frames; changed.
    """
    frames, channels = sound.shape
    rows, back = np.empty((LINES, GRID)), np.empty((LINES, GRID))
    left, right = np.empty(GRID), np.empty(GRID)
    gain, d_gain = np.empty(CONTROLS - SPANS), np.empty(CONTROLS - SPANS)
    poles, known = np.empty(LINES), np.full(CONTROLS, np.nan)
    out[:] = 0.0
    for done, n, k, offset in grid_cells(start, frames):
        v, s = value[k], step[k]
        if not _stands(v, s, known):
            _fall_into(gain, d_gain, v, s)
            _poles_into(poles, v, s, offset)
            for c in range(CONTROLS):
                known[c] = v[c] if s[c] == 0.0 else np.nan
        for c in range(LINES):
            row, given, side = rows[c], sound[done:], c % channels
            for i in range(n):
                row[i] = given[i, side]
        for stage in range(STAGES):
            for c in range(LINES):
                ring, one = stages[stage, c][: int(at[1, stage])], stage * LINES + c
                write = int(at[0, stage])
                _write(ring, rows[c], n, write)
                span = v[SPANS + one] + s[SPANS + one] * offset
                turned = EVEN * SIGNS[c] if stage > 0 else 1.0
                _read(
                    rows[c],
                    ring,
                    n,
                    write,
                    span,
                    s[SPANS + one],
                    turned * (gain[one] + d_gain[one] * offset),
                    turned * d_gain[one],
                )
            _mix(rows, n)
        for c in range(LINES):
            row, turned = rows[c], EVEN * SIGNS[c]
            for i in range(n):
                row[i] *= turned
        _add_sides(out, done, rows, n, left, right)
        late = int(at[0, STAGES])
        for c in range(LINES):
            one = STAGES * LINES + c
            span = v[SPANS + one] + s[SPANS + one] * offset
            here = gain[one] + d_gain[one] * offset
            _read(back[c], lines[c], n, late, span, s[SPANS + one], here, d_gain[one])
        if poles[0] > 0.0:
            _damp(back, n, poles, damped)
        _add_sides(out, done, back, n, left, right)
        _mix(back, n)
        for c in range(LINES):
            fed, row = back[c], rows[c]
            for i in range(n):
                both = EVEN * fed[i] + row[i]
                fed[i] = both if abs(both) > TINY else 0.0
            _write(lines[c], fed, n, late)
        for ring in range(STAGES + 1):
            at[0, ring] = (at[0, ring] + n) % at[1, ring]
