"""The slow recursion of a leveller: a mean level, and a gain that walks towards a target."""

import numpy as np

from salt_anvil.core.audio import FLOOR_AMPLITUDE, GRID, TINY, Sound
from salt_anvil.core.compiled import kernel
from salt_anvil.core.dsp.decibel import DB_PER_OCTAVE, log2_into
from salt_anvil.core.dsp.grid import grid_cells

# Columns of the control vector of `level_into`; levels in dB, speeds in dB per frame.
TARGET, RISE, FALL, MOST, LEAST, FLOOR, MEAN = range(7)
CONTROLS = 7
POWER, GAIN = range(2)
STATES = 2


@kernel
def level_into(
    gain: Sound, heard: Sound, key: Sound, start: int, value: Sound, step: Sound, state: Sound
) -> None:
    """Fill gain (frames,) in dB and heard (frames,) with the mean level in dBFS.

    key: (frames, channels), averaged in power. value, step: (grid points, CONTROLS). state:
    (STATES,), changed. The gain walks straight in dB, at most RISE up and FALL down a frame, and
    stands still while the level is under FLOOR.
    """
    frames, channels = key.shape
    exponent, floor = np.empty(GRID), FLOOR_AMPLITUDE * FLOOR_AMPLITUDE
    power, now = state[POWER], state[GAIN]
    for at, n, k, offset in grid_cells(start, frames):
        key_here = key[at : at + n]
        gain_here = gain[at : at + n]
        heard_here = heard[at : at + n]
        v, s = value[k], step[k]
        for i in range(n):
            j = offset + i
            square = 0.0
            for channel in range(channels):
                square += key_here[i, channel] * key_here[i, channel]
            power += (v[MEAN] + s[MEAN] * j) * (square / channels - power)
            heard_here[i] = max(power, 0.0) + floor
        log2_into(heard_here, exponent, n, DB_PER_OCTAVE / 2)
        for i in range(n):
            j, level = offset + i, heard_here[i]
            if level > v[FLOOR] + s[FLOOR] * j:
                wanted = v[TARGET] + s[TARGET] * j - level
                wanted = min(max(wanted, -(v[LEAST] + s[LEAST] * j)), v[MOST] + s[MOST] * j)
                up, down = v[RISE] + s[RISE] * j, v[FALL] + s[FALL] * j
                now += min(max(wanted - now, -down), up)
            gain_here[i] = now
    state[POWER] = power if power > TINY else 0.0
    state[GAIN] = now
