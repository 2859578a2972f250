"""Values between the samples, against a meter that scipy makes in one step, in double precision."""

import numpy as np
import pytest

from salt_anvil.core.dsp import between
from salt_anvil.core.dsp.between import AFTER, BEFORE, EDGE
from salt_anvil.core.measure.truepeak import true_peak
from tests.conftest import noise, sine
from tests.hard_sounds import fine_line, hard_sounds, polyphase_peak_db


@pytest.mark.parametrize(("name", "sound"), hard_sounds().items())
def test_the_meter_reads_what_256_taps_read(name: str, sound: np.ndarray) -> None:
    """Bursts, random signs, the worst of all signals, sweeps that end abruptly (bar: 0.05 dB)."""
    around = np.zeros((EDGE, 1))
    ours = true_peak(np.concatenate([sound, around]), around)
    assert 20 * np.log10(ours) == pytest.approx(polyphase_peak_db(sound), abs=0.005)


@pytest.mark.parametrize("frames", [1, 2, 95, 96, 97, 500])
def test_every_frame_against_the_long_filter(frames: int) -> None:
    """From each frame to the next, in both channels, at lengths that fill no step."""
    whole = noise(frames + EDGE, 2, seed=frames)
    peaks = np.empty((frames, 2))
    between.peaks_into(peaks, whole, 0.0)
    points = np.abs(fine_line(whole))[16 * BEFORE :]
    wanted = [points[16 * i : 16 * i + 16].max(axis=0) for i in range(frames)]
    assert np.allclose(peaks, wanted, atol=1e-3)


STEPS = np.cumsum(noise(9600, 2) * (noise(9600, 2, seed=2) > 0.5), axis=0)
SEVERAL = {
    "noise that swells": noise(9600, 2) * np.linspace(0, 1, 9600)[:, None] ** 4,
    "low": np.cumsum(noise(9600, 2), axis=0),
    "low, and bright under it": np.cumsum(noise(9600, 2), axis=0) + 0.5 * noise(9600, 2, seed=3),
    "steps": STEPS,
    "random signs": np.sign(noise(9600, 2)),
    "a tone near the top": sine(23900, 0.2),
    "a low tone": sine(90, 0.2),
    "single frames": (np.arange(9600) % 777 == 0)[:, None] * np.array([1.0, -0.7]),
}


@pytest.mark.parametrize(("name", "whole"), SEVERAL.items())
def test_passed_over_stretches_change_nothing(name: str, whole: np.ndarray) -> None:
    """What is not looked at is under what is asked for."""
    every, some = np.empty((2, 9600 - EDGE, 2))
    between.peaks_into(every, whole, -1.0)
    least = float(np.quantile(every, 0.95))
    between.peaks_into(some, whole, least)
    over = every > least
    assert 0 < over.mean() < 0.06
    assert (some[over] == every[over]).all()
    assert (some <= every).all()
    own = np.abs(whole[BEFORE : BEFORE + 13 * 700])
    pieces = own.reshape(13, -1).max(axis=1)
    between.pieces_into(pieces, whole[: EDGE + 13 * 700], 700)
    assert (pieces == every[: 13 * 700].reshape(13, -1).max(axis=1)).all()


def test_greater_samples_than_a_float32_can_hold() -> None:
    whole = np.zeros((EDGE + 1, 1))
    whole[BEFORE] = 1e300
    peaks = np.zeros(1)
    between.pieces_into(peaks, whole, 1)
    assert 1e29 < peaks[0] < 1e31
    assert len(whole) == BEFORE + 1 + AFTER
