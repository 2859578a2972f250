"""Shared means of the tests: seeded sound, sines, steps."""

import numpy as np
import pytest
from numpy.typing import NDArray

RATES = (44100, 48000, 96000, 192000)


def noise(frames: int, channels: int = 2, *, level: float = 0.2, seed: int = 1) -> NDArray:
    return np.random.default_rng(seed).standard_normal((frames, channels)) * level


def sine(
    hz: float, seconds: float, rate: int = 48000, *, level_db: float = 0.0, channels: int = 2
) -> NDArray:
    at = np.arange(round(seconds * rate)) / rate
    wave = 10 ** (level_db / 20) * np.sin(2 * np.pi * hz * at)
    return np.repeat(wave[:, None], channels, axis=1)


def constant(level_db: float, frames: int, channels: int = 2) -> NDArray:
    return np.full((frames, channels), 10 ** (level_db / 20))


@pytest.fixture
def music() -> NDArray:
    """Two seconds of noise in bursts: attacks, tails, silence."""
    sound = noise(96000, seed=7)
    at = np.arange(96000) / 48000
    return sound * (np.exp(-6 * (at % 0.5)) * (at % 1.0 < 0.9))[:, None]
