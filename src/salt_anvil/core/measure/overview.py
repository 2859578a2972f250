"""What is drawn of a sound: extremes and mean squares of short pieces."""

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import Sound, Values
from salt_anvil.core.compiled import kernel, measuring
from salt_anvil.core.dsp.maxima import extremes_of

Narrow = NDArray[np.float32]


@kernel
def _extremes(sound: Sound, size: int, out: Narrow) -> None:
    values, n = sound.ravel(), sound.shape[1]
    for piece in range(len(out)):
        begin, end = piece * size, min((piece + 1) * size, len(sound))
        high, low, other_high, other_low = extremes_of(values[begin * n : end * n], n)
        out[piece, 0, 0], out[piece, 1, 0] = low, high
        out[piece, 0, n - 1], out[piece, 1, n - 1] = other_low, other_high


@kernel
def raise_to_most(most: Values, cells: Sound, size: int) -> None:
    """Raise each value to the greatest of its `size` rows of cells; there may be fewer of them."""
    for row in range(min(len(cells), size * len(most))):
        for channel in range(cells.shape[1]):
            most[row // size] = max(most[row // size], cells[row, channel])


@measuring
def _mean_squares(sound: Sound, size: int, out: Narrow) -> None:
    values, count = sound.ravel(), size * sound.shape[1]
    for piece in range(len(out)):
        mine = values[piece * count : (piece + 1) * count]
        total = 0.0
        for i in range(len(mine)):
            total += mine[i] * mine[i]
        out[piece] = total / count


def extremes(sound: NDArray[np.floating], size: int) -> Narrow:
    """Return (columns, min and max, channels) of pieces of `size` frames; the last may be short."""
    out = np.empty((-(-len(sound) // size), 2, sound.shape[1]), np.float32)
    _extremes(np.ascontiguousarray(sound, np.float64), size, out)
    return out


def peaks(sound: NDArray[np.floating], size: int) -> Narrow:
    """Return the greatest magnitude of pieces of `size` frames, (pieces, channels)."""
    both = extremes(sound, size)
    return np.maximum(both[:, 1], -both[:, 0])


def mean_squares(sound: Sound, size: int) -> Narrow:
    """Return the mean square of every piece of `size` frames over its frames and channels."""
    out = np.empty(len(sound) // size, np.float32)
    _mean_squares(np.ascontiguousarray(sound), size, out)
    return out
