"""Loudness after ITU-R BS.1770-4 and loudness range after EBU Tech 3342, from 100 ms rows."""

import math

import numpy as np
from numpy.typing import NDArray

OFFSET = -0.691
ABSOLUTE_GATE = -70.0
RELATIVE_GATE = -10.0
RANGE_GATE = -20.0
SILENT = -120.0
"""What is given for the loudness of silence."""


def _level(power: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.asarray(OFFSET + 10 * np.log10(np.maximum(power, 1e-13)))


def _windows(rows: NDArray[np.float64], count: int) -> NDArray[np.float64]:
    """Return the mean over every run of `count` rows."""
    if len(rows) < count:
        return np.empty(0)
    total = np.concatenate([[0.0], np.cumsum(rows)])
    return np.asarray((total[count:] - total[:-count]) / count)


def momentary(powers: NDArray[np.float64], a_row: int = 1) -> NDArray[np.float64]:
    """Return the loudness in LUFS of every 400 ms window; powers: K-weighted, so many a row."""
    return _level(_windows(powers, 4 * a_row))


def short_term(powers: NDArray[np.float64], a_row: int = 1) -> NDArray[np.float64]:
    """Return the loudness in LUFS of every 3 s window."""
    return _level(_windows(powers, 30 * a_row))


def integrated(rows: NDArray[np.float64]) -> float:
    """Return the gated loudness in LUFS of a passage (BS.1770-4, annex 1).

    rows: K-weighted power, channels summed, per 100 ms. Less than 400 ms has no loudness.
    """
    blocks = _windows(rows, 4)
    kept = blocks[_level(blocks) > ABSOLUTE_GATE]
    if len(kept) == 0:
        return SILENT
    gate = _level(kept.mean(keepdims=True))[0] + RELATIVE_GATE
    return float(_level(kept[_level(kept) > gate].mean(keepdims=True))[0])


def loudness_range(rows: NDArray[np.float64]) -> float | None:
    """Return the loudness range in LU (EBU Tech 3342), None for less than 3 s of sound."""
    levels = short_term(rows)
    levels = levels[levels > ABSOLUTE_GATE]
    if len(levels) == 0:
        return None
    mean = 10 * math.log10(float(np.mean(10 ** (levels / 10))))
    levels = levels[levels > mean + RANGE_GATE]
    low, high = np.percentile(levels, [10, 95])
    return float(high - low)
