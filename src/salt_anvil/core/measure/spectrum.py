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
        self._past = np.zeros(SIZE)
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
        """Take a block; channels are averaged in power by their sum's half."""
        mono = block.mean(axis=1)
        self._past = np.concatenate([self._past, mono])[-SIZE:]

    def levels(self) -> Sound:
        """Return the levels of the last SIZE frames in dB."""
        power = np.square(np.abs(np.fft.rfft(self._past * self._window))) * self._scale
        total = np.concatenate([[0.0], np.cumsum(power)])
        bands = total[self._to] - total[self._from]
        return np.asarray(np.maximum(10 * np.log10(np.maximum(bands, 1e-30)), FLOOR_DB))
