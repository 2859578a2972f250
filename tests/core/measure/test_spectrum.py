"""The running spectrum against sines of known level and noise of known power."""

import numpy as np
import pytest

from salt_anvil.core.measure.spectrum import SIZE, Spectrum, centres
from tests.conftest import noise, sine


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize("hz", [100, 1000, 9000])
def test_a_sine_reads_its_level_at_its_place(rate: int, hz: float) -> None:
    meter = Spectrum(rate)
    meter.feed(sine(hz, 1.0, rate, level_db=-12))
    levels = meter.levels()
    at = int(np.abs(np.log(centres() / hz)).argmin())
    # A sine between two bands is shared by them.
    near = 10 * np.log10((10 ** (levels[at - 1 : at + 2] / 10)).sum())
    assert near == pytest.approx(-12, abs=0.2)
    assert levels[abs(np.arange(len(levels)) - at) > 4].max() < -50


def test_white_noise_rises_by_3_db_an_octave() -> None:
    found = []
    for seed in range(30):
        meter = Spectrum(48000)
        meter.feed(noise(SIZE, 1, seed=seed))
        found.append(10 ** (meter.levels() / 10))
    mean = 10 * np.log10(np.mean(found, axis=0))
    assert mean[54] - mean[30] == pytest.approx(12.04, abs=0.7)


def test_silence_is_the_floor() -> None:
    assert (Spectrum(48000).levels() == -120).all()
