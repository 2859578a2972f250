"""Middle and sides, exact: M = (L + R) / 2, S = (L - R) / 2 and back."""

import numpy as np
from numba import njit

from salt_anvil.core.audio import Sound


@njit(cache=True, nogil=True, error_model="numpy")
def to_mid_side(sound: Sound) -> Sound:
    """Return (frames, 2) as middle and side."""
    out = np.empty_like(sound)
    for i in range(len(sound)):
        left, right = sound[i, 0], sound[i, 1]
        out[i, 0] = 0.5 * (left + right)
        out[i, 1] = 0.5 * (left - right)
    return out


@njit(cache=True, nogil=True, error_model="numpy")
def from_mid_side(sound: Sound) -> Sound:
    """Return (frames, 2) of middle and side as left and right."""
    out = np.empty_like(sound)
    for i in range(len(sound)):
        middle, side = sound[i, 0], sound[i, 1]
        out[i, 0] = middle + side
        out[i, 1] = middle - side
    return out
