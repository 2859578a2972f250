"""Dither and noise shaping against theory; stems that are added up."""

import numpy as np
import pytest
from scipy import signal

from salt_anvil.core.delivery.dither import SEED, Quantiser, seed_of, tpdf
from salt_anvil.core.dsp.noise_shaping import WEIGHTED

FRAMES = 400_000


def error(dither: str, sound: np.ndarray, seed: int = SEED) -> np.ndarray:
    quantiser = Quantiser(16, sound.shape[1], dither=dither, seed=seed)  # type: ignore[arg-type]
    parts = [quantiser.levels(sound[a : a + 7001]) for a in range(0, len(sound), 7001)]
    return np.concatenate(parts) - sound * 32768


def tone(level_db: float) -> np.ndarray:
    return 10 ** (level_db / 20) * np.sin(np.arange(FRAMES) * 0.1)[:, None]


@pytest.mark.parametrize("level_db", [-30.0, -90.0])
def test_shaped_noise_has_the_curve_of_its_filter(level_db: float) -> None:
    """White noise of 3/12 LSB² through 1 - sum h[k] z^-k; mean 0, whatever the signal."""
    found = error("shaped", tone(level_db))[:, 0]
    assert found.mean() == pytest.approx(0, abs=0.004)
    hz, power = signal.welch(found, 44100, nperseg=4096)
    _, wanted = signal.freqz(np.concatenate([[1], -WEIGHTED]), worN=hz, fs=44100)
    expected = 2 * 0.25 / 44100 * np.abs(wanted) ** 2
    inner = slice(20, -20)
    assert np.abs(10 * np.log10(power[inner] / expected[inner])).mean() < 0.5
    # It is quieter where the ear is sharpest, and pays above.
    assert 10 * np.log10(power[(hz > 2500) & (hz < 4500)].mean() / (2 * 0.25 / 44100)) < -10
    assert power[(hz > 18000)].mean() > 10 * 2 * 0.25 / 44100


def test_shaped_noise_does_not_run_away_where_it_is_cut() -> None:
    square = np.sign(np.sin(np.arange(50_000) * 0.01))[:, None] * 1.2
    quantiser = Quantiser(16, 1, dither="shaped")
    levels = quantiser.levels(square)
    assert quantiser.clipped > 40_000
    assert levels.max() == 32767
    assert levels.min() == -32768
    quiet = quantiser.levels(np.zeros((1000, 1)))
    assert np.abs(quiet).max() < 60


def test_eight_stems_added_up() -> None:
    """Noises of their own add up as powers (9 dB for eight); of one seed as amplitudes (18)."""
    names = ["", *(f"strip-{i}" for i in range(7))]
    seeds = [seed_of(name) for name in names]
    assert len(set(seeds)) == 8
    assert seeds[0] == SEED
    zero = np.zeros((FRAMES // 4, 1))

    def power_db(seeds: list[int]) -> float:
        total = sum(error("tpdf", zero, seed) for seed in seeds)
        return 10 * float(np.log10(np.mean(np.square(total)) / 0.25))

    assert power_db(seeds) == pytest.approx(10 * np.log10(8), abs=0.15)
    assert power_db([SEED] * 8) == pytest.approx(20 * np.log10(8), abs=0.15)


def test_noises_of_two_outputs_have_nothing_in_common() -> None:
    one, other = (tpdf(0, FRAMES, 1, seed=seed_of(n))[:, 0] for n in ("fiddle", "drum"))
    likeness = np.corrcoef(one, other)[0, 1]
    assert abs(likeness) < 5 / np.sqrt(FRAMES)


def test_the_noise_is_the_same_whatever_the_signal() -> None:
    """Total error of TPDF: mean and power independent of the level (Lipshitz et al. 1992)."""
    steps = (np.arange(FRAMES) // 1000 / 400)[:, None] / 32768
    found = error("tpdf", steps)[:, 0].reshape(-1, 1000)
    assert np.abs(found.mean(axis=1)).max() < 5 * 0.5 / np.sqrt(1000)
    assert np.square(found).mean(axis=1) == pytest.approx(0.25, abs=0.06)
