"""A small dense room: eight delay lines that feed each other.

Feedback delay network after Jot and Chaigne, AES 90th Convention, 1991 (from memory): an
orthogonal matrix keeps the energy, a gain and a low pass in every line make it decay.
"""

import numpy as np
from numba import njit

from salt_anvil.core.audio import TINY, Sound
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.grid import grid_cells

LINES = 8
LENGTHS_MS = np.array([9.7, 11.9, 13.1, 15.7, 17.9, 20.3, 22.7, 25.1])
"""Of the lines at size 1; no two have a short common multiple. Common practice, no source."""
DIFFUSERS_MS = np.array([1.3, 2.1, 3.7, 5.3])
DIFFUSION = 0.62
MOST_SIZE = 2.0
MOST_PREDELAY_MS = 100.0
LEVEL = 0.5
"""Makes the room about as loud as what goes in, at its default settings."""
# Columns of the control vector: decay per frame in dB, the damping's share, and the lengths in
# whole frames, which are read between frames only while they glide.
FALL, DAMP = range(2)
DIFFUSERS = 2
SPANS = DIFFUSERS + 4
CONTROLS = SPANS + LINES


def lengths(size: float, rate: int) -> Vector:
    """Return the lines' lengths in frames."""
    return np.maximum(np.round(LENGTHS_MS * size * rate / 1000), 1.0)


def longest(rate: int) -> int:
    """Return the frames that the longest line can have."""
    return int(lengths(MOST_SIZE, rate).max()) + 2


def diffusers(size: float, rate: int) -> Vector:
    """Return the lengths of the all-passes ahead of the lines, in frames."""
    return np.maximum(np.round(DIFFUSERS_MS * size * rate / 1000), 1.0)


@njit(cache=True, nogil=True, error_model="numpy")
def _behind(line: Sound, write: int, span: float) -> float:
    """Return what was written `span` frames ago."""
    size = len(line)
    whole = int(span)
    share = span - whole
    at = write - whole
    if at < 0:
        at += size
    value = float(line[at])
    if share > 0.0:
        value += share * (line[at - 1 if at > 0 else size - 1] - value)
    return value


@njit(cache=True, nogil=True, error_model="numpy")
def diffuse_into(
    out: Sound, sound: Sound, start: int, value: Vector, step: Vector, lines: Sound, at: Sound
) -> None:
    """Fill out (frames, channels) with the sound through all-passes in a row (Schroeder 1962).

    start: timeline frame of sound[0]; value, step: (grid points, CONTROLS). lines: (all-passes,
    channels, longest) rings; at: (1,), where they are written; both changed.
    """
    frames, channels = sound.shape
    count, _, size = lines.shape
    first = int(at[0])
    for channel in range(channels):
        for i in range(frames):
            out[i, channel] = sound[i, channel]
        for a in range(count):
            line, write = lines[a, channel], first
            for done, m, k, offset in grid_cells(start, frames):
                span, d_span = value[k, DIFFUSERS + a], step[k, DIFFUSERS + a]
                read = (write - int(span)) % size
                for i in range(done, done + m):
                    if d_span == 0.0:
                        kept = line[read]
                        read = read + 1 if read + 1 < size else 0
                    else:
                        kept = _behind(line, write, span + d_span * (offset + i - done))
                    x = out[i, channel] - DIFFUSION * kept
                    out[i, channel] = kept + DIFFUSION * x
                    line[write] = x if abs(x) > TINY else 0.0
                    write = write + 1 if write + 1 < size else 0
    at[0] = (first + frames) % size


@njit(cache=True, nogil=True, error_model="numpy")
def _mix(v: Vector) -> None:
    """Multiply eight values by the orthogonal Hadamard matrix (Walsh's fast form)."""
    for half in (4, 2, 1):
        for first in range(0, LINES, 2 * half):
            for n in range(first, first + half):
                a, b = v[n], v[n + half]
                v[n], v[n + half] = a + b, a - b
    for n in range(LINES):
        v[n] *= 0.35355339059327373  # 1 / sqrt(8)


@njit(cache=True, nogil=True, error_model="numpy")
def room_into(
    out: Sound,
    sound: Sound,
    start: int,
    value: Vector,
    step: Vector,
    lines: Sound,
    damped: Sound,
    at: Sound,
) -> None:
    """Fill out (frames, channels) with the room alone.

    start: timeline frame of sound[0]; value, step: (grid points, CONTROLS). lines: (LINES,
    longest) rings; damped: (LINES,); at: (1,); changed.
    """
    frames, channels = sound.shape
    size = lines.shape[1]
    write = int(at[0])
    heard, gain = np.empty(LINES), np.empty(LINES)
    read = np.empty(LINES, np.int64)
    for done, m, k, offset in grid_cells(start, frames):
        v, s = value[k], step[k]
        moving = s[FALL] != 0.0 or s[SPANS] != 0.0
        for n in range(LINES):
            read[n] = (write - int(v[SPANS + n])) % size
        for i in range(done, done + m):
            j = offset + i - done
            if i == done or moving:
                for n in range(LINES):
                    fall = (v[FALL] + s[FALL] * j) * (v[SPANS + n] + s[SPANS + n] * j)
                    gain[n] = 10.0 ** (-fall / 20.0)
            damp = v[DAMP] + s[DAMP] * j
            for n in range(LINES):
                if moving:
                    there = _behind(lines[n], write, v[SPANS + n] + s[SPANS + n] * j)
                else:
                    there = lines[n, read[n]]
                    read[n] = read[n] + 1 if read[n] + 1 < size else 0
                damped[n] += damp * (there - damped[n])
                heard[n] = damped[n]
            left = heard[0] + heard[2] - heard[4] - heard[6]
            right = heard[1] - heard[3] + heard[5] - heard[7]
            if channels == 2:
                out[i, 0], out[i, 1] = LEVEL * left, LEVEL * right
            else:
                out[i, 0] = LEVEL * (left + right) * 0.7071067811865476
            for n in range(LINES):
                heard[n] *= gain[n]
            _mix(heard)
            for n in range(LINES):
                fed = heard[n] + sound[i, n % channels]
                lines[n, write] = fed if abs(fed) > TINY else 0.0
            write = write + 1 if write + 1 < size else 0
    at[0] = write
