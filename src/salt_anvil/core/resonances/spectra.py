"""Power over time on a grid of equal steps in pitch, with long windows for the lows."""

from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

Wave = NDArray[np.float64]
PER_OCTAVE = 48
LOW_HZ, HIGH_HZ = 80.0, 12500.0
GRID_HZ: Wave = LOW_HZ * 2 ** (
    np.arange(int(np.log2(HIGH_HZ / LOW_HZ) * PER_OCTAVE) + 1) / PER_OCTAVE
)
"""Frequencies that are judged, 48 to an octave."""
OCTAVES: Wave = np.log2(GRID_HZ)
WINDOWS = ((32768, 280.0), (16384, 1100.0), (8192, 4000.0), (4096, np.inf))
"""Frames at 48 kHz, and up to which frequency they are used."""
ACTIVE_DB = 45.0
"""Frames that are so much quieter than the loudest are left out."""
TINY = 1e-16


class Band(NamedTuple):
    """One window length: powers times frequency of active frames, (frames, bins), and where.

    points: the indices into GRID_HZ that it answers for.
    """

    power: Wave
    hz: Wave
    points: NDArray[np.int64]


def window_frames(frames: int, rate: int) -> int:
    """Return a window's length at a rate: a power of two near what it is at 48 kHz."""
    return int(1 << round(np.log2(frames * rate / 48000)))


def periodograms(sound: Wave, size: int, hop: int) -> Wave:
    """Return the powers of Hann-windowed frames, (frames, bins); a short sound is filled up."""
    from scipy.fft import rfft  # takes a third of a second to import

    if len(sound) < size:
        sound = np.concatenate([sound, np.zeros(size - len(sound))])
    window = np.hanning(size + 1)[:-1]
    frames = sliding_window_view(sound, size)[::hop]
    out = np.empty((len(frames), size // 2 + 1))
    for begin in range(0, len(frames), 64):
        found = rfft(frames[begin : begin + 64] * window, axis=1)
        out[begin : begin + 64] = np.square(found.real) + np.square(found.imag)
    return out / (0.375 * size)


def active(power: Wave) -> NDArray[np.bool_]:
    """Say of every row whether it is loud enough to count."""
    total = power.sum(axis=1)
    return np.asarray(total > total.max(initial=TINY) * 10 ** (-ACTIVE_DB / 10))


def averaged(values: Wave, size: int) -> Wave:
    """Return the mean of so many values around each, along the last axis."""
    from scipy.ndimage import uniform_filter1d  # takes a tenth of a second to import

    return np.asarray(uniform_filter1d(values, size, mode="nearest"))


def bands(sound: Wave, rate: int) -> list[Band]:
    """Return the sound, (frames,), through all windows; each an octave wider than its own part."""
    found, begin = [], 0.0
    for frames, end in WINDOWS:
        size = window_frames(frames, rate)
        power = periodograms(sound, size, size // 2)
        hz = np.fft.rfftfreq(size, 1 / rate)
        kept = (hz >= max(30.0, begin / 2)) & (hz <= min(0.49 * rate, 2 * end, 20000.0))
        power = power[:, kept] * hz[kept]
        points = np.flatnonzero((begin <= GRID_HZ) & (end > GRID_HZ))
        found.append(Band(power[active(power)] + TINY, np.asarray(hz[kept], np.float64), points))
        begin = end
    return found


@lru_cache(maxsize=64)
def _triangles(low: float, step: float, bins: int, middles: tuple[float, ...], half: float) -> Wave:
    hz = low + step * np.arange(bins)
    centre = np.array(middles)
    reach = np.maximum(half, np.log2(step / centre + 1))[:, None]
    far = np.abs(np.log2(hz)[None] - np.log2(centre)[:, None])
    weights = np.maximum(0.0, 1 - far / reach)
    weights /= np.maximum(weights.sum(axis=1, keepdims=True), TINY)
    weights.setflags(write=False)
    return np.asarray(weights)


def triangles(hz: Wave, middles: Wave, half: float) -> Wave:
    """Return weights (middles, bins) that add up to 1 over `half` octaves to each side."""
    return _triangles(float(hz[0]), float(hz[1] - hz[0]), len(hz), tuple(middles.tolist()), half)
