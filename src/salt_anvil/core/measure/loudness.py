"""Loudness after ITU-R BS.1770-4 and loudness range after EBU Tech 3342, from 100 ms rows."""

import math

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.dsp.gating import ABSOLUTE_GATE, gated, level

RANGE_GATE = -20.0
SILENT = -120.0
"""What is given for the loudness of silence."""


def _windows(rows: NDArray[np.float64], count: int) -> NDArray[np.float64]:
    """Return the mean over every run of `count` rows."""
    if len(rows) < count:
        return np.empty(0)
    total = np.concatenate([[0.0], np.cumsum(rows)])
    return np.asarray((total[count:] - total[:-count]) / count)


def momentary(powers: NDArray[np.float64], a_row: int = 1) -> NDArray[np.float64]:
    """Return the loudness in LUFS of every 400 ms window; powers: K-weighted, so many a row."""
    return level(_windows(powers, 4 * a_row))


def short_term(powers: NDArray[np.float64], a_row: int = 1) -> NDArray[np.float64]:
    """Return the loudness in LUFS of every 3 s window."""
    return level(_windows(powers, 30 * a_row))


def integrated(rows: NDArray[np.float64]) -> float:
    """Return the gated loudness in LUFS of a passage (BS.1770-4, annex 1).

    rows: K-weighted power, channels summed, per 100 ms. Less than 400 ms has no loudness.
    """
    power = gated(_windows(rows, 4))
    return float(level(np.array([power]))[0]) if power else SILENT


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
