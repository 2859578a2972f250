"""The de-esser on synthetic s-sounds and vowels, and its ranges against Butterworth magnitudes.

s: noise above 5 kHz (common practice: sibilants have their energy from 4 to 10 kHz, no source).
Vowel: a 150 Hz pulse train that falls by 6 dB an octave, through three resonances at 700, 1200
and 2600 Hz, of our own making.
"""

from typing import Any

import numpy as np
import pytest
from scipy import signal as scipy_signal

from salt_anvil.core.dsp.sibilance import half_length, range_into, ranges, response_db
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.processors import Context
from tests.conftest import RATES, noise, sine
from tests.core.processors.test_contract import run, stage

RATE = 48000
LATE = half_length(RATE)


def ess(frames: int, level: float = 0.1) -> np.ndarray:
    sections = scipy_signal.butter(4, 5000, "highpass", fs=RATE, output="sos")
    return scipy_signal.sosfilt(sections, noise(frames, 1, level=level, seed=4), axis=0)


def vowel(frames: int, level: float = 0.3) -> np.ndarray:
    pulses = np.zeros(frames)
    pulses[:: RATE // 150] = 1
    pulses = scipy_signal.lfilter([1], [1, -0.97], pulses)
    out = np.zeros(frames)
    for hz, part in ((700, 1.0), (1200, 0.5), (2600, 0.2)):
        b, a = scipy_signal.iirpeak(hz, 8, fs=RATE)
        out += part * scipy_signal.lfilter(b, a, pulses)
    return (level * out / np.abs(out).max())[:, None]


def words(level: float = 1.0) -> tuple[np.ndarray, slice, slice]:
    """A vowel, an s, a vowel; where the settled vowel and s are."""
    sound = level * np.concatenate([vowel(24000), ess(12000), vowel(12000)])
    return sound, slice(12000, 24000), slice(26000, 36000)


def passed(sound: np.ndarray, **params: Any) -> tuple[np.ndarray, np.ndarray]:
    """Output with the latency taken out, and reduction per frame, stretched from the cells."""
    unit = Unit(stage("deesser", params), Context(RATE, sound.shape[1]))
    out, reported = run(unit, np.concatenate([sound, np.zeros((LATE, sound.shape[1]))]))
    reduction = np.repeat(reported["reduction_db"][:, 0], 64)[LATE : LATE + len(sound)]
    return out[LATE:], reduction


@pytest.mark.parametrize("level", [1.0, 0.1, 0.03])
@pytest.mark.parametrize("action", ["split", "wide"])
def test_s_is_turned_down_and_vowels_are_not_at_any_level(level: float, action: str) -> None:
    sound, vowels, esses = words(level)
    out, reduction = passed(sound, action=action, ratio=8)
    assert reduction[vowels].max() < 0.1
    assert reduction[esses].mean() > 6
    change = 20 * np.log10(out[esses].std() / sound[esses].std())
    assert -12 < change < -4
    assert np.abs(out[vowels] - sound[vowels]).max() < 0.012 * np.abs(sound[vowels]).max()


def test_with_an_absolute_threshold_quiet_words_are_left_alone() -> None:
    for level, touched in ((1.0, True), (0.03, False)):
        sound, _, esses = words(level)
        _, reduction = passed(sound, relative=False, threshold_db=-30)
        assert (reduction[esses].mean() > 3) == touched


@pytest.mark.parametrize(("slope", "octaves"), [("48", 1), ("24", 2), ("12", 4)])
def test_split_leaves_what_is_below_the_range_within_a_tenth_of_a_db(
    slope: str, octaves: float
) -> None:
    """With 12 dB taken throughout; the steeper the slope, the sooner."""
    hz = round(8000 / 2**octaves / 50) * 50
    low = sine(hz, 1, level_db=-30, channels=1)
    sound = low + sine(13000, 1, level_db=-6, channels=1)
    out, reduction = passed(
        sound, frequency_hz=8000, slope=slope, ratio=20, threshold_db=-40, knee_db=0
    )
    assert reduction[RATE // 2 :].min() > 11.5
    tone, quiet = (np.abs(np.fft.rfft(x[RATE // 2 :, 0]))[hz // 2] for x in (out, low))
    assert 20 * np.log10(tone / quiet) == pytest.approx(0, abs=0.1)


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("slope", [12, 24, 48])
def test_ranges_have_the_magnitude_of_butterworth_filters(rate: int, slope: int) -> None:
    """Of scipy's analogue prototypes, where they are above -20 dB."""
    hz = np.geomspace(1500, 16000, 60)
    taps = ranges(rate, slope, (6000.0, None), None)[0]
    b, a = scipy_signal.butter(slope // 6, 6000, "highpass", analog=True)
    expected = 20 * np.log10(np.abs(scipy_signal.freqs(b, a, hz)[1]))
    there = expected > -20
    assert np.abs(response_db(taps, hz, rate) - expected)[there].max() < 0.25


@pytest.mark.parametrize("rate", [44100, 48000, 192000])
@pytest.mark.parametrize("frames", [1, 47, 48, 49, 1000])
def test_a_range_is_the_convolution_with_its_taps(rate: int, frames: int) -> None:
    """By numpy."""
    taps, half = ranges(rate, 24, (5000.0, None), None)[0], half_length(rate)
    sound, found = noise(frames + 2 * half, 2), np.full((frames, 2), np.nan)
    range_into(found, sound, taps)
    whole = np.concatenate([taps[:0:-1], taps])
    for channel in range(2):
        wanted = np.convolve(sound[:, channel], whole, "valid")
        assert found[:, channel] == pytest.approx(wanted, abs=1e-12)


def test_two_ranges_never_take_more_than_the_whole() -> None:
    hz = np.geomspace(50, 20000, 300)
    taps = ranges(RATE, 24, (5000.0, 1.0), (5500.0, 1.5))
    together = sum(10 ** (response_db(t, hz, RATE) / 20) for t in taps)
    assert together.max() < 1.02


def test_second_range_catches_a_whistle_that_the_first_leaves() -> None:
    sound = sine(2500, 1, level_db=-20, channels=1)
    with_second, _ = passed(sound, second_hz=2500)
    without, _ = passed(sound)
    assert np.abs(without - sound)[RATE // 2 :].max() < 1e-3
    assert 20 * np.log10(with_second[RATE // 2 :].std() / sound[RATE // 2 :].std()) < -3


def test_at_rest_it_is_the_delayed_input_to_the_bit() -> None:
    sound = sine(400, 3, level_db=-12)
    unit = Unit(stage("deesser", {}), Context(RATE, 2))
    out, _ = run(unit, sound)
    assert (out[LATE:] == sound[:-LATE])[2 * RATE :].all()
    assert unit.latency == LATE


def test_mid_side_takes_an_s_from_the_middle_alone() -> None:
    middle, side = ess(RATE), 0.1 * sine(9000, 1, channels=1)
    sound = np.concatenate([middle + side, middle - side], axis=1)
    out, _ = passed(sound, stereo="mid-side", link=0, relative=False, threshold_db=-40)
    settled = out[RATE // 2 :]
    mid = (settled[:, 0] + settled[:, 1]) / 2
    assert 20 * np.log10(mid.std() / middle[RATE // 2 :].std()) < -6


def test_another_signal_as_key_decides() -> None:
    sound, key = ess(RATE), np.zeros((RATE, 1))
    key[RATE // 2 :] = ess(RATE // 2)
    unit = Unit(stage("deesser", {"relative": False, "threshold_db": -50}), Context(RATE, 1))
    out = np.concatenate(
        [unit.process(sound[a : a + 1024], a, key[a : a + 1024]).out for a in range(0, RATE, 1024)]
    )[LATE:]
    assert np.abs(out[: RATE // 2 - 2000] - sound[: RATE // 2 - 2000]).max() < 1e-12
    later = slice(RATE * 3 // 4, RATE - LATE)
    assert 20 * np.log10(out[later].std() / sound[later].std()) < -8
