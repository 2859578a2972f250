"""What a steady join must know of its two signals, measured over a passage."""

import numpy as np

from salt_anvil.core.audio import Sound, as_block
from salt_anvil.core.dsp import biquad
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.dsp.k_weighting import k_weighting
from salt_anvil.core.measure.rows import hop


class JoinMeter:
    """Takes blocks of two signals in step; gives what a steady join must know of them."""

    def __init__(self, rate: int, channels: int) -> None:
        self._hop = hop(rate)
        self._sections = k_weighting(rate)
        self._states = [np.zeros((2, channels, 2)) for _ in range(2)]
        self._rest = np.zeros((0, 2 * channels))
        self._rows: list[Sound] = []

    def feed(self, a: Sound, b: Sound) -> None:
        """Take blocks of the same length."""
        weighted = []
        for sound, state in zip((a, b), self._states, strict=True):
            block = as_block(sound)
            out = np.empty_like(block)
            biquad.filter_into(out, block, self._sections, state)
            weighted.append(out)
        both = np.concatenate([self._rest, np.concatenate(weighted, axis=1)])
        whole = len(both) // self._hop * self._hop
        self._rest = both[whole:]
        if whole:
            pieces = both[:whole].reshape(-1, self._hop, both.shape[1])
            half = both.shape[1] // 2
            first, second = pieces[:, :, :half], pieces[:, :, half:]
            products = [first * first, second * second, first * second]
            self._rows.append(np.stack([p.mean(axis=1).sum(axis=1) for p in products], axis=1))

    def result(self) -> JoinMeasurement:
        """Return the measurement; of less than 400 ms, one block of all there is."""
        rows = np.concatenate(self._rows) if self._rows else np.zeros((1, 3))
        if len(rows) < 4:
            return JoinMeasurement.of(rows.mean(axis=0, keepdims=True))
        total = np.concatenate([np.zeros((1, 3)), np.cumsum(rows, axis=0)])
        return JoinMeasurement.of((total[4:] - total[:-4]) / 4)
