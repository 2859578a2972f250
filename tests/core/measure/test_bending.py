"""The share of distortion against closed forms, and hits that are counted."""

import math

import numpy as np
import pytest

from salt_anvil.core.audio import BLOCK, GRID
from salt_anvil.core.measure.bending import distortion, rest_and_whole
from salt_anvil.core.measure.cautions import distortion_caution, opened_too_often, raised_by_bus
from salt_anvil.core.measure.hits import count_hits
from salt_anvil.core.measure.spans import Span
from tests.conftest import noise, sine

PASSAGE = Span("", 0, 48000)


@pytest.mark.parametrize("over", [0.5, 1.0, 2.0])
def test_clipped_noise_by_bussgang(over: float) -> None:
    """Normal noise clipped at `over` standard deviations: closed form of Bussgang's theorem."""
    x = noise(400 * BLOCK, 2, level=0.1)
    y = np.clip(x, -0.1 * over, 0.1 * over)
    linear = math.erf(over / math.sqrt(2))
    tail = math.exp(-(over**2) / 2) * over * math.sqrt(2 / math.pi)
    whole = linear - tail + over**2 * (1 - linear)
    expected = math.sqrt((whole - linear**2) / whole)
    assert distortion(rest_and_whole(x, y)) == pytest.approx(expected, rel=0.02)


def test_level_polarity_and_slow_gain_are_no_distortion() -> None:
    x = noise(64 * BLOCK, 2)
    swell = np.repeat(np.linspace(0.2, 1, 64), BLOCK)[:, None]
    for y in (0.25 * x, -x, x * swell, x * np.array([1.0, 0.1])):
        assert distortion(rest_and_whole(x, y)) < 1e-6
    assert distortion(rest_and_whole(x, 0 * x)) == 0
    assert distortion(rest_and_whole(x, x)[:0]) == 0


def test_the_third_harmonic_of_a_sine() -> None:
    """A tenth of third harmonic is a share of 0.1 / sqrt(1.01)."""
    x = sine(46.875 * 8, 1.024)[: 48 * BLOCK]
    y = x + 0.1 * sine(46.875 * 24, 1.024)[: 48 * BLOCK]
    assert distortion(rest_and_whole(x, y)) == pytest.approx(0.1 / math.sqrt(1.01), rel=1e-3)
    [caution] = distortion_caution("s", "Saturator", 0.14, PASSAGE)
    assert caution.words == "14 % of what the saturator gives is distortion."
    assert distortion_caution("s", "Saturator", 0.09, PASSAGE) == []


@pytest.mark.parametrize("rate", [44100, 96000])
def test_hits_are_counted_and_tails_are_not(rate: int) -> None:
    at = np.arange(0, 10, GRID / rate)
    tail = -60 * (at % 0.5)
    # A tail that beats by 5 dB sixteen times a second is still one hit.
    levels = -10 + tail + 2.5 * np.sin(2 * np.pi * 16 * at)
    assert count_hits(levels[1:], rate) == pytest.approx(20, abs=1)
    assert count_hits(np.full(1000, -20.0), rate) == 0
    assert count_hits(levels[:1], rate) == 0


def test_a_gate_that_chatters() -> None:
    [caution] = opened_too_often(40, 20, PASSAGE)
    assert caution.words.startswith("The gate opens 40 times for 20 hits")
    assert (caution.value, caution.limit) == (40, 20)
    assert opened_too_often(21, 20, PASSAGE) == []
    assert opened_too_often(1, 0, PASSAGE) == []


def test_a_parallel_bus_that_doubles() -> None:
    """As much again, alike: 6.02 dB."""
    [caution] = raised_by_bus("Main bus", 1.0, 4.0, PASSAGE)
    assert caution.value == pytest.approx(6.02, abs=0.01)
    assert "Main bus louder by up to 6.0 dB" in caution.words
    assert raised_by_bus("Main bus", 0.0, 0.0, PASSAGE) == []
    assert raised_by_bus("Main bus", 0.01, 1.21, PASSAGE) == []
