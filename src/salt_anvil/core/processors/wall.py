"""A wall for true peaks: what the limiter is, and what holds a clipper's ceiling."""

import numpy as np

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp import lookahead_limiter as w
from salt_anvil.core.dsp.between import BEFORE, EDGE, peaks_into
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.processors.parts import NOTHING_SHARED
from salt_anvil.core.state import State

STEADY = 8
"""Frames on both sides of a peak over which the gain stands, so that the interpolation of the
output sees one gain."""


def wall_state(ahead: int, channels: int) -> State:
    """Return the cold state of a wall that looks so many frames ahead."""
    steady = _steady(ahead)
    return State(
        sound=np.zeros((EDGE, channels)),
        needs=np.zeros((ahead + steady, channels)),
        held=np.zeros((ahead - steady, channels)),
        wall=np.zeros((w.STATES, channels)),
    )


def peaks_of(sound: Sound, value: Vector, state: State, *, between: bool = True) -> Sound:
    """Return the peaks of the frames that are AFTER old, those between the frames too or not.

    value: (grid points, w.CONTROLS).
    """
    past = state["sound"]
    whole = np.concatenate([past, sound])
    past[:] = whole[len(sound) :]
    peaks = np.empty_like(sound)
    if between:
        peaks_into(peaks, whole, to_gain(float(value[:, w.TARGET].min())))
    else:
        np.abs(whole[BEFORE : BEFORE + len(sound)], out=peaks)
    return peaks


def reduction_of(
    peaks: Sound,
    value: Vector,
    step: Vector,
    state: State,
    start: int,
    *,
    share: float = 1.0,
    adaptive: bool = False,
    longest: float = 0.0,
    shared: Sound = NOTHING_SHARED,
) -> Sound:
    """Return the reduction in dB, (frames, channels), for the sound AFTER and the look-ahead ago.

    value, step: (grid points, w.CONTROLS). share: of the look-ahead, in which the gain gives way.
    adaptive, longest: see w.release_into. shared: see w.needs_into.
    """
    fresh = np.empty_like(peaks)
    found = w.needs_into(fresh, peaks, shared, start, value, step)
    needs = np.concatenate([state["needs"], fresh])
    state["needs"][:] = needs[len(fresh) :]
    reduction = np.zeros_like(peaks)
    if found or needs.any() or state["wall"].any() or state["held"].any():
        steady = (len(state["needs"]) - len(state["held"])) // 2
        full = len(state["held"]) + 1
        window = full if share == 1.0 else max(round(share * full), 2)
        w.smooth_into(
            reduction,
            needs,
            state["held"],
            steady,
            window,
            start,
            value,
            step,
            adaptive,
            longest,
            state["wall"],
        )
    return reduction


def _steady(ahead: int) -> int:
    return min(STEADY, ahead // 3)
