"""Decibels: exact conversions for arrays and numbers, and polynomial ones for kernels.

The kernels' logarithm is the atanh series after a reduction of the mantissa to
[sqrt(1/2), sqrt(2)); their exponential is the Taylor series of 2**f on [-1/2, 1/2]. Both are
good to 1e-11 dB and vectorise, which libm's do not.
"""

import math

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import FLOOR_AMPLITUDE, Sound
from salt_anvil.core.compiled import inlined

SILENCE_DB = -300.0
"""The level of digital silence; amplitude 1e-15."""
DB_PER_OCTAVE = 20.0 * math.log10(2.0)
"""Decibels of a doubling of amplitude: 6.0206."""

_SQRT_HALF_BITS = 0x3FE6A09E667F3BCD
_TWO_OVER_LN2 = 2.0 / math.log(2.0)
_LN2 = math.log(2.0)
_E = tuple(_LN2**k / math.factorial(k) for k in range(12))


def to_db(amplitude: float) -> float:
    """Return the level in dB of a linear amplitude; SILENCE_DB for 0."""
    return 20.0 * math.log10(max(abs(amplitude), FLOOR_AMPLITUDE))


def to_gain(level_db: float) -> float:
    """Return the linear amplitude of a level in dB."""
    return float(10.0 ** (level_db / 20.0))


def power_to_db(power: float) -> float:
    """Return the level in dB of a mean square; SILENCE_DB for 0."""
    return 10.0 * math.log10(max(power, FLOOR_AMPLITUDE**2))


@inlined
def log2_into(amplitude: Sound, exponent: Sound, n: int, scale: float) -> None:
    """Replace amplitude[:n] (positive, normal) by scale * log2(amplitude)."""
    bits = amplitude.view(np.int64)
    for i in range(n):
        e = (bits[i] - _SQRT_HALF_BITS) >> 52
        exponent[i] = float(e)
        bits[i] -= e << 52
    for i in range(n):
        m = amplitude[i]
        s = (m - 1.0) / (m + 1.0)
        z = s * s
        p = 1.0 / 11.0 + z * (1.0 / 13.0)
        p = 1.0 / 7.0 + z * (1.0 / 9.0 + z * p)
        p = 1.0 + z * (1.0 / 3.0 + z * (1.0 / 5.0 + z * p))
        amplitude[i] = scale * (exponent[i] + _TWO_OVER_LN2 * s * p)


@inlined
def exp2_into(octaves: Sound, whole: NDArray[np.int64], n: int) -> None:
    """Replace octaves[:n] (between -1000 and 1000) by 2**octaves; `whole` is scratch."""
    for i in range(n):
        k = np.floor(octaves[i] + 0.5)
        whole[i] = (np.int64(k) + 1023) << 52
        octaves[i] -= k
    power = whole.view(np.float64)
    for i in range(n):
        f = octaves[i]
        p = _E[8] + f * (_E[9] + f * (_E[10] + f * _E[11]))
        p = _E[4] + f * (_E[5] + f * (_E[6] + f * (_E[7] + f * p)))
        p = _E[0] + f * (_E[1] + f * (_E[2] + f * (_E[3] + f * p)))
        octaves[i] = p * power[i]
