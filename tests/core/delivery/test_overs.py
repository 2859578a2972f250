"""Overs against peaks known in closed form, and against a far longer interpolator."""

import numpy as np
import pytest
from scipy import signal

from salt_anvil.core.delivery.overs import PieceMeter, places


def peaks_of(sound: np.ndarray, rate: int, block: int) -> tuple[np.ndarray, int]:
    meter = PieceMeter(rate, sound.shape[1])
    for at in range(0, len(sound), block):
        meter.feed(sound[at : at + block])
    return meter.flush(), meter.frames


def bursts(rate: int, places_s: list[float], level_db: float) -> np.ndarray:
    """Silence with a hundredth of a second of a sine at a quarter of the rate, between samples."""
    sound = np.zeros((rate * 4, 2))
    n = np.arange(rate // 100)
    window = signal.windows.tukey(len(n), 0.5)
    # Samples lie 45 degrees off the crests: the peak is 3.01 dB over every sample.
    tone = 10 ** (level_db / 20) * np.sin(np.pi / 2 * n + np.pi / 4) * window
    for index, second in enumerate(places_s):
        begin = round(second * rate)
        sound[begin : begin + len(n), index % 2] += tone
    return sound


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize("block", [997, 65536])
def test_places_between_the_samples(rate: int, block: int) -> None:
    at = [0.5, 1.25, 3.0]
    sound = bursts(rate, at, 1.0)
    assert np.abs(sound).max() < 10 ** (-1.9 / 20)
    peaks, piece = peaks_of(sound, rate, block)
    found = places(peaks, piece, 0.0)
    assert [round(o.frame / rate, 1) for o in found] == [0.5, 1.2, 3.0]
    assert [o.peak_dbtp for o in found] == pytest.approx([1.0] * 3, abs=0.1)
    assert places(peaks, piece, 1.2) == []


def test_what_is_near_is_one_place_and_what_is_long_is_several() -> None:
    piece, peaks = 480, np.full(1000, 0.5, np.float32)
    peaks[[100, 105, 109]] = 1.1, 1.2, 1.1
    peaks[150] = 1.05
    assert [o.frame for o in places(peaks, piece, 0)] == [105 * 480, 150 * 480]
    peaks[:] = 1.2
    peaks[730] = 1.5
    found = places(peaks, piece, 0)
    assert len(found) == 10  # ten seconds, no place longer than one
    assert found[7].frame == 730 * 480
    assert max(o.peak_dbtp for o in found) == pytest.approx(20 * np.log10(1.5), abs=1e-3)


def test_all_pieces_against_a_long_interpolator() -> None:
    """scipy's resampling by Fourier over the whole: no windowed filter in common."""
    rng = np.random.default_rng(5)
    sos = signal.butter(6, 18000, fs=48000, output="sos")
    sound = signal.sosfilt(sos, rng.uniform(-1.4, 1.4, (48000, 1)), axis=0)
    peaks, piece = peaks_of(sound, 48000, 5000)
    fine = np.abs(signal.resample(sound, 16 * 48000))[:, 0].reshape(-1, 16 * piece).max(axis=1)
    inner = slice(2, len(fine) - 2)
    assert np.abs(20 * np.log10(peaks[: len(fine)] / fine)[inner]).max() < 0.01


def test_silence_one_frame_and_bad_samples() -> None:
    for frames in (1, 7, 480):
        peaks, piece = peaks_of(np.zeros((frames, 1)), 48000, 100)
        assert places(peaks, piece, -6) == []
    sound = np.zeros((1000, 1))
    sound[10], sound[20] = np.nan, np.inf
    peaks, piece = peaks_of(sound, 48000, 300)
    assert places(peaks, piece, 0) == []
    last = np.zeros((1000, 1))
    last[-1] = 1.5  # the peak of the last sample is not lost
    peaks, piece = peaks_of(last, 48000, 300)
    assert [o.peak_dbtp for o in places(peaks, piece, 0)] == pytest.approx(
        [20 * np.log10(1.5)], abs=0.3
    )
