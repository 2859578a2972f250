"""How much of what a stage gives is not its input at another level: the share of distortion.

What a bend without memory makes of a sound is a level of it and a rest that is not correlated with
it (for normal noise: Bussgang 1952, "Crosscorrelation functions of amplitude-distorted Gaussian
signals", from memory). The level is fitted block by block, so that slow gain is no distortion.
"""

import numpy as np

from salt_anvil.core.audio import BLOCK, Sound

LIMIT = 0.1
"""Share of the amplitude from which it is told (-20 dB; common practice, no source)."""


def rest_and_whole(before: Sound, after: Sound) -> Sound:
    """Return the power of the rest and of the output for every 1,024 frames, (blocks, 2).

    before, after: (frames, channels) in step, whole blocks.
    """
    x, y = (s.reshape(-1, BLOCK, s.shape[1]) for s in (before, after))
    shared = np.einsum("bfc,bfc->bc", x, y)
    power_in, power_out = (np.einsum("bfc,bfc->bc", s, s) for s in (x, y))
    fitted = shared**2 / np.maximum(power_in, 1e-30)
    rest = np.maximum(power_out - fitted, 0.0)
    return np.column_stack([rest.sum(axis=1), power_out.sum(axis=1)])


def distortion(sums: Sound) -> float:
    """Return the share of the rest in the amplitude of the output, 0 to 1, over blocks."""
    rest, whole = (float(column.sum()) for column in sums.T)
    return (rest / whole) ** 0.5 if whole > 0 else 0.0
