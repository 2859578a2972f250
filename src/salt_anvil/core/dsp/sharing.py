"""What the channels of a pair tell each other: how loud the louder one is, and what of it lasts."""

import numpy as np
from numba import njit

from salt_anvil.core.audio import TINY, Sound
from salt_anvil.core.dsp.dynamics import rate_of

LASTS_MS, FALLS_MS = 60.0, 20.0
"""Time in which what lasts reaches a new level, and in which a wave's top falls; common practice,
no source."""
NOTHING = 1e-15
# Rows of the state: mean squares in the first, what lasts and a wave's top in the second.
POWER, LASTING = range(2)
STATES = 2


@njit(cache=True, nogil=True, error_model="numpy")
def _share_into(
    shared: Sound, heard: Sound, square: float, rise: float, fall: float, state: Sound
) -> None:
    lasting, top = state[LASTING]
    for i in range(len(heard)):
        most = 0.0
        for channel in range(2):
            x = abs(heard[i, channel])
            if square > 0.0:
                power = state[POWER, channel]
                power += square * (x * x - power)
                state[POWER, channel] = power
                x = np.sqrt(power)
            most = max(most, x)
        top = max(most, top - fall * top)
        lasting = min(lasting + rise * (top - lasting), top)
        shared[i, 0], shared[i, 1] = most, min(most, lasting)
    state[LASTING, 0] = lasting if lasting > TINY else 0.0
    state[LASTING, 1] = top if top > TINY else 0.0
    for channel in range(2):
        if state[POWER, channel] < TINY:
            state[POWER, channel] = 0.0


def shared_of(heard: Sound, rate: int, state: Sound, rms_rate: float = 0.0) -> Sound:
    """Return the louder channel's amplitude, and how much of it has lasted, (frames, 2).

    heard: (frames, 2). rms_rate: share of the way that a mean square goes in a frame, if it is that
    which counts. state: (STATES, 2), changed.
    """
    shared = np.empty((len(heard), 2))
    rise, fall = rate_of(LASTS_MS, rate), rate_of(FALLS_MS, rate)
    _share_into(shared, heard, rms_rate, rise, fall, state)
    return shared
