"""The running spectrum against sines of known level and noise of known power."""

import numpy as np
import pytest
from scipy import signal

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


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize("hz", [2900.0, 11950.0])
def test_what_is_high_and_loud_does_not_fold_into_the_lows(rate: int, hz: float) -> None:
    """What lies around the rate at which the longer windows are looked at, and would fold."""
    meter = Spectrum(rate)
    meter.feed(sine(hz * rate / 48000, 1.5, rate))
    assert meter.levels()[centres() < 250].max() < -110
    if hz > 10000:
        assert meter.levels()[centres() < 2000].max() < -110


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
def test_in_blocks_of_any_length_it_is_scipy_s_periodogram(rate: int) -> None:
    """Of the last frames of each window, as long as they are at the full rate."""
    sound, meter, at = noise(2 * rate, 2, seed=rate), Spectrum(rate), 0
    for count in np.random.default_rng(3).integers(1, 3000, 2000):
        meter.feed(sound[at : at + count])
        at += count
    middle, begin = sound.mean(axis=1), 0.0
    for end, frames in WINDOWS:
        size = 1 << round(np.log2(frames * rate / 48000))
        mine = (centres() >= begin) & (centres() < end)
        begin = end
        window = np.hanning(size)
        hz, power = signal.periodogram(middle[-size:], rate, window, detrend=False)
        half = 2 ** (1 / 24)
        bins = [(hz >= c / half) & (hz < c * half) for c in centres()[mine]]
        wide = [b.sum() > 4 for b in bins]  # where some 100 frames later tell little
        wanted = [10 * np.log10(2 * power[b].sum() * hz[1]) for b in bins if b.sum() > 4]
        differences = np.abs(meter.levels()[mine][wide] - wanted)
        print(len(differences), differences.mean(), differences.max())
        assert len(differences) > 10
        assert differences.mean() < 0.1
