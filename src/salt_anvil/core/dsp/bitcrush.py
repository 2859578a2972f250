"""Fewer bits and fewer samples, on purpose."""

import math

from salt_anvil.core.audio import Sound
from salt_anvil.core.compiled import kernel
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.grid import grid_cells

# Columns of the control vector; the share of the rate is that of kept samples.
BITS, SHARE, SMOOTH = range(3)
# Rows of the state, one column a channel: what is held, what was held before.
HELD, BEFORE = range(2)


@kernel
def crush_into(
    out: Sound, sound: Sound, start: int, value: Vector, step: Vector, state: Sound, phase: Vector
) -> None:
    """Fill out (frames, channels) with the sound at fewer bits, held at a lower rate.

    value, step: (grid points, 3); start: timeline frame of sound[0]. state: (2, channels); phase:
    (1,), where between two kept samples the sound stands; both changed. SMOOTH 0 holds steps, 1
    draws lines between the kept samples (one of them late).
    """
    frames, channels = sound.shape
    place = phase[0]
    for at, n, k, offset in grid_cells(start, frames):
        for i in range(at, at + n):
            j = offset + i - at
            levels = 2.0 ** (value[k, BITS] + step[k, BITS] * j - 1.0)
            place += value[k, SHARE] + step[k, SHARE] * j
            smooth = value[k, SMOOTH] + step[k, SMOOTH] * j
            keep = place >= 1.0
            if keep:
                place -= math.floor(place)
            for channel in range(channels):
                if keep:
                    state[BEFORE, channel] = state[HELD, channel]
                    state[HELD, channel] = math.floor(sound[i, channel] * levels + 0.5) / levels
                held = state[HELD, channel]
                line = state[BEFORE, channel] + min(place, 1.0) * (held - state[BEFORE, channel])
                out[i, channel] = held + smooth * (line - held)
    phase[0] = place
