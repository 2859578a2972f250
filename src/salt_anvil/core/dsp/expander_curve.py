"""The static curve of an expander in front of the compressor's detectors and ballistics."""

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import GRID, TINY, Sound
from salt_anvil.core.compiled import kernel
from salt_anvil.core.dsp import dynamics as d
from salt_anvil.core.dsp.grid import grid_cells
from salt_anvil.core.dsp.line import copy_into

DOWN, UP = 0, 1


@kernel
def expansion(
    level_db: float, threshold_db: float, slope: float, knee_db: float, range_db: float, way: int
) -> float:
    """Return the change of gain in dB: at most 0 downwards, at least 0 upwards.

    Downwards, what is below the threshold falls by slope = ratio - 1 dB more for every dB;
    upwards, what is above it rises by as much more. The knee is a parabola around the threshold.
    """
    beyond = level_db - threshold_db if way == UP else threshold_db - level_db
    inside = min(max(beyond + 0.5 * knee_db, 0.0), knee_db)
    bend = inside * inside / (2.0 * knee_db) if knee_db > 0.0 else 0.0
    change = min(slope * (bend + max(beyond - 0.5 * knee_db, 0.0)), range_db)
    return change if way == UP else -change


@kernel
def expand_into(
    change: Sound,
    heard: Sound,
    key: Sound,
    start: int,
    value: Sound,
    step: Sound,
    flags: NDArray[np.int64],
    state: Sound,
) -> None:
    """Fill change (frames, channels) with the smoothed change of gain in dB that the key asks for.

    heard: (frames, channels), filled with the detector's level in dB. key: (frames, channels), 1 or
    2 channels. start: timeline frame of key[0]. value, step: (grid points, dynamics.CONTROLS).
    flags: detector, way. state: (dynamics.STATES, channels), changed. Louder is attack, quieter is
    release, both ways.
    """
    frames, channels = key.shape
    detector, way = flags[0], flags[1]
    levels = np.empty((2, GRID))
    exponent = np.empty(GRID)
    carried = np.empty(d.STATES)
    for at, n, k, offset in grid_cells(start, frames):
        heard_here = heard[at : at + n]
        change_here = change[at : at + n]
        key_here = key[at : at + n]
        v, s = value[k], step[k]
        for channel in range(channels):
            state[d.POWER, channel] = d.heard_into(
                levels[channel], key_here, channel, n, detector, v, s, offset,
                state[d.POWER, channel],
            )  # fmt: skip
        alike = d.linked_levels(levels, exponent, channels, n, detector, v, s, offset)
        alike = alike and d.equal_lanes(state, d.POWER)
        # Read once: for all that the compiler knows, what is written may be the controls.
        threshold, slope, knee, most = v[d.THRESHOLD], v[d.SLOPE], v[d.KNEE], v[d.MOST]
        dt, ds, dk, dm = s[d.THRESHOLD], s[d.SLOPE], s[d.KNEE], s[d.MOST]
        for channel in range(1 if alike else channels):
            c = levels[channel]
            for i in range(n):
                j = float(offset + i)
                heard_here[i, channel] = level = c[i]
                c[i] = expansion(
                    level, threshold + dt * j, slope + ds * j, knee + dk * j, most + dm * j, way
                )
            copy_into(carried, state[:, channel])
            d._smooth(c, n, carried, d.DECOUPLED, False, v, s, offset)
            for row in range(d.STATES):
                if row != d.POWER:
                    state[row, channel] = carried[row] if abs(carried[row]) > TINY else 0.0
            for i in range(n):
                change_here[i, channel] = c[i]
        if alike:
            d.stand_alike(state, d.POWER)
            for i in range(n):
                change_here[i, 1], heard_here[i, 1] = change_here[i, 0], heard_here[i, 0]
