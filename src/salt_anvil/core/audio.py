"""The one place where sound enters the computation: shape, type and finiteness."""

from typing import TypeVar

import numpy as np
from numpy.typing import ArrayLike, NDArray

from salt_anvil.core.compiled import kernel, measuring
from salt_anvil.core.errors import SoundError

Sound = NDArray[np.float64]
Values = NDArray[np.float64]
FLOAT64 = np.dtype(np.float64)
Number = TypeVar("Number", np.float32, np.float64)

GRID = 64
"""Frames between two points of the control grid, which is counted from timeline frame 0."""
BLOCK = 1024
"""Frames of one engine block."""
RAMP = 1024
"""Frames over which a moved control reaches its new value (21 ms at 48 kHz)."""
FLOOR_AMPLITUDE = 1e-15
"""Amplitude of digital silence, -300 dB."""
TINY = 1e-30
"""State below this snaps to 0: denormal numbers slow a recursion down for good."""


def as_block(sound: ArrayLike) -> Sound:
    """Return sound as C-contiguous, writable float64 of shape (frames, channels).

    Compiled kernels see only what this returns, so that no other memory layout makes numba
    compile a new version in the middle of play.

    Raises:
        SoundError: not two-dimensional, or not 1 or 2 channels.
    """
    if type(sound) is np.ndarray and sound.dtype == FLOAT64 and sound.ndim == 2:
        ready = sound.flags.carray and 0 < sound.shape[1] < 3
        if ready:
            return sound
    block = np.require(sound, dtype=np.float64, requirements=["C", "W"])
    if block.ndim != 2 or block.shape[1] not in (1, 2):
        raise SoundError(f"sound has shape {block.shape}; (frames, 1 or 2 channels) is needed")
    return block


def most_of_channels(cells: NDArray[Number]) -> NDArray[Number]:
    """Return the greater of one or two channels, (rows,); numpy's own way takes twenty times as
    long over so few."""
    return cells[:, 0] if cells.shape[1] == 1 else np.maximum(cells[:, 0], cells[:, 1])


def least_of_channels(cells: NDArray[Number]) -> NDArray[Number]:
    """Return the lesser of one or two channels, (rows,)."""
    return cells[:, 0] if cells.shape[1] == 1 else np.minimum(cells[:, 0], cells[:, 1])


def by_blocks(sound: Sound) -> list[Sound]:
    """Return sound in pieces of BLOCK: a transform rounds alike only at the same size."""
    return [sound[at : at + BLOCK] for at in range(0, len(sound), BLOCK)]


def without_nonfinite(block: Sound) -> tuple[Sound, int]:
    """Return the block with every NaN and infinity replaced by 0, and how many there were."""
    if _finite(block.ravel()):
        return block, 0
    bad = ~np.isfinite(block)
    count = int(bad.sum())
    return (np.where(bad, 0.0, block), count) if count else (block, 0)


@measuring
def _finite(values: Values) -> bool:
    """Say whether all values are finite: zero times anything else is not a number."""
    total = 0.0
    for i in range(len(values)):
        total += values[i] * 0.0
    return total == 0.0


def rounded(*parts: Sound) -> Sound:
    """Return sounds that follow one another as one, as it is after being stored as float32."""
    # Arrays that come out of a kernel cost more than those that go in to be filled.
    out = np.empty((sum(map(len, parts)), parts[0].shape[1]))
    at = 0
    for part in parts:
        _round_into(out[at : at + len(part)], part)
        at += len(part)
    return out


@kernel
def _round_into(out: Sound, sound: Sound) -> None:
    ours, given = out.reshape(out.size), sound.ravel()
    for i in range(len(ours)):
        ours[i] = np.float32(given[i])
