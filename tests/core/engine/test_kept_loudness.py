"""Make-up that keeps the loudness: measured over the song first, then held. By pyloudnorm."""

from typing import Any

import numpy as np
import pyloudnorm
import pytest

from tests.conftest import noise
from tests.routing import RATE, stage, through


def pink(seconds: float) -> np.ndarray:
    """Noise of a power that falls by 3 dB an octave, at about -20 LUFS."""
    spectrum = np.fft.rfft(noise(round(seconds * RATE), 2, seed=7), axis=0)
    spectrum /= np.sqrt(np.maximum(np.arange(len(spectrum)), 20))[:, None]
    sound = np.fft.irfft(spectrum, axis=0)
    return np.asarray(0.1 * sound / sound.std())


def loudness(sound: np.ndarray) -> float:
    return float(pyloudnorm.Meter(RATE).integrated_loudness(sound))


@pytest.mark.parametrize("mix", [1.0, 0.4])
@pytest.mark.parametrize(
    ("kind", "params", "on_top"),
    [
        ("compressor", {"threshold_db": -60, "ratio": 100, "auto_makeup": True}, "makeup_db"),
        ("compressor", {"threshold_db": -30, "ratio": 4, "auto_makeup": True}, "makeup_db"),
        ("saturator", {"drive_db": 24, "harmonics": 0.9, "makeup": "loudness"}, "output_db"),
        ("saturator", {"drive_db": 12, "harmonics": 0.2, "makeup": "loudness"}, "output_db"),
    ],
)
def test_it_comes_out_as_loud_as_it_went_in(
    kind: str, params: dict[str, Any], on_top: str, mix: float
) -> None:
    sound = pink(6) * (1 + 0.5 * np.sin(np.arange(6 * RATE) / RATE * 4))[:, None]
    out = through([stage(kind, **params) | {"mix": mix}], sound)
    assert loudness(out) == pytest.approx(loudness(sound), abs=0.05)
    # From the first second on.
    first = slice(RATE // 10, RATE)
    apart = [20 * np.log10(s[first].std() / s[RATE:].std()) for s in (out, sound)]
    if kind == "saturator":
        assert apart[0] == pytest.approx(apart[1], abs=1.0)
    if mix == 1:
        louder = through([stage(kind, **params, **{on_top: 3.0})], sound)
        assert loudness(louder) == pytest.approx(loudness(sound) + 3, abs=0.1)


def test_what_is_given_back_by_hand_is_not_measured() -> None:
    sound = pink(2)
    settings = {"threshold_db": -30, "auto_makeup": True}
    plain = through([stage("compressor", threshold_db=-30)], sound)
    given = through([stage("compressor", **settings, given_back_db=2.0)], sound)
    assert np.abs(given - plain * 10 ** (2 / 20)).max() < 1e-6  # a strip's output is float32
    silent = through([stage("compressor", **settings)], np.zeros((RATE, 2)))
    assert not silent.any()
