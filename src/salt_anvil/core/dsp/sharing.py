"""What the channels of a pair tell each other: how loud the louder one is, and what of it lasts."""

import numpy as np

from salt_anvil.core.audio import TINY, Sound
from salt_anvil.core.compiled import inlined
from salt_anvil.core.dsp.dynamics import rate_of

LASTS_MS, FALLS_MS = 60.0, 20.0
"""Time in which what lasts has mostly reached a new level, by two poles, so that it hears nothing
of the first moment; and in which a wave's top falls. Common practice, no source."""
NOTHING = 1e-15
# Rows of the state: mean squares; what lasts, behind one pole and behind two; a wave's top.
POWER, LASTING, TOP = range(3)
STATES = 3


@inlined
def _share_into(
    shared: Sound, heard: Sound, square: float, rise: float, fall: float, state: Sound
) -> None:
    first, lasting = state[LASTING]
    top = state[TOP, 0]
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
        first = min(first + rise * (top - first), top)
        lasting = min(lasting + rise * (first - lasting), first)
        shared[i, 0], shared[i, 1] = most, min(most, lasting)
    state[LASTING, 0] = first if first > TINY else 0.0
    state[LASTING, 1] = lasting if lasting > TINY else 0.0
    state[TOP, 0] = top if top > TINY else 0.0
    for channel in range(2):
        if state[POWER, channel] < TINY:
            state[POWER, channel] = 0.0


def shared_of(heard: Sound, rate: int, state: Sound, rms_rate: float = 0.0) -> Sound:
    """Return the louder channel's amplitude, and how much of it has lasted, (frames, 2).

    heard: (frames, 2). rms_rate: share of the way that a mean square goes in a frame, if it is that
    which counts. state: (STATES, 2), changed.
    """
    shared = np.empty((len(heard), 2))
    rise, fall = rate_of(LASTS_MS / 2, rate), rate_of(FALLS_MS, rate)
    _share_into(shared, heard, rms_rate, rise, fall, state)
    return shared
