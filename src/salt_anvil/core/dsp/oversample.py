"""Shaping without fold-back: up by an interpolation, antiderivative shaping, down again.

What a shaper takes away, x - f(x), is formed at 2, 4 or 8 times the rate and taken from the delayed
input, so that what is not shaped passes bit for bit. First-order antiderivative form: Parker,
Zavalishin and Le Bivic, DAFx-16. Its half frame of delay, at the higher rate, makes a whole one
with the even length of the filter on the way down, which also undoes its loss of treble.
"""

from collections.abc import Callable
from functools import lru_cache
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from salt_anvil.core.dsp.gate import GRID, Sound
from salt_anvil.core.dsp.ramp import Vector
from salt_anvil.core.dsp.state import State

FACTORS = {"plain": 1, "good": 2, "high": 4, "best": 8}
TAPS = 48
"""Frames that each filter spans; flat to 20 kHz and -100 dB from 28 kHz on at 48 kHz."""
LATENCY = TAPS
Bend = Callable[[Sound, Sound, bool], None]
"""Fills the new columns of (lanes, factor, TAPS + frames) with what it takes from (lanes, factor,
frames); in antiderivative form where the flag says so."""
BETA = 10.06
"""Kaiser window for 100 dB (Kaiser 1974: 0.1102 * (A - 8.7))."""


