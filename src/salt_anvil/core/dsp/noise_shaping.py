"""Rounding with its error fed back, so that the noise lies where the ear hears it least."""

import numpy as np

from salt_anvil.core.audio import Sound
from salt_anvil.core.compiled import kernel

WEIGHTED = np.array([2.033, -2.165, 1.959, -1.590, 0.6149])
"""Five-tap error filter against the ear's threshold: Lipshitz, Vanderkooy and Wannamaker, Minimally
Audible Noise Shaping, J. Audio Eng. Soc. 39(11), 1991, for 44.1 kHz; from memory. What is left of
the noise has the shape 1 - sum h[k] z^-k."""


@kernel
def shaped(levels: Sound, noise: Sound, taps: Sound, errors: Sound, low: float, high: float) -> int:
    """Round levels in place, with noise added and past errors taken out; return how many are cut.

    levels, noise: (frames, channels) in LSB. errors: (taps, channels), the newest first; changed.
    low, high: what fits. An error is never counted larger than what rounding makes.
    """
    over = 0
    frames, channels = levels.shape
    count = len(taps)
    for i in range(frames):
        for c in range(channels):
            wanted = levels[i, c]
            for k in range(count):
                wanted -= taps[k] * errors[k, c]
            out = np.floor(wanted + noise[i, c] + 0.5)
            error = min(max(out - wanted, -2.0), 2.0)
            for k in range(count - 1, 0, -1):
                errors[k, c] = errors[k - 1, c]
            errors[0, c] = error
            if out < low or out > high:
                over += 1
                out = min(max(out, low), high)
            levels[i, c] = out
    return over
