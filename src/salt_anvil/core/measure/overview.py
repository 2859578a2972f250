"""What is drawn of a sound: extremes and mean squares of short pieces."""

import numpy as np
from numba import njit
from numpy.typing import NDArray

from salt_anvil.core.audio import Sound

Narrow = NDArray[np.float32]


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"nnan", "nsz", "reassoc"})
def _extremes(sound: Sound, size: int, out: Narrow) -> None:
    for piece in range(len(out)):
        begin, end = piece * size, min((piece + 1) * size, len(sound))
        for channel in range(sound.shape[1]):
            low = high = sound[begin, channel]
            for i in range(begin + 1, end):
                low = min(low, sound[i, channel])
                high = max(high, sound[i, channel])
            out[piece, 0, channel], out[piece, 1, channel] = low, high


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"reassoc", "nsz"})
def _mean_squares(sound: Sound, size: int, out: Narrow) -> None:
    channels = sound.shape[1]
    for piece in range(len(out)):
        total = 0.0
        for i in range(piece * size, (piece + 1) * size):
            for channel in range(channels):
                total += sound[i, channel] * sound[i, channel]
        out[piece] = total / (size * channels)


def extremes(sound: NDArray[np.floating], size: int) -> Narrow:
    """Return (columns, min and max, channels) of pieces of `size` frames; the last may be short."""
    out = np.empty((-(-len(sound) // size), 2, sound.shape[1]), np.float32)
    _extremes(np.ascontiguousarray(sound, np.float64), size, out)
    return out


def mean_squares(sound: Sound, size: int) -> Narrow:
    """Return the mean square of every piece of `size` frames over its frames and channels."""
    out = np.empty(len(sound) // size, np.float32)
    _mean_squares(np.ascontiguousarray(sound), size, out)
    return out
