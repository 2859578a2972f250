"""From one sound to another over RAMP frames, in a straight line."""

import numpy as np

from salt_anvil.core.audio import RAMP, Sound


def crossfaded(new: Sound, old: Sound, done: int = 0) -> Sound:
    """Return (frames, channels) that go from the old sound to the new one.

    done: frames of the cross-fade that lie before these; behind RAMP frames only the new is left.
    """
    share = np.minimum((done + 1 + np.arange(len(new))) / RAMP, 1.0)[:, None]
    return np.asarray(share * new + (1.0 - share) * old)
