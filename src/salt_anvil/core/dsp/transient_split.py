"""Attack and sustain of hits from ratios of level followers, so that the level itself cancels."""

import numpy as np

from salt_anvil.core.audio import GRID, TINY, Sound
from salt_anvil.core.compiled import kernel
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.decibel import DB_PER_OCTAVE, log2_into
from salt_anvil.core.dsp.delay import delayed
from salt_anvil.core.dsp.grid import grid_cells
from salt_anvil.core.state import State

# Columns of the control vector; gains in dB, rates a frame, hold in frames.
ATTACK_DB, SUSTAIN_DB, SLOW_RISE, SLOW_FALL, RISE, FALL, HOLD, CALM, LINK = range(9)
CONTROLS = 9
# Rows of the state of one range, one column a channel.
PEAK, COUNT, LEVEL, SLOW, SHARE = range(5)
STATES = 5
LOOK_S, BOX_S = 0.008, 0.004
"""Look-ahead of what keeps peaks, and the time over which its gain is a mean."""
MOST_CHANGE = 16.0
FULL_DB = 12.0
"""Ratio of the followers from which the whole gain is given; common practice, no source."""
ALIKE = 0.98
"""A crest within 0.2 dB of the held one holds it on: samples miss the crests by as much."""
QUIET = 1e-15


@kernel
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
    for at, n, k, offset in grid_cells(start, frames):
        key_here = key[at : at + n]
        shares_here = shares[at : at + n]
        heard_here = heard[at : at + n]
        v, s = value[k], step[k]
        for channel in range(channels):
            for i in range(n):
                line[channel, i] = abs(key_here[i, channel])
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
                shares_here[i, channel] = now
            state[SHARE, channel] = now if now > TINY else 0.0
            if len(heard):
                log2_into(level_at, exponent, n, DB_PER_OCTAVE)
                for i in range(n):
                    heard_here[i, channel] = level_at[i]


def look_frames(rate: int) -> int:
    """Return the frames by which sound whose peaks are kept is late."""
    return round(LOOK_S * rate)


def peaks_state(rate: int, channels: int) -> State:
    """Return the cold state of `keep_peaks`, to be held in a processor's own."""
    look, box = look_frames(rate), round(BOX_S * rate) + 1
    # The highest of so long a time is known that a peak is in sight for all of a mean around it.
    cells = -(-(look + box) // GRID)
    return State(
        peaks_cells=np.zeros((2, cells)),
        peaks_now=np.zeros((2, 2)),
        peaks_wanted=np.ones(box),
        peaks_waiting=np.zeros((look, channels)),
    )


def keep_peaks(out: Sound, before: Sound, start: int, fall: float, state: State) -> Sound:
    """Return sound turned down, or up, until its peaks are those of the sound before.

    out, before: (frames, channels). The gain is the ratio of the highest peaks in sight, which fall
    slowly (`fall` a frame), as a mean over BOX_S; the sound is LOOK_S late.
    """
    gain = np.empty(len(out))
    peaks_gain_into(
        gain,
        out,
        before,
        start,
        fall,
        state["peaks_cells"],
        state["peaks_now"],
        state["peaks_wanted"],
    )
    return np.asarray(delayed(out, state["peaks_waiting"]) * gain[:, None])


@kernel
def peaks_gain_into(
    gain: Vector,
    out: Sound,
    before: Sound,
    start: int,
    fall: float,
    cells: Sound,
    now: Sound,
    wanted: Vector,
) -> None:
    """Fill gain (frames,) with what brings the peaks of out to those of the sound before.

    cells: (2, count), highest of the last whole grid cells, before and out; now: (2, 2), the
    highest of this cell so far and what is held; wanted: (size,), the last ratios, by time. All
    changed.
    """
    frames, channels = out.shape
    size = len(wanted)
    for at, n, _, offset in grid_cells(start, frames):
        past_in = past_out = 0.0
        for c in range(cells.shape[1]):
            past_in, past_out = max(past_in, cells[0, c]), max(past_out, cells[1, c])
        total = 0.0
        for w in range(size):
            total += wanted[w]
        for i in range(at, at + n):
            for c in range(channels):
                now[0, 0] = max(now[0, 0], abs(before[i, c]))
                now[1, 0] = max(now[1, 0], abs(out[i, c]))
            x, y = max(now[0, 0], past_in), max(now[1, 0], past_out)
            now[0, 1] = max(x, now[0, 1] + fall * (x - now[0, 1]))
            now[1, 1] = max(y, now[1, 1] + fall * (y - now[1, 1]))
            ratio = (now[0, 1] + QUIET) / (now[1, 1] + QUIET)
            ratio = min(max(ratio, 1.0 / MOST_CHANGE), MOST_CHANGE)
            place = (start + i) % size
            total += ratio - wanted[place]
            wanted[place] = ratio
            gain[i] = total / size
        if offset + n == GRID:
            for side in range(2):
                for c in range(cells.shape[1] - 1):
                    cells[side, c] = cells[side, c + 1]
                cells[side, -1] = now[side, 0]
                now[side, 0] = 0.0
                if now[side, 1] < TINY:
                    now[side, 1] = 0.0


@kernel
def scale_into(gain: Sound, shares: Sound, start: int, value: Vector, step: Vector) -> None:
    """Fill gain (frames, channels) in dB with shares times a control, given per grid point."""
    for at, n, k, offset in grid_cells(start, len(shares)):
        gain_here = gain[at : at + n]
        shares_here = shares[at : at + n]
        for i in range(n):
            whole = value[k] + step[k] * (offset + i)
            for channel in range(shares.shape[1]):
                gain_here[i, channel] = whole * shares_here[i, channel]
