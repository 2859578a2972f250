"""The recursion of a gate: detector, two thresholds, hold, and a gain that opens and closes."""

import math

import numpy as np

from salt_anvil.core.audio import GRID, TINY, Sound
from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.dynamics import equal_lanes, stand_alike
from salt_anvil.core.dsp.grid import grid_cells
from salt_anvil.core.dsp.line import copy_into

# Columns of the control vector of `gate_into`; levels as amplitudes, rates per frame.
OPEN_AT, CLOSE_AT, FLOOR, ATTACK, RELEASE, HOLD, LINK, FALL = range(8)
CONTROLS = 8
# Rows of the state, one column a channel.
LEVEL, GAIN, PHASE, COUNT = range(4)
STATES = 4
# What a gate is doing; higher tells more.
CLOSED, CLOSING, HOLDING, OPENING, OPEN = range(5)
NEAR = 1e-3
"""A gain this near to its end has arrived."""


@inlined
def _levels_into(
    levels: Sound, key: Sound, v: Vector, d: Vector, offset: int, state: Sound
) -> None:
    """Fill levels (2, frames) with what is heard of both channels, linked; a mono key is both.

    Of channels that are linked all along the first is enough.
    """
    last = key.shape[1] - 1
    left, right = state[LEVEL, 0], state[LEVEL, last]
    slowly, changing = v[FALL], d[FALL]
    for i in range(len(key)):
        fall = slowly + changing * (offset + i)
        x, y = abs(key[i, 0]), abs(key[i, last])
        left += fall * (x - left)
        right += fall * (y - right)
        left, right = max(x, left), max(y, right)
        levels[0, i], levels[1, i] = left, right
    state[LEVEL, 0], state[LEVEL, last] = left, right
    one, other = levels[0], levels[1]
    linked, linking = v[LINK], d[LINK]
    if linked == 1.0 and linking == 0.0:
        for i in range(len(key)):
            one[i] = max(one[i], other[i])
        return
    for i in range(len(key)):
        link = linked + linking * (offset + i)
        most = max(one[i], other[i])
        one[i] += link * (most - one[i])
        other[i] += link * (most - other[i])


@inlined
def _passed_into(
    gain: Vector,
    phases: Vector,
    opened: Vector,
    level: Vector,
    v: Vector,
    d: Vector,
    offset: int,
    state: Vector,
) -> None:
    """Fill gain, phases and opened of one channel in a cell; state: (STATES,), changed."""
    n = len(level)
    opening = keeping = 0
    # Read once: for all that the compiler knows, what is written may be the controls.
    opens, d_opens, closes, d_closes = v[OPEN_AT], d[OPEN_AT], v[CLOSE_AT], d[CLOSE_AT]
    attack, d_attack, release, d_release = v[ATTACK], d[ATTACK], v[RELEASE], d[RELEASE]
    hold, d_hold, lowest, d_lowest = v[HOLD], d[HOLD], v[FLOOR], d[FLOOR]
    for i in range(n):
        j = offset + i
        opening += 1 if level[i] >= opens + d_opens * j else 0
        keeping += 1 if level[i] >= closes + d_closes * j else 0
    g, phase, count = state[GAIN], state[PHASE], state[COUNT]
    if phase == OPEN and keeping == n:
        for i in range(n):
            gain[i], phases[i], opened[i] = 1.0, OPEN, 0.0
        state[COUNT] = hold + d_hold * (offset + n - 1)
        return
    if phase == CLOSED and opening == 0:
        for i in range(n):
            gain[i], phases[i], opened[i] = lowest + d_lowest * (offset + i), CLOSED, 0.0
        state[GAIN] = gain[n - 1]
        return
    for i in range(n):
        j = offset + i
        began = 0.0
        if level[i] >= opens + d_opens * j:
            if phase < HOLDING:
                began = 1.0
                phase = OPENING
            elif phase == HOLDING:
                phase = OPEN if g >= 1.0 else OPENING
            count = hold + d_hold * j
        elif phase >= HOLDING:
            if level[i] >= closes + d_closes * j:
                count = hold + d_hold * j
                if phase == HOLDING:
                    phase = OPEN if g >= 1.0 else OPENING
            elif count > 0.0:
                count -= 1.0
                if g >= 1.0:
                    phase = HOLDING
            else:
                phase = CLOSING
        if phase >= HOLDING:
            g += (attack + d_attack * j) * (1.0 - g)
            if g > 1.0 - NEAR:
                g = 1.0
                if phase == OPENING:
                    phase = OPEN
        else:
            floor = lowest + d_lowest * j
            # Falls straight in dB: a share of itself every frame.
            g -= (release + d_release * j) * g
            if phase == CLOSED or g <= floor:
                g = floor
                phase = CLOSED
        gain[i], phases[i], opened[i] = g, phase, began
    state[GAIN], state[PHASE], state[COUNT] = g, phase, count


