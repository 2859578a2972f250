"""Loudness, true peak, range, crest, reduction figures.

Against ITU-R BS.1770-4 (levels stated there), EBU Tech 3341 (cases 1-5 and 15-19, typed from
memory of the table), EBU Tech 3342 (cases 1-4), pyloudnorm, and FFmpeg's ebur128 through PyAV.
"""

import math

import numpy as np
import pyloudnorm
import pytest
from scipy import signal

from salt_anvil.core.dsp.between import EDGE
from salt_anvil.core.dsp.k_weighting import k_weighting
from salt_anvil.core.measure import overview, rows
from salt_anvil.core.measure.overview import mean_squares
from salt_anvil.core.measure.reduction import reduction_figures
from salt_anvil.core.measure.rows import RowMeter, figures
from salt_anvil.core.measure.truepeak import true_peak
from tests.conftest import noise, sine
from tests.other_meters import ffmpeg_summary


def measured(sound: np.ndarray, rate: int = 48000) -> rows.Figures:
    meter = RowMeter(rate, sound.shape[1])
    parts = [meter.feed(sound[at : at + 1024]) for at in range(0, len(sound), 1024)]
    return figures(np.concatenate([*parts, meter.flush()]))


def tones(*levels_seconds: tuple[float, float]) -> np.ndarray:
    return np.concatenate([sine(1000, s, level_db=level) for level, s in levels_seconds])


@pytest.mark.parametrize("rate", [44100, 48000, 96000, 192000])
def test_stated_levels_of_bs1770(rate: int) -> None:
    """0 dBFS at 997 Hz in one channel reads -3.01, in both 0.00."""
    tone = sine(997, 5, rate)
    assert measured(tone, rate).integrated_lufs == pytest.approx(0.0, abs=0.02)
    assert measured(tone * [1, 0], rate).integrated_lufs == pytest.approx(-3.01, abs=0.02)
    assert measured(tone[:, :1], rate).integrated_lufs == pytest.approx(-3.01, abs=0.02)


