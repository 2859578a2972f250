"""Maxima of many against numpy's, at every length."""

import numpy as np
import pytest

from salt_anvil.core.compiled import kernel
from salt_anvil.core.dsp import maxima
from tests.conftest import noise


@kernel
def _greatest(line: np.ndarray) -> float:
    return maxima.greatest(line)


@kernel
def _highest(line: np.ndarray, channels: int) -> tuple[float, float]:
    return maxima.highest(line, channels)


@kernel
def _extremes(line: np.ndarray, channels: int) -> tuple[float, float, float, float]:
    return maxima.extremes_of(line, channels)


@pytest.mark.parametrize("kind", [np.float32, np.float64])
def test_the_greatest_magnitude_wherever_it_stands(kind: type) -> None:
    for count in range(1, 120):
        line = noise(count, 1)[:, 0].astype(kind)
        for at in range(count):
            for most in (3.0, -3.0):
                line[at], before = most, line[at]
                assert _greatest(line) == 3.0, (count, at)
                line[at] = before
    assert _greatest(np.empty(0, kind)) == 0.0


@pytest.mark.parametrize("channels", [1, 2])
def test_the_highest_and_the_lowest_of_each_channel(channels: int) -> None:
    for frames in range(1, 80):
        sound = noise(frames, channels, seed=frames) - 0.3
        high, low = sound.max(axis=0), sound.min(axis=0)
        assert _highest(sound.ravel(), channels) == (high[0], high[-1])
        assert _extremes(sound.ravel(), channels) == (high[0], low[0], high[-1], low[-1])
        for at in range(frames):
            marked = sound.copy()
            marked[at, -1] = 9.0
            assert _highest(marked.ravel(), channels)[1] == 9.0, (frames, at)


def test_what_is_not_a_number_is_passed_over() -> None:
    line = np.full(64, np.nan)
    line[40] = -2.0
    assert _highest(line, 1) == (-2.0, -2.0)