@kernel
def gate_into(
    gain: Sound,
    heard: Sound,
    phases: Sound,
    opened: Sound,
    key: Sound,
    start: int,
    value: Sound,
    step: Sound,
    state: Sound,
) -> None:
    """Fill gain (frames, channels) with what the gate lets through, 0 to 1.

    heard, phases, opened: (frames, channels): the detector's amplitude, what the gate is doing, and
    1 at every frame in which it began to open; of no frames where nobody asks. key: (frames,
    channels). value, step: (grid points, CONTROLS). state: (STATES, channels), changed. The
    detector rises at once and falls with FALL, so that a wave does not close the gate at every
    crossing of zero. A cell in which a gate stays open or closed is looked through in vectors.
    """
    frames, channels = key.shape
    told = len(heard) > 0
    levels, found, mine = np.empty((2, GRID)), np.empty((3, GRID)), np.empty(STATES)
    for at, n, k, offset in grid_cells(start, frames):
        _levels_into(levels, key[at : at + n], value[k], step[k], offset, state)
        gain_here = gain[at : at + n]
        linked = channels == 2 and value[k, LINK] == 1.0 and step[k, LINK] == 0.0
        alike = linked and equal_lanes(state, LEVEL)
        if linked and not alike:
            copy_into(levels[1], levels[0])
        for channel in range(1 if alike else channels):
            for row in range(STATES):
                mine[row] = state[row, channel]
            level = levels[channel, :n]
            _passed_into(
                found[0, :n],
                found[1, :n],
                found[2, :n],
                level,
                value[k],
                step[k],
                offset,
                mine,
            )
            for row in range(STATES):
                state[row, channel] = mine[row]
            for i in range(n):
                gain_here[i, channel] = found[0, i]
            if told:
                for i in range(n):
                    heard[at + i, channel] = level[i]
                    phases[at + i, channel] = found[1, i]
                    opened[at + i, channel] = found[2, i]
        if alike:
            stand_alike(state, LEVEL)
            for i in range(n):
                gain_here[i, 1] = gain_here[i, 0]
            if told:
                for i in range(n):
                    heard[at + i, 1] = levels[0, i]
                    phases[at + i, 1] = phases[at + i, 0]
                    opened[at + i, 1] = opened[at + i, 0]
    for channel in range(channels):
        if state[LEVEL, channel] < TINY:
            state[LEVEL, channel] = 0.0


def fall_rate(depth_db: float, release_ms: float, rate: int) -> float:
    """Return the share of the gain that is lost a frame, so that 63 % of depth_db take release_ms.

    A gain that falls straight in dB passes (1 - 1/e) of its depth after that part of its way.
    """
    frames = max(release_ms * rate / 1000, 1e-3)
    per_frame = depth_db * (1 - 1 / math.e) / frames
    return -math.expm1(-per_frame * math.log(10) / 20)
