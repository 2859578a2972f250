"""Attack and sustain of hits from ratios of level followers, so that the level itself cancels."""

import numpy as np
from numba import njit

from salt_anvil.core.audio import GRID, TINY, Sound
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.decibel import DB_PER_OCTAVE, log2_into

# Columns of the control vector; gains in dB, rates a frame, hold in frames.
ATTACK_DB, SUSTAIN_DB, SLOW_RISE, SLOW_FALL, RISE, FALL, HOLD, CALM, LINK, EVEN, EVENING = range(11)
CONTROLS = 11
# Rows of the state of one range, one column a channel.
PEAK, COUNT, LEVEL, SLOW, SHARE = range(5)
STATES = 5
# Rows of the state that keeps peaks, one column.
PEAK_IN, PEAK_OUT, TAKEN = range(3)
FULL_DB = 12.0
"""Ratio of the followers from which the whole gain is given; common practice, no source."""
ALIKE = 0.98
"""A crest within 0.2 dB of the held one holds it on: samples miss the crests by as much."""
QUIET = 1e-15


@njit(cache=True, nogil=True, error_model="numpy")
def shares_into(
    shares: Sound,
    heard: Sound,
    key: Sound,
    start: int,
    value: Vector,
    step: Vector,
    sustain: bool,
    state: Sound,
) -> None:
    """Fill shares (frames, channels), 0 to 1: how far each moment is attack, or sustain.

    heard: (frames, channels), filled with the level in dB, or of 0 frames. key: (frames, channels),
    1 or 2 channels. start: timeline frame of key[0]. value, step: (grid points, CONTROLS). state:
    (STATES, channels). Attack: the level against a copy that rises slowly. Sustain: a copy that
    falls slowly against the level. The level holds each peak for HOLD frames, so that a steady tone
    has neither.
    """
    frames, channels = key.shape
    line, ratio, exponent = np.empty((2, GRID)), np.empty(GRID), np.empty(GRID)
    level_at = np.empty(GRID)
    at, k, offset = 0, 0, start % GRID
    while at < frames:
        n = min(GRID - offset, frames - at)
        v, s = value[k], step[k]
        for channel in range(channels):
            for i in range(n):
                line[channel, i] = abs(key[at + i, channel])
        if channels == 2:
            for i in range(n):
                link = v[LINK] + s[LINK] * (offset + i)
                top = max(line[0, i], line[1, i])
                line[0, i] += link * (top - line[0, i])
                line[1, i] += link * (top - line[1, i])
        slower = SLOW_FALL if sustain else SLOW_RISE
        for channel in range(channels):
            peak, count, level = state[PEAK, channel], state[COUNT, channel], state[LEVEL, channel]
            slow = state[SLOW, channel]
            for i in range(n):
                x = line[channel, i]
                if x >= ALIKE * peak:
                    peak, count = max(x, peak), v[HOLD]
                elif count >= 1.0:
                    count -= 1.0
                else:
                    peak += v[FALL] * (x - peak)
                level += (v[RISE] if peak > level else 1.0) * (peak - level)
                moved = slow + (v[slower] + s[slower] * (offset + i)) * (level - slow)
                if sustain:
                    slow = max(moved, level)
                    ratio[i] = (slow + QUIET) / (level + QUIET)
                else:
                    slow = min(moved, level)
                    ratio[i] = (level + QUIET) / (slow + QUIET)
                level_at[i] = level + QUIET
            state[PEAK, channel], state[COUNT, channel] = peak if peak > TINY else 0.0, count
            state[LEVEL, channel] = level if level > TINY else 0.0
            state[SLOW, channel] = slow if slow > TINY else 0.0
            log2_into(ratio, exponent, n, DB_PER_OCTAVE / FULL_DB)
            now = state[SHARE, channel]
            for i in range(n):
                now += v[CALM] * (min(max(ratio[i], 0.0), 1.0) - now)
                shares[at + i, channel] = now
            state[SHARE, channel] = now if now > TINY else 0.0
            if len(heard):
                log2_into(level_at, exponent, n, DB_PER_OCTAVE)
                for i in range(n):
                    heard[at + i, channel] = level_at[i]
        at += n
        offset = 0
        k += 1


@njit(cache=True, nogil=True, error_model="numpy")
def keep_peaks_into(
    out: Sound, before: Sound, start: int, value: Vector, step: Vector, fall: float, state: Sound
) -> None:
    """Turn out (frames, channels) down, or up, until its peaks are those of the sound before.

    The gain, EVEN of it, follows the ratio of both peaks, which fall slowly (`fall` a frame), at
    EVENING a frame. state: (3,), changed.
    """
    frames, channels = out.shape
    at, k, offset = 0, 0, start % GRID
    peak_in, peak_out, gain = state[PEAK_IN], state[PEAK_OUT], state[TAKEN]
    while at < frames:
        n = min(GRID - offset, frames - at)
        v, s = value[k], step[k]
        for i in range(at, at + n):
            x = y = 0.0
            for c in range(channels):
                x = max(x, abs(before[i, c]))
                y = max(y, abs(out[i, c]))
            peak_in = max(x, peak_in + fall * (x - peak_in))
            peak_out = max(y, peak_out + fall * (y - peak_out))
            wanted = min(max((peak_in + QUIET) / (peak_out + QUIET), 1.0 / 16.0), 16.0) - 1.0
            gain += v[EVENING] * (wanted - gain)
            share = 1.0 + (v[EVEN] + s[EVEN] * (offset + i - at)) * gain
            for c in range(channels):
                out[i, c] *= share
        at += n
        offset = 0
        k += 1
    state[PEAK_IN] = peak_in if peak_in > TINY else 0.0
    state[PEAK_OUT] = peak_out if peak_out > TINY else 0.0
    state[TAKEN] = gain


@njit(cache=True, nogil=True, error_model="numpy")
def scale_into(gain: Sound, shares: Sound, start: int, value: Vector, step: Vector) -> None:
    """Fill gain (frames, channels) in dB with shares times a control, given per grid point."""
    at, k, offset = 0, 0, start % GRID
    while at < len(shares):
        n = min(GRID - offset, len(shares) - at)
        for i in range(n):
            whole = value[k] + step[k] * (offset + i)
            for channel in range(shares.shape[1]):
                gain[at + i, channel] = whole * shares[at + i, channel]
        at += n
        offset = 0
        k += 1
