"""Second-order sections: coefficients of the W3C Audio EQ Cookbook, and one kernel."""

import math
from functools import lru_cache

import numpy as np

from salt_anvil.core.audio import TINY, Sound
from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp.cascade import FIRST, OUT, SECOND, WEIGHTS, run_sections
from salt_anvil.core.dsp.control_ramp import Vector

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


@kernel
def filter_into(out: Sound, signal: Sound, sections: Sound, state: Sound) -> None:
    """Fill out (frames, channels) with signal through a cascade, transposed direct form II.

    sections: (count, 5) as b0, b1, b2, a1, a2. state: (count, channels, 2), changed.
    """
    frames, channels = signal.shape
    # In one line a copy is one of vectors.
    ours, given = out.reshape(out.size), signal.ravel()
    for i in range(len(ours)):
        ours[i] = given[i]
    count = len(sections)
    weights, places = np.empty((count, WEIGHTS)), np.arange(count) * (2 * channels)
    for s in range(count):
        _by_state(weights[s], sections[s])
    flat = state.reshape(state.size)
    run_sections(out, 0, frames, weights, flat, places, count)
    for i in range(len(flat)):
        if abs(flat[i]) < TINY:
            flat[i] = 0.0


@inlined
def _by_state(weights: Vector, section: Vector) -> None:
    """Fill weights with the section as `run_sections` takes it."""
    b0, b1, b2, a1, a2 = section
    weights[OUT], weights[OUT + 1], weights[OUT + 2] = 1.0, 0.0, b0
    weights[FIRST], weights[FIRST + 1], weights[FIRST + 2] = -a1, 1.0, b1 - a1 * b0
    weights[SECOND], weights[SECOND + 1], weights[SECOND + 2] = -a2, 0.0, b2 - a2 * b0
