"""The K-weighting of ITU-R BS.1770-4, at any rate."""

import math

import numpy as np

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
