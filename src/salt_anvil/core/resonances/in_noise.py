"""Resonances where the sound is like noise: what stands out of its long-term spectrum.

The level of a band of noise, B wide and looked at for T, spreads by 4.34 / sqrt(B T) dB, and the
mean of its decibels lies 2.5 dB under the decibels of its mean (the power of one bin of noise is
exponentially distributed: both follow from that). So what is noise, and how sure one can be, is
read off the sound itself.
"""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.dsp.resonance_cut import flank_octaves
from salt_anvil.core.resonances.bells import Bell, Fit, fit
from salt_anvil.core.resonances.spectra import (
    GRID_HZ,
    OCTAVES,
    PER_OCTAVE,
    TINY,
    Band,
    Wave,
    active,
    averaged,
    periodograms,
    triangles,
)

LEAST_SIGMAS = 7.0
GAINS_DB, MOVING_GAIN_DB = (3.0, 20.0), 4.0
FLUCTUATION_DB = (-4.6, -0.7)
"""Mean of the decibels less the decibels of the mean, over time: -2.5 for noise."""
FLATNESS_DB = (-4.6, -0.6)
"""The same over frequency, within a frame."""
TONAL_DB, TONAL_GAIN_DB = -1.3, 6.0
"""Where it fluctuates less than this, the source may sound there itself: only more gain counts."""
NOISY_SHARE = 0.7
"""Of half an octave to each side, so much has to be noise."""
EDGE_POINTS = PER_OCTAVE // 6
"""So near to the ends of what is looked at there is no flank to stand over."""
MODEL_DB = 0.35
"""How well a smooth course and bells describe a real spectrum at best."""
LEFT_DB = 1.6
"""Where more than this is left unexplained, nothing is believed."""
LEAST_SHARE = 0.4
"""In noise a resonance is there whenever there is sound; a drum's own boom is not."""
AUDIBLE_DB = 45.0
"""What lies further below the loudest range is not judged."""


class Noise(NamedTuple):
    """What the noise in a sound shows: where it is, and what rings."""

    where: NDArray[np.bool_]
    bells: tuple[Bell, ...]


def look(bands: list[Band], sound: Wave, rate: int) -> Noise:
    """Return what rings where the sound (frames,) is like noise."""
    n = len(GRID_HZ)
    level, sigma = np.zeros(n), np.full(n, 9.0)
    over_time, over_hz, absolute = np.zeros(n), np.zeros(n), np.full(n, -300.0)
    for band in bands:
        if not len(band.points) or len(band.power) == 0:
            continue
        k = band.points
        even = band.power / _surroundings(band)
        mean = even.mean(axis=0)
        decibels = 10 * np.log10(even)
        middles = GRID_HZ[k]
        narrow, broad = triangles(band.hz, middles, 1 / 24), triangles(band.hz, middles, 1 / 6)
        level[k] = 10 * np.log10(narrow @ mean)
        over_time[k] = broad @ (decibels.mean(axis=0) - 10 * np.log10(mean))
        over_hz[k] = _flatness(even / mean, decibels - 10 * np.log10(mean), band.hz, OCTAVES[k])
        # A Hann window lets neighbours in frequency (1.5 bins) and in time (0.93) know each other.
        bins = 1 / np.square(narrow).sum(axis=1) / 1.5
        sigma[k] = 4.34 / np.sqrt(np.maximum(bins, 1) * len(even) * 0.93)
        absolute[k] = 10 * np.log10(broad @ band.power.mean(axis=0))
    noisy = _between(over_time, FLUCTUATION_DB) & _between(over_hz, FLATNESS_DB)
    noisy &= absolute > absolute.max() - AUDIBLE_DB
    where = averaged(noisy.astype(float), PER_OCTAVE + 1) > NOISY_SHARE
    if where.sum() < PER_OCTAVE:
        return Noise(np.zeros(n, bool), ())
    fitted = fit(level, np.hypot(sigma, MODEL_DB), where, LEAST_SIGMAS)
    # Lines that stand still fluctuate as little as it likes, but no bells explain them.
    rough = np.sqrt(averaged(np.square(fitted.left), PER_OCTAVE + 1))
    where &= rough < LEFT_DB
    steady = over_time > TONAL_DB
    kept = tuple(
        b for b in fitted.bells
        if (b.gain_db >= TONAL_GAIN_DB or not steady[b.point])
        and _believed(b, fitted, where, sound, rate)
    )  # fmt: skip
    return Noise(where, kept)


