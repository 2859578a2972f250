"""A running spectrum for the eye: level per twelfth of an octave, long windows for the lows."""

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import Sound
from salt_anvil.core.compiled import measuring
from salt_anvil.core.dsp.between import kaiser

LOW_HZ, PER_OCTAVE, STEPS = 20.0, 12, 120
FLOOR_DB = -120.0
WINDOWS = ((250.0, 32768), (2000.0, 8192), (np.inf, 2048))
"""Up to which frequency how many frames at 48 kHz are looked at; other rates in proportion."""
THINNING = 4
"""Each longer window looks at one in so many frames of what the next shorter one looks at ..."""
KEPT, REMOVED = 0.047, 0.203
"""... filtered: nothing is changed up to one share of the rate, all is taken away from the other on
(at 44.1 kHz up to 2 kHz and half a band, and from what would fold down to there)."""
TAPS, BETA = 51, 12.3
"""For 120 dB (Kaiser's formulas: 0.1102 (A - 8.7), and (A - 7.95) / (14.36 width))."""
DIGEST = 8192
"""Frames that wait at most until they are looked at."""

Rows32 = NDArray[np.float32]


def centres() -> Sound:
    """Return the middle of every band in Hz: twelfths of an octave from 20 Hz to 20.5 kHz."""
    return np.asarray(LOW_HZ * 2 ** (np.arange(STEPS + 1) / PER_OCTAVE))


def _thinning_taps() -> Rows32:
    at = np.arange(TAPS, dtype=np.float64) - TAPS // 2
    taps = np.sinc((KEPT + REMOVED) * at) * kaiser(at, TAPS / 2, BETA)
    return np.asarray(taps / taps.sum(), np.float32)


@measuring
def _thin_into(found: Rows32, whole: Rows32, taps: Rows32) -> None:
    """Fill found (rows, frames) with one in THINNING frames of the filtered rows."""
    for row in range(found.shape[0]):
        for i in range(found.shape[1]):
            part = whole[row, THINNING * i : THINNING * i + len(taps)]
            value = np.float32(0.0)
            for k in range(len(taps)):
                value += taps[k] * part[k]
            found[row, i] = value


@measuring
def _sum_bands_into(
    powers: Sound,
    spectrum: NDArray[np.complex64],
    first: NDArray[np.int64],
    last: NDArray[np.int64],
    scale: float,
) -> None:
    """Fill powers with the sums of a spectrum's squares over the bins [first, last) of each."""
    for band in range(len(powers)):
        part, total = spectrum[first[band] : last[band]], 0.0
        for i in range(len(part)):
            real, imaginary = part[i].real, part[i].imag
            total += real * real + imaginary * imaginary
        powers[band] = scale * total


class _Thinned:
    """Takes two rows; gives one in THINNING frames of them, without what cannot stand there."""

    _taps = _thinning_taps()

    def __init__(self) -> None:
        self._held = np.zeros((2, TAPS - 1), np.float32)

    def take(self, rows: Rows32) -> Rows32:
        whole = np.concatenate([self._held, rows], axis=1)
        count = (whole.shape[1] - TAPS) // THINNING + 1  # 0 where one frame is too few
        self._held = whole[:, count * THINNING :]
        found = np.empty((2, count), np.float32)
        _thin_into(found, whole, self._taps)
        return found


class _Window:
    """The bands that are read from the last so many frames of two rows at some rate."""

    def __init__(self, rate: float, size: int, middles: Sound) -> None:
        window = np.hanning(size)
        self._window = window.astype(np.float32)
        self._past = np.zeros((2, size), np.float32)
        hz = np.fft.rfftfreq(size, 1 / rate)
        half = 2 ** (1 / (2 * PER_OCTAVE))
        nearest = np.rint(middles * size / rate).astype(int)
        low, high = np.searchsorted(hz, middles / half), np.searchsorted(hz, middles * half)
        # Where a band lies between two bins, the nearest one stands for it.
        empty = high <= low
        self._from = np.minimum(np.where(empty, nearest, low), len(hz) - 1)
        self._to = np.clip(np.where(empty, nearest + 1, high), self._from + 1, len(hz))
        # A sine's power is spread over the window's bins; this brings it back to its own.
        self._scale = 4 / (size * float(np.square(window).sum()))

    def feed(self, rows: Rows32) -> None:
        """Take what follows."""
        count = min(rows.shape[1], self._past.shape[1])
        if count:
            kept = self._past[:, count:]
            self._past = np.concatenate([kept, rows[:, -count:]], axis=1)

    def powers(self, which: int) -> Sound:
        """Return the power in every band of one of the rows."""
        powers = np.empty(len(self._from))
        found = np.fft.rfft(self._past[which] * self._window)
        spectrum = found.astype(np.complex64, copy=False)
        _sum_bands_into(powers, spectrum, self._from, self._to, self._scale)
        return powers


class Spectrum:
    """Takes blocks; gives the level in dBFS (full-scale sine: 0) around every centre."""

    def __init__(self, rate: int) -> None:
        middles = centres()
        self._windows: list[_Window] = []
        """The longest, of the lows, first."""
        begin, factor = 0.0, THINNING ** (len(WINDOWS) - 1)
        for end, size in WINDOWS:
            mine = middles[(middles >= begin) & (middles < end)]
            scaled = 1 << round(np.log2(size * rate / 48000))
            self._windows.append(_Window(rate / factor, scaled // factor, mine))
            begin, factor = end, factor // THINNING
        self._thinned = [_Thinned() for _ in WINDOWS[1:]]
        self._waiting: list[Sound] = []
        self._frames = 0

    def feed(self, block: Sound) -> None:
        """Take a block of one or two channels."""
        self._waiting.append(block)
        self._frames += len(block)
        if self._frames > DIGEST:
            self._digest()

    def _digest(self) -> None:
        """Bring what waits into the windows: the middle, half the sum, and half the difference."""
        if not self._frames:
            return
        rows = np.empty((2, self._frames), np.float32)
        at = 0
        for block in self._waiting:
            middle = (block[:, 0] + block[:, -1]) / 2
            rows[0, at : at + len(block)] = middle
            rows[1, at : at + len(block)] = block[:, 0] - middle
            at += len(block)
        self._waiting, self._frames = [], 0
        *lower, shortest = self._windows
        shortest.feed(rows)
        for window, thinned in zip(reversed(lower), self._thinned, strict=True):
            rows = thinned.take(rows)
            window.feed(rows)

    def levels(self) -> Sound:
        """Return the levels of the middle, half the sum, over the last frames in dB."""
        return self._levels(0)

    def side_levels(self) -> Sound:
        """Return the levels of the sides, half the difference."""
        return self._levels(1)

    def _levels(self, which: int) -> Sound:
        self._digest()
        bands = np.concatenate([w.powers(which) for w in self._windows])
        return np.asarray(np.maximum(10 * np.log10(np.maximum(bands, 1e-30)), FLOOR_DB))


def correlation(block: Sound) -> float:
    """Return how alike left and right are: 1 the same, 0 unrelated, -1 opposed; mono is 1."""
    if block.shape[1] == 1:
        return 1.0
    left, right = block.T
    power = float(left @ left) * float(right @ right)
    return float(left @ right) / power**0.5 if power > 1e-20 else 1.0
