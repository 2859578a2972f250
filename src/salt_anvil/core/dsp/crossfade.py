"""From one sound to another over RAMP frames, in a straight line."""

import numpy as np

from salt_anvil.core.audio import RAMP, Sound


def crossfaded(new: Sound, old: Sound, done: int = 0, wait: int = 0) -> Sound:
    """Return (frames, channels) that go from the old sound to the new one.

    done: frames of the cross-fade that lie before these; behind RAMP frames only the new is left.
    wait: frames at its beginning, under RAMP, that are the old one's alone.
    """
    at = done + 1 - wait + np.arange(len(new))
    share = np.clip(at / (RAMP - wait), 0.0, 1.0)[:, None]
    return np.asarray(share * new + (1.0 - share) * old)
