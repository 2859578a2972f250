"""What a steady join must know of its two signals, measured over a passage."""

import numpy as np

from salt_anvil.core.audio import Sound, as_block
from salt_anvil.core.dsp import biquad
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.dsp.k_weighting import k_weighting
from salt_anvil.core.measure import loudness
from salt_anvil.core.measure.rows import hop

SILENT = JoinMeasurement(0.0, 0.0, 0.0)


class JoinMeter:
    """Takes blocks of two signals in step; gives K-weighted powers and their mean product.

    Only the 400 ms blocks (75 % overlap) count in which the first, dry one passes the absolute
    and the relative gate of BS.1770-4.
    """

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
        """Return the measurement; nothing heard where either is below -70 LUFS."""
        rows = np.concatenate(self._rows) if self._rows else np.zeros((0, 3))
        if len(rows) < 4:
            blocks = rows.mean(axis=0, keepdims=True) if len(rows) else rows
        else:
            total = np.concatenate([np.zeros((1, 3)), np.cumsum(rows, axis=0)])
            blocks = (total[4:] - total[:-4]) / 4
        kept = blocks[_level(blocks[:, 0]) > loudness.ABSOLUTE_GATE]
        if len(kept) == 0:
            return SILENT
        gate = _level(kept[:, 0].mean(keepdims=True))[0] + loudness.RELATIVE_GATE
        mean = kept[_level(kept[:, 0]) > gate].mean(axis=0)
        if _level(mean[1:2])[0] < loudness.ABSOLUTE_GATE:
            return SILENT
        return JoinMeasurement(float(mean[0]), float(mean[1]), float(mean[2]))


def _level(power: Sound) -> Sound:
    return np.asarray(loudness.OFFSET + 10 * np.log10(np.maximum(power, 1e-13)))
