"""The recursion of a gate: detector, two thresholds, hold, and a gain that opens and closes."""

import math

import numpy as np

from salt_anvil.core.audio import TINY, Sound
from salt_anvil.core.compiled import kernel
from salt_anvil.core.dsp.grid import grid_cells

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
    1 at every frame in which it began to open. key: (frames, channels). value, step: (grid points,
    CONTROLS). state: (STATES, channels), changed. The detector rises at once and falls with FALL,
    so that a wave does not close the gate at every crossing of zero.
    """
    frames, channels = key.shape
    levels = np.empty(2)
    for at, n, k, offset in grid_cells(start, frames):
        key_here = key[at : at + n]
        gain_here = gain[at : at + n]
        heard_here = heard[at : at + n]
        phases_here = phases[at : at + n]
        opened_here = opened[at : at + n]
        v, d = value[k], step[k]
        for i in range(n):
            j = offset + i
            for channel in range(channels):
                x = abs(key_here[i, channel])
                held = state[LEVEL, channel]
                held += (v[FALL] + d[FALL] * j) * (x - held)
                state[LEVEL, channel] = max(x, held)
                levels[channel] = state[LEVEL, channel]
            if channels == 2:
                most = max(levels[0], levels[1])
                link = v[LINK] + d[LINK] * j
                for channel in range(2):
                    levels[channel] += link * (most - levels[channel])
            floor = v[FLOOR] + d[FLOOR] * j
            for channel in range(channels):
                level, g = levels[channel], state[GAIN, channel]
                phase, count = state[PHASE, channel], state[COUNT, channel]
                began = 0.0
                if level >= v[OPEN_AT] + d[OPEN_AT] * j:
                    if phase < HOLDING:
                        began = 1.0
                        phase = OPENING
                    elif phase == HOLDING:
                        phase = OPEN if g >= 1.0 else OPENING
                    count = v[HOLD] + d[HOLD] * j
                elif phase >= HOLDING:
                    if level >= v[CLOSE_AT] + d[CLOSE_AT] * j:
                        count = v[HOLD] + d[HOLD] * j
                        if phase == HOLDING:
                            phase = OPEN if g >= 1.0 else OPENING
                    elif count > 0.0:
                        count -= 1.0
                        if g >= 1.0:
                            phase = HOLDING
                    else:
                        phase = CLOSING
                if phase >= HOLDING:
                    g += (v[ATTACK] + d[ATTACK] * j) * (1.0 - g)
                    if g > 1.0 - NEAR:
                        g = 1.0
                        if phase == OPENING:
                            phase = OPEN
                elif phase == CLOSING:
                    # Falls straight in dB: a share of itself every frame.
                    g -= (v[RELEASE] + d[RELEASE] * j) * g
                    if g <= floor:
                        g = floor
                        phase = CLOSED
                else:
                    g = floor
                state[GAIN, channel], state[PHASE, channel], state[COUNT, channel] = g, phase, count
                gain_here[i, channel] = g
                heard_here[i, channel] = level
                phases_here[i, channel] = phase
                opened_here[i, channel] = began
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
