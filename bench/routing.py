"""`python -m bench.routing`: how flat, how silent, how steady splits and joins are, in figures."""

from typing import Any

import numpy as np
import pyloudnorm
from tests.conftest import noise
from tests.core.dsp.test_crossover import CORNERS, bands_of, pulse
from tests.core.engine.test_splits import ALIGNED, EMPTY, pair
from tests.routing import RATE, bands, split, through

from salt_anvil.core.dsp import crossover


def decibels(sound: np.ndarray) -> np.ndarray:
    """Return the levels of a pulse of 0.5 from 20 Hz to 20 kHz."""
    hz = np.fft.rfftfreq(len(sound), 1 / RATE)
    level = np.abs(np.fft.rfft(sound[:, 0])) / 0.5
    return 20 * np.log10(level[(hz >= 20) & (hz <= 20000)])


def null_db(error: np.ndarray) -> float:
    """Return the greatest error in dBFS."""
    return 20 * float(np.log10(max(np.abs(error).max(), 1e-20)))


def flatness() -> None:
    """Print the greatest deviation of empty bands at every mix."""
    sound = np.zeros((RATE, 2))
    sound[2000] = 0.5
    print("empty bands, dB off flat at mix 0, 1/4, 1/2, 3/4, 1")
    for count in CORNERS:
        for slope in (24, 48):
            found = [
                np.abs(
                    decibels(through([bands(*[EMPTY] * count, slope=slope, mix=m)], sound))
                ).max()
                for m in (0, 0.25, 0.5, 0.75, 1)
            ]
            print(f"  {count} bands {slope} dB: " + " ".join(f"{v:.5f}" for v in found))


def corners() -> None:
    """Print both sides' levels at their corner."""
    print("level at the corner, dB (low, high)")
    for phase in ("minimum", "linear"):
        for slope in (24, 48):
            sides = bands_of(pulse(96000), [200.0], slope, phase, 48000)
            levels = [20 * np.log10(np.abs(np.fft.rfft(s[:, 0]))[400]) for s in sides]
            print(f"  {phase} {slope}: {levels[0]:.4f} {levels[1]:.4f}")


def nulls() -> None:
    """Print what is left of the input under linear phase, and of aligned branches."""
    sound = noise(100_000)
    for count, places in CORNERS.items():
        half = crossover.linear_half(places, 24, RATE)
        whole = sum(bands_of(sound, places, 24, "linear", RATE))
        left = null_db(whole[half:] - sound[: len(sound) - half])
        print(f"linear phase, {count} bands: {left:.0f} dBFS left, {half} frames late")
    for name, wet in ALIGNED.items():
        item = split("copies", EMPTY, wet, join={"law": "linear", "position": 0.5})
        print(f"dry against {name}: {null_db(through([item], sound) - sound):.0f} dBFS left")


def steadiness() -> None:
    """Print how far the loudness moves over the travel of each law."""
    sound = noise(6 * RATE, level=0.1) * (1 + np.arange(6 * RATE)[:, None] % 12000 / 6000)
    meter = pyloudnorm.Meter(RATE)
    print("loudness over the travel, greatest less least, LU")
    for kind in ("identical", "correlated", "uncorrelated", "level-mismatched"):
        a, b = pair(kind)
        found: dict[str, Any] = {}
        for law in ("linear", "equal-power", "steady"):
            levels = [
                meter.integrated_loudness(
                    through([split("copies", a, b, join={"law": law, "position": x})], sound)
                )
                for x in (0, 0.2, 0.4, 0.5, 0.6, 0.8, 1)
            ]
            found[law] = max(levels) - min(levels)
        print(f"  {kind:18} " + "  ".join(f"{law} {v:.3f}" for law, v in found.items()))


if __name__ == "__main__":
    flatness()
    corners()
    nulls()
    steadiness()
