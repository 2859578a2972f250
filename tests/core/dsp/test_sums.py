"""Weighted sums: against numpy, in pieces of any length, and where nothing sounds."""

import numpy as np
import pytest

from salt_anvil.core.dsp.fir import TOGETHER, sum_into
from tests.conftest import noise


def summed(line: np.ndarray, weights: np.ndarray) -> np.ndarray:
    out = np.full(len(line) - len(weights) + 1, np.nan)
    sum_into(out, line, weights)
    return out


@pytest.mark.parametrize("count", [1, 7, TOGETHER - 1, TOGETHER, TOGETHER + 1, 1024])
@pytest.mark.parametrize("taps", [1, 16, 48])
def test_sums_are_those_of_numpy(count: int, taps: int) -> None:
    weights, line = noise(taps, 1)[:, 0].copy(), noise(count + taps - 1, 1)[:, 0].copy()
    assert summed(line, weights) == pytest.approx(np.correlate(line, weights, "valid"), abs=1e-12)


def test_a_sum_is_the_same_to_the_bit_wherever_it_stands() -> None:
    weights, line = noise(48, 1)[:, 0].copy(), noise(1000, 1)[:, 0].copy()
    whole = summed(line, weights)
    for size in (1, 5, 60, TOGETHER, 333):
        pieces = [
            summed(line[at : at + min(size, len(whole) - at) + 47], weights)
            for at in range(0, len(whole), size)
        ]
        assert (np.concatenate(pieces) == whole).all()


@pytest.mark.parametrize("at", [0, 46, 47, 94, 95, 96, 300, 470, 546])
def test_one_value_in_silence_gives_the_weights(at: int) -> None:
    """Silent stretches are passed over; a value just before one of them still counts."""
    weights, line = noise(48, 1)[:, 0].copy(), np.zeros(547)
    line[at] = 2.0
    wanted = np.correlate(line, weights, "valid")
    assert (summed(line, weights) == wanted).all()
