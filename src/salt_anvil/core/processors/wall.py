"""A wall for true peaks: what the limiter is, and what holds a clipper's ceiling."""

import numpy as np

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp import lookahead_limiter as w
from salt_anvil.core.dsp.between import AFTER, BEFORE, EDGE, peaks_into
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.dsp.delay import delayed, keep, no_wait
from salt_anvil.core.dsp.dynamics import gain_into
from salt_anvil.core.processors.parts import NOTHING_SHARED, with_past
from salt_anvil.core.state import State

STEADY = 8
"""Frames on both sides of a peak over which the gain stands, so that the interpolation of the
output sees one gain."""
SECOND_MS = 5.0
"""Look-ahead of a second wall."""
ABOVE_DB = 0.01
"""A second wall's target above the first's, so that it is idle where the first has sufficed."""


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
    past, peaks = state["sound"], np.empty_like(sound)
    if between:
        peaks_into(peaks, with_past(sound, past), to_gain(float(value[:, w.TARGET].min())))
    else:
        known = min(AFTER, len(sound))
        np.abs(past[BEFORE : BEFORE + known], out=peaks[:known])
        np.abs(sound[: len(sound) - known], out=peaks[known:])
        keep(sound, past)
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
    past, held, wall = state["needs"], state["held"], state["wall"]
    needs = np.empty((len(past) + len(peaks), peaks.shape[1]))
    needs[: len(past)] = past
    found = w.needs_into(needs[len(past) :], peaks, shared, start, value, step)
    past[:] = needs[len(peaks) :]
    if not (found or needs[: len(past)].any() or wall.any() or held.any()):
        return np.zeros_like(peaks)
    reduction = np.empty_like(peaks)
    steady, full = (len(past) - len(held)) // 2, len(held) + 1
    window = full if share == 1.0 else max(round(share * full), 2)
    w.smooth_into(
        reduction, needs, held, steady, window, start, value, step, adaptive, longest, wall
    )
    return reduction


def second_frames(rate: int) -> int:
    """Return the frames by which a second wall is later than the first."""
    return round(SECOND_MS * rate / 1000) + AFTER


def second_state(rate: int, channels: int) -> State:
    """Return the cold state of a second wall."""
    state = wall_state(second_frames(rate) - AFTER, channels)
    state["past"] = np.zeros((second_frames(rate), channels))
    return state


def second_wall(
    held: Sound,
    reduction: Sound,
    value: Vector,
    step: Vector,
    state: State,
    start: int,
    longest: float = 0.0,
) -> tuple[Sound, Sound]:
    """Return what a first wall leaves, as late as the second is, and what that takes in dB.

    held, reduction: what the first works on, and what it takes. Gain that moves raises what lies
    between samples; value, step, longest: as for the first.
    """
    still = np.zeros(len(value))
    left = np.empty_like(held)
    gain_into(left, held, reduction, start, still, still, no_wait(held))
    above = value.copy()
    above[:, w.TARGET] += ABOVE_DB
    more = reduction_of(peaks_of(left, above, state), above, step, state, start, longest=longest)
    return delayed(left, state["past"]), more


def _steady(ahead: int) -> int:
    return min(STEADY, ahead // 3)
