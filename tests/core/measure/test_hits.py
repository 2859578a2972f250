"""What is read from hits."""

import numpy as np

from salt_anvil.core.measure.hits import matching_threshold


def test_the_threshold_that_keeps_the_same_openings() -> None:
    """Three hits heard at -20, -26 and -31.2 dB: half a dB under the quietest, on halves."""
    levels = np.full((400, 2), -70.0)
    for cell, level in ((10, -20.0), (100, -26.0), (300, -31.2)):
        levels[cell + 5, 1] = level
    openings = [10 * 64, 100 * 64, 300 * 64]
    assert matching_threshold(levels, openings, 48000) == -32.0
    assert matching_threshold(levels, openings[:2], 48000) == -26.5
    assert matching_threshold(levels, [], 48000) is None
    assert matching_threshold(levels, [10**9], 48000) is None
    assert matching_threshold(np.full((50, 1), -200.0), [0], 48000) == -80.0
