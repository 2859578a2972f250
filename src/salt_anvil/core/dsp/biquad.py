"""Second-order sections: coefficients of the W3C Audio EQ Cookbook, and one kernel."""

import math
from functools import lru_cache

import numpy as np
from numba import njit

from salt_anvil.core.audio import TINY, Sound

BUTTERWORTH_Q = math.sqrt(0.5)


@lru_cache(maxsize=256)
def low_pass(hz: float, rate: int, q: float = BUTTERWORTH_Q) -> Sound:
    """Return b0, b1, b2, a1, a2 of the Cookbook's LPF; hz below rate / 2."""
    w, alpha = _angle(hz, rate, q)
    c = math.cos(w)
    return _normal((1 - c) / 2, 1 - c, (1 - c) / 2, 1 + alpha, -2 * c, 1 - alpha)


@lru_cache(maxsize=256)
def high_pass(hz: float, rate: int, q: float = BUTTERWORTH_Q) -> Sound:
    """Return b0, b1, b2, a1, a2 of the Cookbook's HPF; hz below rate / 2."""
    w, alpha = _angle(hz, rate, q)
    c = math.cos(w)
    return _normal((1 + c) / 2, -(1 + c), (1 + c) / 2, 1 + alpha, -2 * c, 1 - alpha)


@lru_cache(maxsize=256)
def all_pass(hz: float, rate: int, q: float = BUTTERWORTH_Q) -> Sound:
    """Return b0, b1, b2, a1, a2 of the Cookbook's APF; hz below rate / 2."""
    w, alpha = _angle(hz, rate, q)
    c = math.cos(w)
    return _normal(1 - alpha, -2 * c, 1 + alpha, 1 + alpha, -2 * c, 1 - alpha)


def _angle(hz: float, rate: int, q: float) -> tuple[float, float]:
    w = 2 * math.pi * min(hz, 0.49 * rate) / rate
    return w, math.sin(w) / (2 * q)


def _normal(b0: float, b1: float, b2: float, a0: float, a1: float, a2: float) -> Sound:
    return np.array([b0, b1, b2, a1, a2]) / a0


@njit(cache=True, nogil=True, error_model="numpy")
def _filter_pair(out: Sound, section: Sound, state: Sound) -> None:
    """Run a section over two channels at once: neither waits for the other."""
    b0, b1, b2, a1, a2 = section
    y1, y2 = state[0]
    z1, z2 = state[1]
    for i in range(len(out)):
        w, x = out[i, 0], out[i, 1]
        u, v = b0 * w + y1, b0 * x + z1
        y1, z1 = b1 * w - a1 * u + y2, b1 * x - a1 * v + z2
        y2, z2 = b2 * w - a2 * u, b2 * x - a2 * v
        out[i, 0], out[i, 1] = u, v
    state[0, 0] = y1 if abs(y1) >= TINY else 0.0
    state[0, 1] = y2 if abs(y2) >= TINY else 0.0
    state[1, 0] = z1 if abs(z1) >= TINY else 0.0
    state[1, 1] = z2 if abs(z2) >= TINY else 0.0


@njit(cache=True, nogil=True, error_model="numpy")
def filter_into(out: Sound, signal: Sound, sections: Sound, state: Sound) -> None:
    """Fill out (frames, channels) with signal through a cascade, transposed direct form II.

    sections: (count, 5) as b0, b1, b2, a1, a2. state: (count, channels, 2), changed.
    """
    frames, channels = signal.shape
    for i in range(frames):
        for channel in range(channels):
            out[i, channel] = signal[i, channel]
    if channels == 2:
        for s in range(sections.shape[0]):
            _filter_pair(out, sections[s], state[s])
        return
    for channel in range(channels):
        for s in range(sections.shape[0]):
            b0, b1, b2, a1, a2 = sections[s]
            z1, z2 = state[s, channel, 0], state[s, channel, 1]
            for i in range(frames):
                x = out[i, channel]
                y = b0 * x + z1
                z1 = b1 * x - a1 * y + z2
                z2 = b2 * x - a2 * y
                out[i, channel] = y
            if abs(z1) < TINY:
                z1 = 0.0
            if abs(z2) < TINY:
                z2 = 0.0
            state[s, channel, 0], state[s, channel, 1] = z1, z2
