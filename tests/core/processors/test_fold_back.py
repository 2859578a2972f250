"""What bends the wave, against the same bend at 256 times the rate without its filters.

A periodic sound is bent exactly there (its Fourier series, cut at 20 kHz); what the processor adds
to that is fold-back, what it lacks is droop. One tone and two, at 44.1 and 48 kHz.
"""

from collections.abc import Callable
from functools import cache
from typing import Any

import numpy as np
import pytest

from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.processors import Context
from tests.core.processors.test_contract import run, stage

SIZE, FINER = 4096, 256
Bend = Callable[[np.ndarray], np.ndarray]


def odd(x: np.ndarray) -> np.ndarray:
    return x / np.hypot(1, x)


def both(x: np.ndarray) -> np.ndarray:
    return 0.5 * odd(x) + 0.5 * (x - 0.5 * (np.hypot(1, x) - 1))


def hard(x: np.ndarray) -> np.ndarray:
    return np.clip(x, -1, 1)


@cache
def tones(rate: int, *wanted: float, finer: int = 1) -> np.ndarray:
    """Tones on odd bins of SIZE near these frequencies, 0 dBFS together, SIZE * finer values."""
    at = np.arange(SIZE * finer) / (SIZE * finer)
    bins = [round(hz * SIZE / rate) | 1 for hz in wanted]
    return sum(np.sin(2 * np.pi * k * at + n) for n, k in enumerate(bins)) / len(bins)


def spectrum(sound: np.ndarray, rate: int) -> np.ndarray:
    return np.abs(np.fft.rfft(sound)[: int(20000 * SIZE / rate) + 1]) * 2 / len(sound)


def found(kind: str, rate: int, *wanted: float, **params: Any) -> np.ndarray:
    """Spectrum of a period that has settled, to 20 kHz."""
    sound = np.tile(tones(rate, *wanted), 12)[:, None]
    return spectrum(run(Unit(stage(kind, params), Context(rate, 1)), sound)[0][-SIZE:, 0], rate)


@cache
def series(bend: Bend, drive_db: float, rate: int, *wanted: float) -> np.ndarray:
    drive = 10 ** (drive_db / 20)
    return spectrum(bend(drive * tones(rate, *wanted, finer=FINER)) / drive, rate)


def folded_db(got: np.ndarray, exact: np.ndarray) -> float:
    """All that lies where the series has next to nothing, against its greatest, dB."""
    own = exact > exact.max() * 1e-6
    own[:3] = True
    return float(10 * np.log10((got[~own] ** 2).sum() / exact.max() ** 2 + 1e-20))


SHAPERS: dict[str, tuple[str, Bend, dict[str, Any], float]] = {
    "saturator, odd": ("saturator", odd, {"harmonics": 1}, 0),
    "saturator": ("saturator", both, {"harmonics": 0.5}, 0),
    "clipper": ("clipper", hard, {"shape": 1}, 1),
}


@pytest.mark.parametrize("rate", [44100, 48000])
@pytest.mark.parametrize("wanted", [(5000,), (10000,), (3000, 10000)])
@pytest.mark.parametrize("name", list(SHAPERS))
def test_fold_back_of_the_default_and_of_the_best(
    name: str, wanted: tuple[float, ...], rate: int
) -> None:
    kind, bend, params, kept_up = SHAPERS[name]
    for drive_db, quality, most_db in ((24, None, -75), (12, None, -85), (24, "best", -100)):
        settings = {**params, "drive_db": drive_db}
        if quality:
            settings["quality"] = quality
        got = found(kind, rate, *wanted, **settings)
        exact = series(bend, drive_db, rate, *wanted) * 10 ** (kept_up * drive_db / 20)
        assert folded_db(got, exact) < most_db, (drive_db, quality)


@pytest.mark.parametrize("quality", ["good", "high", "best"])
@pytest.mark.parametrize("rate", [44100, 48000])
@pytest.mark.parametrize("name", list(SHAPERS))
def test_a_bend_is_level_to_18_khz(name: str, rate: int, quality: str) -> None:
    """A memoryless bend leaves the fundamental where it is, however low or high the tone."""
    kind, bend, params, kept_up = SHAPERS[name]
    for drive_db in (0, 24):
        for hz in (40, 200, 5000, 10000, 18000):
            got = found(kind, rate, hz, **params, drive_db=drive_db, quality=quality)
            exact = series(bend, drive_db, rate, hz) * 10 ** (kept_up * drive_db / 20)
            k = exact.argmax()
            assert 20 * np.log10(got[k] / exact[k]) == pytest.approx(0, abs=0.1), (drive_db, hz)


@pytest.mark.parametrize("rate", [44100, 48000])
@pytest.mark.parametrize("wanted", [(5000,), (10000,), (3000, 10000)])
def test_fold_back_of_the_compressors_colour(wanted: tuple[float, ...], rate: int) -> None:
    """At full colour and 0 dBFS, which is its greatest drive."""
    settings = {"ratio": 1, "colour": 1, "colour_balance": 1}
    got = found("compressor", rate, *wanted, **settings)
    exact = series(odd, 18, rate, *wanted)
    assert folded_db(got, exact) < -75
    k = exact.argmax()
    assert 20 * np.log10(got[k] / exact[k]) == pytest.approx(0, abs=0.1)


@pytest.mark.parametrize("rate", [44100, 48000])
@pytest.mark.parametrize(("hz", "drive_db"), [(5000, 12), (5000, 24), (10000, 24)])
def test_fold_back_of_the_enhancer(rate: int, hz: float, drive_db: float) -> None:
    settings = {"low_hz": 2000, "high_hz": 12000, "amount_db": 0, "drive_db": drive_db}
    for quality in ("good", "high", "best"):
        got = found("enhancer", rate, hz, **settings, quality=quality)
        k, rest = round(hz * SIZE / rate) | 1, got.copy()
        rest[::k] = rest[:3] = 0
        assert 10 * np.log10((rest**2).sum() / got[k] ** 2) < -100, quality
