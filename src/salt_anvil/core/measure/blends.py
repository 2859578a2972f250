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
        mean = _gated(self._blocks(), 0)
        if mean is None:
            return SILENT
        if _level(mean[1:2])[0] < loudness.ABSOLUTE_GATE:
            return SILENT
        return JoinMeasurement(float(mean[0]), float(mean[1]), float(mean[2]))

    def each_for_itself(self) -> JoinMeasurement:
        """Return the integrated powers of both, each by its own gates, and the product."""
        blocks = self._blocks()
        a, b = _gated(blocks, 0), _gated(blocks, 1)
        if a is None or b is None:
            return SILENT
        return JoinMeasurement(float(a[0]), float(b[1]), float(a[2]))

    def _blocks(self) -> Sound:
        """Return both powers and the product per 400 ms block, (blocks, 3)."""
        rows = np.concatenate(self._rows) if self._rows else np.zeros((0, 3))
        if len(rows) < 4:
            return np.asarray(rows.mean(axis=0, keepdims=True) if len(rows) else rows)
        total = np.concatenate([np.zeros((1, 3)), np.cumsum(rows, axis=0)])
        return np.asarray((total[4:] - total[:-4]) / 4)


def _gated(blocks: Sound, by: int) -> Sound | None:
    """Return the mean of the blocks in which one of the two passes both gates of BS.1770-4."""
    kept = blocks[_level(blocks[:, by]) > loudness.ABSOLUTE_GATE]
    if len(kept) == 0:
        return None
    gate = _level(kept[:, by].mean(keepdims=True))[0] + loudness.RELATIVE_GATE
    return np.asarray(kept[_level(kept[:, by]) > gate].mean(axis=0))


def _level(power: Sound) -> Sound:
    return np.asarray(loudness.OFFSET + 10 * np.log10(np.maximum(power, 1e-13)))
