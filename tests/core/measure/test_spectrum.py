"""The running spectrum against sines of known level and noise of known power."""

import numpy as np
import pytest

from salt_anvil.core.measure.spectrum import WINDOWS, Spectrum, centres
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
    # The lobe of the window is two bins wide on each side, at most a fifth of an octave here.
    assert levels[abs(np.arange(len(levels)) - at) > 5].max() < -45


@pytest.mark.parametrize("hz", [60, 120, 240])
def test_notes_a_whole_tone_apart_are_two_peaks(hz: float) -> None:
    meter = Spectrum(48000)
    meter.feed(sine(hz, 1.0, level_db=-12) + sine(hz * 2 ** (4 / 12), 1.0, level_db=-12))
    levels = meter.levels()
    at = int(np.abs(np.log(centres() / hz)).argmin())
    assert levels[at + 2] < min(levels[at], levels[at + 4]) - 6


def test_white_noise_rises_by_3_db_an_octave() -> None:
    found = []
    for seed in range(30):
        meter = Spectrum(48000)
        meter.feed(noise(WINDOWS[0][1], 1, seed=seed))
        found.append(10 ** (meter.levels() / 10))
    mean = 10 * np.log10(np.mean(found, axis=0))
    assert mean[108] - mean[84] == pytest.approx(2 * 3.01, abs=0.7)


def test_silence_is_the_floor() -> None:
    assert (Spectrum(48000).levels() == -120).all()
