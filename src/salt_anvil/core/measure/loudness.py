"""Loudness after ITU-R BS.1770-4 and loudness range after EBU Tech 3342, from 100 ms rows."""

import math

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import Sound

# BS.1770-4, tables 1 and 2: coefficients at 48 kHz (typed from memory, checked in the tests
# against the levels that the recommendation states and against two other meters).
_SHELF = (
    1.53512485958697,
    -2.69169618940638,
    1.19839281085285,
    -1.69065929318241,
    0.73248077421585,
)
_CUT = (1.0, -2.0, 1.0, -1.99004745483398, 0.99007225036621)
_PRINTED_RATE = 48000

OFFSET = -0.691
ABSOLUTE_GATE = -70.0
RELATIVE_GATE = -10.0
RANGE_GATE = -20.0
SILENT = -120.0
"""What is given for the loudness of silence."""


def k_weighting(rate: int) -> Sound:
    """Return the two sections of the K-weighting as (2, 5): b0, b1, b2, a1, a2.

    At 48 kHz they are the printed ones; at other rates the analogue prototypes behind them are
    kept by mapping each section's own frequency through the bilinear transform again.
    """
    return np.array([_moved(_SHELF, rate), _moved(_CUT, rate)])


def _moved(printed: tuple[float, ...], rate: int) -> Sound:
    """Undo the bilinear transform at 48 kHz and do it at another rate, with prewarping."""
    b0, b1, b2, a1, a2 = printed
    if rate == _PRINTED_RATE:
        return np.array(printed)
    # s = (1 - 1/z) / (1 + 1/z): B(s) and A(s) as coefficients of s**2, s, 1.
    top = np.array([b0 - b1 + b2, 2 * (b0 - b2), b0 + b1 + b2])
    bottom = np.array([1 - a1 + a2, 2 * (1 - a2), 1 + a1 + a2])
    corner = math.sqrt(bottom[2] / bottom[0])
    hz = math.atan(corner) * _PRINTED_RATE / math.pi
    stretch = math.tan(math.pi * hz / rate) / corner
    scale = np.array([1.0, stretch, stretch**2])
    top, bottom = top * scale, bottom * scale

    def to_z(p: Sound) -> Sound:
        return np.array([p[0] + p[1] + p[2], 2 * (p[2] - p[0]), p[0] - p[1] + p[2]])

    b, a = to_z(top), to_z(bottom)
    return np.asarray(np.concatenate([b, a[1:]]) / a[0])


def _level(power: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.asarray(OFFSET + 10 * np.log10(np.maximum(power, 1e-13)))


def _windows(rows: NDArray[np.float64], count: int) -> NDArray[np.float64]:
    """Return the mean over every run of `count` rows."""
    if len(rows) < count:
        return np.empty(0)
    total = np.concatenate([[0.0], np.cumsum(rows)])
    return np.asarray((total[count:] - total[:-count]) / count)


def momentary(rows: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the loudness in LUFS of every 400 ms window; rows are K-weighted powers."""
    return _level(_windows(rows, 4))


def short_term(rows: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the loudness in LUFS of every 3 s window."""
    return _level(_windows(rows, 30))


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