@lru_cache(maxsize=8)
def filters(factor: int) -> tuple[Vector, Vector]:
    """Return the filters up, (factor - 1, TAPS), and down, (factor, TAPS), a row a phase.

    Up: row p - 1 gives the value p / factor behind frame TAPS / 2 - 1 of the TAPS around it. Down:
    row p weighs the phase p of the frames, oldest first; all rows add up to 1. Row 0 ends with
    the newest frame, the others with the one before.
    """
    behind = np.arange(1, factor)[:, None] / factor
    at = np.arange(TAPS) - (TAPS // 2 - 1) - behind
    up = np.sinc(at) * _kaiser(at / (TAPS / 2))
    up /= up.sum(axis=1, keepdims=True)
    size = 64 * TAPS * factor
    hz = np.fft.rfftfreq(size, 1 / factor)  # in units of the rate
    wanted = np.where(hz < 0.5, 1 / np.sinc(hz / factor), 0.0)
    wanted[np.isclose(hz, 0.5)] = 0.5 / np.sinc(0.5 / factor)
    # An even length: the middle lies between two taps, half a step from each.
    half = np.arange(TAPS * factor // 2) + 0.5
    response = wanted[:, None] * np.cos(2 * np.pi * np.outer(hz, half) / factor)
    weights = np.full(len(hz), 2.0)
    weights[0] = weights[-1] = 1.0
    right = (weights[:, None] * response).sum(axis=0) / size
    right *= _kaiser(half / (TAPS * factor / 2))
    down = np.concatenate([right[::-1], right])
    down /= down.sum()
    # The newest value is phase 0 of the newest frame, so that the whole delay is TAPS / 2 frames.
    rows = np.roll(down.reshape(TAPS, factor).T, 1, axis=0)
    return np.ascontiguousarray(up), np.ascontiguousarray(rows)


def _kaiser(share: NDArray[Any]) -> Vector:
    inside = np.sqrt(np.maximum(1 - share**2, 0))
    return np.asarray(np.i0(BETA * inside) / np.i0(BETA))


BOUND = 1.05 * float(np.abs(filters(8)[0]).sum(axis=1).max())
"""No value between the frames exceeds the frames around it by more than this factor."""


@njit(cache=True, error_model="numpy")
def _add_eight(total: Sound, line: Sound, weights: Sound, row: int, t: int) -> None:
    """Add eight weighted shifts of the line."""
    a, b, c, d = weights[row, t], weights[row, t + 1], weights[row, t + 2], weights[row, t + 3]
    e, f, g, h = weights[row, t + 4], weights[row, t + 5], weights[row, t + 6], weights[row, t + 7]
    l0, l1, l2 = line[t : t + GRID], line[t + 1 : t + 1 + GRID], line[t + 2 : t + 2 + GRID]
    l3, l4, l5 = line[t + 3 : t + 3 + GRID], line[t + 4 : t + 4 + GRID], line[t + 5 : t + 5 + GRID]
    l6, l7 = line[t + 6 : t + 6 + GRID], line[t + 7 : t + 7 + GRID]
    for i in range(GRID):
        total[i] += (a * l0[i] + b * l1[i] + c * l2[i] + d * l3[i]) + (
            e * l4[i] + f * l5[i] + g * l6[i] + h * l7[i]
        )


@njit(cache=True, nogil=True, error_model="numpy")
def up_into(rows: Sound, sound: Sound, up: Sound) -> None:
    """Fill rows (lanes, factor, frames): row 0 the sound TAPS / 2 frames late, the rest between.

    sound: (frames + TAPS, lanes), the block behind TAPS frames of the past.
    """
    lanes, factor, frames = rows.shape
    line, total = np.zeros(GRID + TAPS), np.empty(GRID)
    for lane in range(lanes):
        for i in range(frames):
            rows[lane, 0, i] = sound[TAPS // 2 + i, lane]
        for at in range(0, frames, GRID):
            span = min(GRID, frames - at)
            for i in range(span + TAPS - 1):
                line[i] = sound[at + 1 + i, lane]
            for p in range(1, factor):
                total[:] = 0.0
                _add_eight(total, line, up, p - 1, 0)
                _add_eight(total, line, up, p - 1, 8)
                _add_eight(total, line, up, p - 1, 16)
                _add_eight(total, line, up, p - 1, 24)
                _add_eight(total, line, up, p - 1, 32)
                _add_eight(total, line, up, p - 1, 40)
                for i in range(span):
                    rows[lane, p, at + i] = total[i]


@njit(cache=True, nogil=True, error_model="numpy")
def down_into(out: Sound, cut: Sound, down: Sound) -> None:
    """Fill out (frames, lanes) with the filtered phases, TAPS / 2 frames later than they are.

    cut: (lanes, factor, frames + TAPS), the block behind TAPS frames of the past. The value of
    phase p is half a step early (the antiderivative form looks back).
    """
    frames, lanes = out.shape
    factor = cut.shape[1]
    line, total = np.zeros(GRID + TAPS), np.empty(GRID)
    for lane in range(lanes):
        for at in range(0, frames, GRID):
            span = min(GRID, frames - at)
            total[:] = 0.0
            for p in range(factor):
                any_ = 0.0
                for i in range(span + TAPS - 1):
                    line[i] = cut[lane, p, at + (1 if p == 0 else 0) + i]
                    any_ += abs(line[i])
                if any_ == 0.0:
                    continue
                _add_eight(total, line, down, p, 0)
                _add_eight(total, line, down, p, 8)
                _add_eight(total, line, down, p, 16)
                _add_eight(total, line, down, p, 24)
                _add_eight(total, line, down, p, 32)
                _add_eight(total, line, down, p, 40)
            for i in range(span):
                out[at + i, lane] = total[i]


def shaping_state(lanes: int) -> State:
    """Return the cold state of `taken_by`."""
    return State(up=np.zeros((TAPS, lanes)), cut=np.zeros((lanes, max(FACTORS.values()), TAPS)))


def taken_by(bend: Bend, sound: Sound, quality: str, state: State) -> Sound:
    """Return what a bend takes from a block, LATENCY frames late; the state moves on."""
    frames, lanes = sound.shape
    factor = FACTORS[quality]
    up, down = filters(factor)
    whole = np.concatenate([state["up"], sound])
    state["up"][:] = whole[frames:]
    rows = np.empty((lanes, factor, frames))
    cut = np.empty((lanes, factor, frames + TAPS))
    cut[:, :, :TAPS] = state["cut"][:, :factor]
    up_into(rows, whole, up)
    bend(rows, cut, factor > 1)
    state["cut"][:, :factor] = cut[:, :, frames:]
    late = np.empty_like(sound)
    if factor > 1:
        down_into(late, cut, down)
    else:
        late[:] = cut[:, 0, TAPS // 2 : TAPS // 2 + frames].T
    return late


def last_between(sound: Sound, quality: str, state: State) -> Vector:
    """Return the newest value between the frames of a block that is not shaped, one a lane.

    The state moves on as in `taken_by`, which need not be called for such a block.
    """
    factor = FACTORS[quality]
    whole = np.concatenate([state["up"], sound])
    state["up"][:] = whole[len(sound) :]
    end = np.empty((sound.shape[1], factor, 1))
    up_into(end, np.ascontiguousarray(whole[-TAPS - 1 :]), filters(factor)[0])
    return np.asarray(end[:, -1, 0])
