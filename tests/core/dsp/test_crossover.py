"""Band division: magnitudes at the corners, flat and null sums, any block length.

The other side: the analogue magnitude of Linkwitz-Riley pairs, scipy's own Butterworth design,
and the input itself.
"""

import numpy as np
import pytest
from scipy import signal

from salt_anvil.core.dsp import crossover
from tests.conftest import noise

CORNERS = {2: [200.0], 3: [200.0, 2000.0], 4: [80.0, 500.0, 5000.0],
           5: [77.0, 200.0, 2000.0, 8000.0]}  # fmt: skip
HZ = np.geomspace(20, 20000, 400)


def bands_of(sound: np.ndarray, corners: list[float], slope: int, phase: str, rate: int) -> list:
    channels = sound.shape[1]
    if phase == "linear":
        linear = crossover.linear_phase(corners, slope, rate)
        state = crossover.linear_state(linear, channels)
        return crossover.divide_linear(sound, linear, state)
    bands = crossover.minimum_phase(corners, slope, rate)
    return crossover.divide(sound, bands, crossover.minimum_state(bands, channels))[0]


def response(sound: np.ndarray, rate: int, hz: np.ndarray = HZ) -> np.ndarray:
    spectrum = np.fft.rfft(sound[:, 0])
    return np.interp(hz, np.fft.rfftfreq(len(sound), 1 / rate), np.abs(spectrum))


def pulse(frames: int) -> np.ndarray:
    out = np.zeros((frames, 1))
    out[0] = 1.0
    return out


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize("slope", [24, 48])
@pytest.mark.parametrize("count", CORNERS)
def test_bands_add_up_flat(count: int, slope: int, rate: int) -> None:
    whole = sum(bands_of(pulse(rate * 2), CORNERS[count], slope, "minimum", rate))
    assert np.abs(20 * np.log10(response(whole, rate))).max() < 0.01


@pytest.mark.parametrize("phase", ["minimum", "linear"])
@pytest.mark.parametrize("slope", [24, 48])
def test_each_side_is_6_02_db_down_at_its_corner(slope: int, phase: str) -> None:
    for corner in (77.0, 200.0, 2000.0):
        low, high = bands_of(pulse(96000), [corner], slope, phase, 48000)
        for band in (low, high):
            level = 20 * np.log10(response(band, 48000, np.array([corner]))[0])
            assert level == pytest.approx(-6.0206, abs=0.01)


@pytest.mark.parametrize(
    ("rate", "most"), [(8000, 0.4), (44100, 0.31), (48000, 0.15), (96000, 2e-3)]
)
@pytest.mark.parametrize("slope", [24, 48])
def test_the_pair_is_the_analogue_one_up_to_20_khz(slope: int, rate: int, most: float) -> None:
    """scipy's analogue Butterworth, squared, to 80 dB down; the sum is flat to 1e-8."""
    at = np.geomspace(20, min(20000, 0.45 * rate), 400)
    for corner in (20, 100, 1000, 3000, 8000, 12000, 16000, 20000):
        if corner > 0.45 * rate:
            continue
        bands = crossover.minimum_phase([float(corner)], slope, rate)
        found = {}
        for side, sections in (("low", bands.paths[0]), ("high", bands.steps[0])):
            sos = np.insert(sections, 3, 1.0, axis=1)
            found[side] = signal.sosfreqz(sos, at, fs=rate)[1]
            butter = signal.butter(slope // 12, 1, side, analog=True)
            wanted = np.abs(signal.freqs(*butter, at / corner)[1]) ** 2
            near = wanted > 1e-4
            apart = 20 * np.log10(np.abs(found[side])[near] / wanted[near])
            assert np.abs(apart).max(initial=0) < most, (corner, side)
        assert np.abs(np.abs(found["low"] + found["high"]) - 1).max() < 1e-8


def test_linear_phase_has_the_pair_s_magnitude() -> None:
    low, high = bands_of(pulse(96000), [200.0], 24, "linear", 48000)
    squared = (HZ / 200) ** 4
    # Within 0.05 dB down to -60 dB; below that the faded ends of the response show.
    for band, expected in ((low, 1 / (1 + squared)), (high, squared / (1 + squared))):
        seen = response(band, 48000)
        loud = expected > 1e-3
        assert np.abs(20 * np.log10(seen[loud] / expected[loud])).max() < 0.05


@pytest.mark.parametrize("slope", [24, 48])
@pytest.mark.parametrize("count", CORNERS)
def test_linear_phase_sums_to_the_delayed_input(count: int, slope: int) -> None:
    sound = noise(100_000)
    half = crossover.linear_half(CORNERS[count], slope, 48000)
    whole = sum(bands_of(sound, CORNERS[count], slope, "linear", 48000))
    error = whole[half:] - sound[: len(sound) - half]
    assert np.abs(error).max() < 1e-7  # -140 dB


@pytest.mark.parametrize("phase", ["minimum", "linear"])
def test_block_lengths_do_not_matter(phase: str) -> None:
    sound, corners = noise(9000), [200.0, 2000.0]
    whole = bands_of(sound, corners, 24, phase, 48000)
    if phase == "linear":
        linear = crossover.linear_phase(corners, 24, 48000)
        state = crossover.linear_state(linear, 2)
    else:
        bands = crossover.minimum_phase(corners, 24, 48000)
        state = crossover.minimum_state(bands, 2)
    parts: list[list[np.ndarray]] = []
    for at in (0, 1, 700, 5000):
        block = sound[at : {0: 1, 1: 700, 700: 5000, 5000: 9000}[at]]
        if phase == "linear":
            parts.append(crossover.divide_linear(block, linear, state))
        else:
            parts.append(crossover.divide(block, bands, state)[0])
    for index, band in enumerate(whole):
        joined = np.concatenate([p[index] for p in parts])
        assert np.abs(joined - band).max() < 1e-12
