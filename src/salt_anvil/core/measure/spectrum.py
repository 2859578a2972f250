"""A running spectrum for the eye: level per sixth of an octave."""

import numpy as np

from salt_anvil.core.dsp.gate import Sound

SIZE = 8192
LOW_HZ, STEPS = 20.0, 60
FLOOR_DB = -120.0


def centres() -> Sound:
    """Return the middle of every band in Hz: sixths of an octave from 20 Hz to 20.5 kHz."""
    return np.asarray(LOW_HZ * 2 ** (np.arange(STEPS + 1) / 6))


class Spectrum:
    """Takes blocks; gives the level in dBFS (full-scale sine: 0) around every centre."""

    def __init__(self, rate: int) -> None:
        self._past = np.zeros((SIZE, 2))
        self._window = np.hanning(SIZE)
        hz = np.fft.rfftfreq(SIZE, 1 / rate)
        middles = centres()
        edges = np.concatenate([middles[:1], middles]) * 2 ** (1 / 12)
        edges[0] = middles[0] * 2 ** (-1 / 12)
        low = np.searchsorted(hz, edges[:-1])
        self._from = np.minimum(low, len(hz) - 1)
        self._to = np.clip(np.searchsorted(hz, edges[1:]), self._from + 1, len(hz))
        # A sine's power is spread over the window's bins; this brings it back to its own.
        self._scale = 4 / (SIZE * np.square(self._window).sum())

    def feed(self, block: Sound) -> None:
        """Take a block of one or two channels."""
        middle = block.mean(axis=1)
        sides = block[:, 0] - middle
        self._past = np.concatenate([self._past, np.column_stack([middle, sides])])[-SIZE:]

    def levels(self) -> Sound:
        """Return the levels of the middle, half the sum, over the last SIZE frames in dB."""
        return self._levels(0)

    def side_levels(self) -> Sound:
        """Return the levels of the sides, half the difference."""
        return self._levels(1)

    def _levels(self, which: int) -> Sound:
        power = np.square(np.abs(np.fft.rfft(self._past[:, which] * self._window))) * self._scale
        total = np.concatenate([[0.0], np.cumsum(power)])
        bands = total[self._to] - total[self._from]
        return np.asarray(np.maximum(10 * np.log10(np.maximum(bands, 1e-30)), FLOOR_DB))


def correlation(block: Sound) -> float:
    """Return how alike left and right are: 1 the same, 0 unrelated, -1 opposed; mono is 1."""
    if block.shape[1] == 1:
        return 1.0
    left, right = block.T
    power = float(left @ left) * float(right @ right)
    return float(left @ right) / power**0.5 if power > 1e-20 else 1.0