def _between(values: Wave, limits: tuple[float, float]) -> NDArray[np.bool_]:
    return (values > limits[0]) & (values < limits[1])


def _surroundings(band: Band) -> Wave:
    """Return every frame's own mean power over an octave to each side, (frames, bins)."""
    octaves = np.log2(band.hz)
    coarse = np.linspace(octaves[0], octaves[-1], max(3, int(6 * (octaves[-1] - octaves[0]))))
    level = 10 * np.log10(band.power @ triangles(band.hz, 2**coarse, 1 / 3).T)
    far = np.abs(coarse[:, None] - coarse[None])
    hann = np.where(far < 1, np.cos(np.pi * far / 2) ** 2, 0.0)
    level = level @ (hann / hann.sum(axis=0))
    right = np.clip(np.searchsorted(coarse, octaves), 1, len(coarse) - 1)
    share = (octaves - coarse[right - 1]) / (coarse[right] - coarse[right - 1])
    between = level[:, right - 1] * (1 - share) + level[:, right] * share
    return np.asarray(10 ** (between / 10))


def _flatness(even: Wave, decibels: Wave, hz: Wave, octaves: Wave) -> Wave:
    """Return the mean over frames of geometric over arithmetic mean, half an octave each side.

    even, decibels: the same powers, (frames, bins).
    """
    places = np.linspace(octaves[0], octaves[-1], max(2, int(6 * (octaves[-1] - octaves[0]))))
    found = []
    for place in places:
        # Slices: what lies beside each other is not copied.
        begin, end = np.searchsorted(np.log2(hz), [place - 0.5, place + 0.5])
        near = slice(begin, end)
        flat = decibels[:, near].mean(axis=1) - 10 * np.log10(even[:, near].mean(axis=1))
        found.append(flat.mean() if end - begin > 3 else -20.0)
    return np.asarray(np.interp(octaves, places, found))


def _believed(bell: Bell, fitted: Fit, where: NDArray[np.bool_], sound: Wave, rate: int) -> bool:
    if not EDGE_POINTS <= bell.point < len(GRID_HZ) - EDGE_POINTS:
        return False
    least = MOVING_GAIN_DB if bell.octaves else GAINS_DB[0]
    if not least <= bell.gain_db <= GAINS_DB[1] or bell.sigmas < LEAST_SIGMAS:
        return False
    near = (np.abs(np.log2(bell.hz) - OCTAVES) < 0.5) & where
    if not near.any() or np.sqrt(np.mean(np.square(fitted.left[near]))) > LEFT_DB:
        return False
    return share_of_time(bell, sound, rate) >= LEAST_SHARE


def share_of_time(bell: Bell, sound: Wave, rate: int) -> float:
    """Return in which share of the frames with sound a place rises by half of what is expected."""
    wanted = 4 * rate / (bell.hz / bell.q)
    size = 1 << int(np.clip(np.ceil(np.log2(wanted)), 10, 15))
    power = periodograms(sound, size, size // 2)
    hz = np.fft.rfftfreq(size, 1 / rate)
    far = np.log2(np.maximum(hz, 1.0) / bell.hz)
    half = max((0.72 / bell.q + bell.octaves) / 2, 1.44 * hz[1] / bell.hz)
    flank = flank_octaves(bell.q) + bell.octaves / 2
    power *= hz
    inside = power[:, np.abs(far) <= half].mean(axis=1)
    sides = [power[:, np.abs(far - s * flank) < 0.15].mean(axis=1) for s in (-1, 1)]
    heard = active(power[:, np.abs(far) < 1])
    over = 10 * np.log10((inside + TINY) / np.sqrt((sides[0] + TINY) * (sides[1] + TINY)))
    expected = bell.shape[np.abs(OCTAVES - np.log2(bell.hz)) <= half].mean()
    return float(np.mean(over[heard] > expected / 2))
