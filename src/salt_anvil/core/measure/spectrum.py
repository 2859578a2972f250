"""A running spectrum for the eye: level per twelfth of an octave, long windows for the lows."""

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import Sound

LOW_HZ, PER_OCTAVE, STEPS = 20.0, 12, 120
FLOOR_DB = -120.0
WINDOWS = ((250.0, 32768), (2000.0, 8192), (np.inf, 2048))
"""Up to which frequency how many frames at 48 kHz are looked at; other rates in proportion."""


def centres() -> Sound:
    """Return the middle of every band in Hz: twelfths of an octave from 20 Hz to 20.5 kHz."""
    return np.asarray(LOW_HZ * 2 ** (np.arange(STEPS + 1) / PER_OCTAVE))


class _Window:
    """The bands that are read from the last so many frames."""

    def __init__(self, rate: int, size: int, middles: Sound) -> None:
        self.size, self._window = size, np.hanning(size).astype(np.float32)
        hz = np.fft.rfftfreq(size, 1 / rate)
        half = 2 ** (1 / (2 * PER_OCTAVE))
        nearest = np.rint(middles * size / rate).astype(int)
        low, high = np.searchsorted(hz, middles / half), np.searchsorted(hz, middles * half)
        # Where a band lies between two bins, the nearest one stands for it.
        empty = high <= low
        self._from = np.minimum(np.where(empty, nearest, low), len(hz) - 1)
        self._to = np.clip(np.where(empty, nearest + 1, high), self._from + 1, len(hz))
        # A sine's power is spread over the window's bins; this brings it back to its own.
        self._scale = 4 / (size * float(np.square(np.hanning(size)).sum()))

    def powers(self, past: NDArray[np.float32]) -> Sound:
        found = np.fft.rfft(past[-self.size :] * self._window)
        power = (np.square(found.real) + np.square(found.imag)) * self._scale
        total = np.concatenate([[0.0], np.cumsum(power, dtype=np.float64)])
        return np.asarray(total[self._to] - total[self._from])


class Spectrum:
    """Takes blocks; gives the level in dBFS (full-scale sine: 0) around every centre."""

    def __init__(self, rate: int) -> None:
        middles = centres()
        self._windows, begin = [], 0.0
        for end, size in WINDOWS:
            mine = middles[(middles >= begin) & (middles < end)]
            scaled = 1 << round(np.log2(size * rate / 48000))
            self._windows.append(_Window(rate, scaled, mine))
            begin = end
        self._size = max(w.size for w in self._windows)
        # For the eye float32 will do, at a third of the time.
        self._past = np.zeros((2, 2 * self._size), np.float32)
        self._end = self._size

    def feed(self, block: Sound) -> None:
        """Take a block of one or two channels."""
        block = block[-self._size :]
        if self._end + len(block) > self._past.shape[1]:
            self._past[:, : self._size] = self._past[:, self._end - self._size : self._end]
            self._end = self._size
        middle = (block[:, 0] + block[:, -1]) / 2
        space = self._past[:, self._end : self._end + len(block)]
        space[0] = middle
        space[1] = block[:, 0] - middle
        self._end += len(block)

    def levels(self) -> Sound:
        """Return the levels of the middle, half the sum, over the last frames in dB."""
        return self._levels(0)

    def side_levels(self) -> Sound:
        """Return the levels of the sides, half the difference."""
        return self._levels(1)

    def _levels(self, which: int) -> Sound:
        past = self._past[which, : self._end]
        bands = np.concatenate([w.powers(past) for w in self._windows])
        return np.asarray(np.maximum(10 * np.log10(np.maximum(bands, 1e-30)), FLOOR_DB))


def correlation(block: Sound) -> float:
    """Return how alike left and right are: 1 the same, 0 unrelated, -1 opposed; mono is 1."""
    if block.shape[1] == 1:
        return 1.0
    left, right = block.T
    power = float(left @ left) * float(right @ right)
    return float(left @ right) / power**0.5 if power > 1e-20 else 1.0
