"""Sums of sounds in a fixed order, so that they are the same bytes whoever adds them."""

import numpy as np

from salt_anvil.core.audio import Sound, as_block
from salt_anvil.core.compiled import kernel


def tree_sum(sounds: list[Sound]) -> Sound:
    """Return the sum of sounds of one shape, one at least, added pairwise, those pairwise again."""
    while len(sounds) > 1:
        # Two turns at once: to fetch and to put back is what takes time.
        sounds = [_fours(sounds[i : i + 4]) for i in range(0, len(sounds), 4)]
    return sounds[0]


def _fours(sounds: list[Sound]) -> Sound:
    if len(sounds) == 1:
        return sounds[0]
    if len(sounds) < 4:
        first, second, *third = sounds
        return first + second + third[0] if third else first + second
    out = np.empty(sounds[0].shape)
    one, two, three, four = (as_block(s) for s in sounds)
    _four_into(out, one, two, three, four)
    return out


@kernel
def _four_into(out: Sound, one: Sound, two: Sound, three: Sound, four: Sound) -> None:
    size = out.size
    total, a, b = out.reshape(size), one.reshape(size), two.reshape(size)
    c, d = three.reshape(size), four.reshape(size)
    for i in range(size):
        total[i] = (a[i] + b[i]) + (c[i] + d[i])
