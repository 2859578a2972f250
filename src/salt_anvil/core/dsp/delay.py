"""Delays of whole frames, for any block length, and of fractions of a frame."""

from functools import lru_cache
from math import comb

import numpy as np

from salt_anvil.core.audio import TINY, Sound, as_block
from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp.control_ramp import Vector

ORDER = 6
"""Of the all-pass behind a delay of that many frames or more."""
_NO_WAIT = np.empty((0, 1)), np.empty((0, 2))
WHOLE = 1e-6
"""A delay that is so near to whole frames is taken for them."""


@lru_cache(maxsize=64)
def split_delay(frames: float) -> tuple[int, Vector]:
    """Return whole frames and the all-pass that is the rest of a delay, 0 or more.

    Thiran's all-pass (1971; Laakso et al. 1996, equation 86, from memory): the level of all
    frequencies stays as it is to the last digit, the delay is the flattest there is. Under half a
    frame it is of the first order, whose delay shrinks towards half the rate. Of whole frames the
    coefficients are empty.
    """
    near = round(frames)
    if abs(frames - near) < WHOLE:
        return near, np.zeros(0)
    order = min(max(near, 1), ORDER)
    whole = max(near - order, 0)
    rest = frames - whole
    steps = np.arange(order + 1)
    found = [
        (-1) ** k * comb(order, k) * np.prod((rest - order + steps) / (rest - order + k + steps))
        for k in range(1, order + 1)
    ]
    return whole, np.array(found)


@kernel
def all_pass_into(out: Sound, sound: Sound, a: Vector, state: Sound) -> None:
    """Fill out (frames, channels) with the sound through an all-pass of these coefficients.

    a: those of the denominator behind its 1; state: (channels, ORDER), changed.
    """
    frames, channels = sound.shape
    order = len(a)
    for channel in range(channels):
        z = state[channel]
        for i in range(frames):
            x = sound[i, channel]
            y = a[order - 1] * x + z[0]
            for k in range(order - 1):
                z[k] = a[order - 2 - k] * x - a[k] * y + z[k + 1]
            z[order - 1] = x - a[order - 1] * y
            out[i, channel] = y
        for k in range(order):
            if abs(z[k]) < TINY:
                z[k] = 0.0


def no_wait(block: Sound) -> Sound:
    """Return the past of no delay, for a block's one or two channels."""
    return _NO_WAIT[block.shape[1] - 1]


def delayed(block: Sound, past: Sound) -> Sound:
    """Return the block delayed by len(past) frames; past (frames, channels) is updated."""
    return earlier(block, len(past), past) if len(past) else block


def keep(block: Sound, past: Sound) -> None:
    """Move the past of a delay on by a block that nobody wants delayed."""
    if len(past):
        _keep(past, block if block.flags.carray else as_block(block))


def earlier(block: Sound, wait: int, past: Sound) -> Sound:
    """Return the block delayed by `wait` frames, len(past) at most; past is updated.

    Another wait from one block to the next finds what it needs.
    """
    # Asked of the array itself: `as_block` would take a third of the time of the delay.
    clean = block if block.flags.carray else as_block(block)
    out = np.empty_like(clean)
    _delay_into(out, clean, wait, past)
    return out


def scaled(block: Sound, gain: Sound, past: Sound) -> Sound:
    """Return the block delayed by len(past) frames, times a gain for each value; past is updated.

    block, gain: alike and contiguous.
    """
    out = np.empty_like(block)
    _scale_into(out, block, gain, past)
    return out


@kernel
def _scale_into(out: Sound, block: Sound, gain: Sound, past: Sound) -> None:
    late, before, new = out.reshape(out.size), past.reshape(past.size), block.reshape(block.size)
    gains = gain.reshape(gain.size)
    known = min(len(before), len(late))
    for i in range(known):
        late[i] = before[i] * gains[i]
    later, louder = late[known:], gains[known:]
    for i in range(len(later)):
        later[i] = new[i] * louder[i]
    keep_into(past, block)


@kernel
def _delay_into(out: Sound, block: Sound, wait: int, past: Sound) -> None:
    # Side by side, whatever the number of channels: a copy without a loop inside a loop.
    late, before, new = out.reshape(out.size), past.reshape(past.size), block.reshape(block.size)
    behind = wait * block.shape[1]
    first = len(before) - behind
    known = min(behind, len(late))
    for i in range(known):
        late[i] = before[first + i]
    for i in range(len(late) - known):
        late[known + i] = new[i]
    keep_into(past, block)


@kernel
def _keep(past: Sound, block: Sound) -> None:
    keep_into(past, block)


@inlined
def keep_into(past: Sound, block: Sound) -> None:
    """Move the past of a delay on by a block, both contiguous, inside a kernel."""
    before, new = past.reshape(past.size), block.reshape(block.size)
    wait, count = len(before), len(new)
    moved = max(wait - count, 0)
    for i in range(moved):
        before[i] = before[i + count]
    for i in range(wait - moved):
        before[moved + i] = new[count - wait + moved + i]