@pytest.mark.parametrize(
    ("case", "parts", "expected"),
    [
        (1, [(-23, 20)], -23),
        (2, [(-33, 20)], -33),
        (3, [(-36, 10), (-23, 60), (-36, 10)], -23),
        (4, [(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23),
        (5, [(-26, 20), (-20, 20.1), (-26, 20)], -23),
    ],
)
def test_ebu_3341_integrated(case: int, parts: list, expected: float) -> None:
    assert measured(tones(*parts)).integrated_lufs == pytest.approx(expected, abs=0.1), case


@pytest.mark.parametrize(
    ("parts", "expected"),
    [
        ([(-20, 20), (-30, 20)], 10),
        ([(-20, 20), (-15, 20)], 5),
        ([(-40, 20), (-20, 20)], 20),
        ([(-50, 20), (-35, 20), (-20, 20), (-35, 20), (-50, 20)], 15),
    ],
)
def test_ebu_3342_range(parts: list, expected: float) -> None:
    assert measured(tones(*parts)).loudness_range_lu == pytest.approx(expected, abs=1.0)


@pytest.mark.parametrize(
    ("fraction", "degrees", "gain", "expected"),
    [(4, 0, 0.5, -6), (4, 45, 0.5, -6), (6, 60, 0.5, -6), (8, 67.5, 0.5, -6), (4, 45, 1.41, 3)],
)
def test_ebu_3341_true_peak(fraction: int, degrees: float, gain: float, expected: float) -> None:
    """Cases 15-19: sines at 1/fraction of the rate, faded in and out; +0.2/-0.4 dB."""
    at = np.arange(48000)
    fade = np.minimum(1, np.minimum(at, at[::-1]) / 4800)
    wave = gain * np.sin(2 * np.pi * at / fraction + math.radians(degrees)) * fade
    peak = measured(np.repeat(wave[:, None], 2, axis=1)).true_peak_dbtp
    assert expected - 0.4 <= peak <= expected + 0.2


def test_true_peak_against_an_oversampled_sinc() -> None:
    """A band-limited sound, interpolated 16 times by the FFT on the other side."""
    spectrum = np.fft.rfft(noise(8192, 1)[:, 0])
    spectrum[int(0.45 * 8192) :] = 0
    sound = np.fft.irfft(spectrum)
    ideal = np.abs(np.fft.irfft(spectrum * 16, 8192 * 16)).max()
    wrapped = np.concatenate([sound, sound[:EDGE]])[:, None]
    ours = true_peak(wrapped, sound[-EDGE:, None])
    assert -0.01 < 20 * math.log10(ours / ideal) < 0.01


@pytest.mark.parametrize("channels", [1, 2])
def test_powers_against_scipy(channels: int) -> None:
    """K-weighting by scipy's cascade, sums by numpy: every row, and every tenth of it."""
    sound = noise(48000, channels, seed=5)
    meter = RowMeter(48000, channels)
    found = np.concatenate([meter.feed(sound[:20_001]), meter.feed(sound[20_001:]), meter.flush()])
    sections = np.insert(k_weighting(48000), 3, 1.0, axis=1)
    powers = np.square(signal.sosfilt(sections, sound, axis=0)).sum(axis=1)
    assert found[:, rows.K] == pytest.approx(powers.reshape(-1, 4800).mean(axis=1), rel=1e-11)
    tenths = powers.reshape(-1, 480).mean(axis=1)
    assert found[:, rows.FINE :].ravel() == pytest.approx(tenths, rel=1e-11)
    assert mean_squares(sound, 64) == pytest.approx(
        np.square(sound).reshape(750, -1).mean(axis=1), rel=1e-6
    )


@pytest.mark.parametrize("rate", [44100, 48000])
@pytest.mark.parametrize("channels", [1, 2])
def test_against_pyloudnorm(rate: int, channels: int) -> None:
    """Another meter of the same standard; 400 ms of every second at other levels."""
    sound = noise(rate * 12, channels, seed=4)
    sound *= (0.02 + (np.arange(len(sound)) % rate > 0.6 * rate))[:, None]
    theirs = pyloudnorm.Meter(rate).integrated_loudness(sound)
    # 0.1 LU: pyloudnorm designs the weighting at other rates in its own way.
    assert measured(sound, rate).integrated_lufs == pytest.approx(theirs, abs=0.1)


def test_against_ffmpeg() -> None:
    sound = noise(48000 * 20, 2, seed=8) * np.repeat([0.2, 1.0, 0.5, 0.05], 240000)[:, None]
    theirs = ffmpeg_summary(sound, 48000)
    ours = measured(sound)
    assert ours.integrated_lufs == pytest.approx(theirs["I"], abs=0.1)
    assert ours.loudness_range_lu == pytest.approx(theirs["LRA"], abs=0.5)


def test_crest_of_sine_and_square() -> None:
    assert measured(sine(1000, 1)).crest_db == pytest.approx(3.01, abs=0.01)
    assert measured(np.sign(sine(1000, 1) + 1e-9)).crest_db == pytest.approx(0, abs=0.01)


def test_ranges_share_the_power_out() -> None:
    low = measured(sine(80, 2, level_db=-10)).ranges_db
    assert low[0] == pytest.approx(-13.01, abs=0.05)
    assert max(-120.0 if v is None else v for v in low[1:]) < -40
    high = measured(sine(9000, 2, level_db=-10)).ranges_db
    assert high[3] == pytest.approx(-13.01, abs=0.05)


def test_left_right_and_offset() -> None:
    sound = sine(1000, 1) * [1, 0.5] * 0.5 + 0.1
    found = measured(sound)
    power = 10 * math.log10((0.03125 + 0.01) / (0.125 + 0.01))
    assert found.right_to_left_db == pytest.approx(power, abs=0.01)
    assert found.dc_offset == pytest.approx(0.1, abs=1e-6)


@pytest.mark.parametrize(("turn", "correlation"), [(0, 1.0), (90, 0.0), (180, -1.0), (60, 0.5)])
def test_correlation_is_the_cosine_of_the_phase_between_two_sines(
    turn: float, correlation: float
) -> None:
    t = np.arange(48000) / 48000
    phases = np.radians([0, turn])
    found = measured(0.5 * np.sin(2 * np.pi * 1000 * t[:, None] + phases))
    assert found.correlation == pytest.approx(correlation, abs=1e-6)
    # Of half the difference against half the sum: tan²(turn / 2).
    if 0 < turn < 180:
        wanted = 20 * math.log10(math.tan(math.radians(turn / 2)))
        assert found.sides_to_middle_db == pytest.approx(wanted, abs=1e-3)
    else:
        assert found.sides_to_middle_db is None


def test_silence_and_very_short_sounds() -> None:
    assert measured(np.zeros((48000, 2))).integrated_lufs is None
    assert measured(np.zeros((0, 2))).crest_db is None
    short = measured(sine(1000, 0.05))
    # Less than one gating block: BS.1770-4 gives it no loudness.
    assert short.integrated_lufs is None
    assert short.crest_db == pytest.approx(3.01, abs=0.01)
    assert short.loudness_range_lu is None


def test_nonfinite_samples_are_counted() -> None:
    meter = RowMeter(48000, 1)
    sound = np.zeros((4800, 1))
    sound[7] = np.nan
    assert np.isfinite(meter.feed(sound)).all()
    assert meter.bad == 1


def test_reduction_figures_while_active() -> None:
    cells = np.concatenate([np.zeros((80, 2)), np.linspace(1, 10, 20)[:, None] * [0.5, 1]])
    found = reduction_figures(cells)
    assert found.active == pytest.approx(0.2)
    assert found.median == pytest.approx(5.5)
    assert found.most == 10
    assert found.p95 == pytest.approx(np.percentile(np.linspace(1, 10, 20), 95))


@pytest.mark.parametrize("place", range(20))
def test_ebu_3341_momentary_wherever_it_begins(place: int) -> None:
    """Case 13, typed from memory: 400 ms at -23 behind i · 20 ms of silence read -23.0 ±0.1."""
    quiet = np.zeros((place * 960, 2))
    sound = np.concatenate([quiet, sine(1000, 0.4, level_db=-23), np.zeros((48000, 2))])
    assert measured(sound).momentary_max_lufs == pytest.approx(-23, abs=0.1)


@pytest.mark.parametrize("place", range(0, 20, 3))
def test_ebu_3341_short_term_wherever_it_begins(place: int) -> None:
    """Case 10, typed from memory: 3 s at -23 behind i · 150 ms of silence read -23.0 ±0.1."""
    quiet = np.zeros((place * 7200, 2))
    sound = np.concatenate([quiet, sine(1000, 3, level_db=-23), np.zeros((48000, 2))])
    assert measured(sound).short_term_max_lufs == pytest.approx(-23, abs=0.1)


@pytest.mark.parametrize("channels", [1, 2])
def test_peaks_and_the_most_of_pieces_are_numpy_s(channels: int) -> None:
    sound = noise(3 * 64 + 5, channels, seed=channels)
    found = overview.peaks(sound, 64)
    for piece, wanted in enumerate(found):
        assert wanted == pytest.approx(np.abs(sound[64 * piece :][:64]).max(axis=0), rel=1e-6)
    most = np.array([0.0, 9.0, 0.1, 0.2])
    cells = np.abs(np.repeat(sound, 2, axis=1))[:11, ::2]
    overview.raise_to_most(most, cells, 4)
    assert (most == [cells[:4].max(), 9.0, max(cells[8:11].max(), 0.1), 0.2]).all()
