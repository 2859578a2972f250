"""The gates of ITU-R BS.1770-4, annex 1: which blocks of 400 ms count."""

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import Values

OFFSET = -0.691
ABSOLUTE_GATE = -70.0
RELATIVE_GATE = -10.0
_LEAST = 10 ** ((ABSOLUTE_GATE - OFFSET) / 10)
_UNDER = 10 ** (RELATIVE_GATE / 10)


def level(power: Values) -> Values:
    """Return the loudness in LUFS of K-weighted powers."""
    return np.asarray(OFFSET + 10 * np.log10(np.maximum(power, 1e-13)))


def counts(blocks: Values) -> NDArray[np.bool_]:
    """Say of every block's K-weighted power whether it passes both gates."""
    loud = blocks > _LEAST
    if not loud.any():
        return np.asarray(loud)
    return np.asarray(loud & (blocks > _UNDER * blocks[loud].mean()))


def gated(blocks: Values) -> float:
    """Return the mean power of the blocks that count, 0 where none does."""
    kept = blocks[counts(blocks)]
    return float(kept.mean()) if len(kept) else 0.0
