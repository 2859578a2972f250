"""A delay of whole frames, for any block length."""

import numpy as np

from salt_anvil.core.audio import Sound


def delayed(block: Sound, past: Sound) -> Sound:
    """Return the block delayed by len(past) frames; past (frames, channels) is updated."""
    wait = len(past)
    if wait == 0:
        return block
    frames = len(block)
    out = np.empty_like(block)
    if frames >= wait:
        out[:wait], out[wait:] = past, block[: frames - wait]
    else:
        out[:] = past[:frames]
    keep(block, past)
    return out


def keep(block: Sound, past: Sound) -> None:
    """Move the past of a delay on by a block that nobody wants delayed."""
    wait, frames = len(past), len(block)
    if frames >= wait:
        past[:] = block[frames - wait :]
    else:
        past[:-frames] = past[frames:].copy()
        past[-frames:] = block
