"""The wall of a limiter: what peaks ask for, a window of maxima, release, smoothing.

Reductions are whole numbers of UNIT dB (kept as float64), so that sums over windows carry no
rounding: where nothing is over the target, the gain is exactly 1. A running maximum in front of
a smoothing window, so that the gain arrives before the peak: common practice, no source.
"""

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.decibel import DB_PER_OCTAVE, log2_into
from salt_anvil.core.dsp.grid import grid_cells
from salt_anvil.core.dsp.line import copy_into
from salt_anvil.core.dsp.maxima import greatest

AIM_DB = -0.03
"""Distance of the target from the ceiling: what 16 points a frame can miss at 0.45 of the rate."""
UNIT = 2.0**-32
"""One step of the reductions, in dB: 2.3e-10. Sums over 4096 frames of 255 dB stay below 2**53."""
MOST_DB = 200.0
GUARD_DB = 2e-9
"""Added to every reduction, so that no rounding lifts a sample over the ceiling."""
SMALLEST_DB = 1e-9
PIECE = 1024
"""Frames whose maxima are found at a time, so that they stay near at hand."""
ALIKE, APART, WAITS = 0.9, 0.1, 1.05
"""A low note's peaks: how alike their reductions are at least, how far apart their distances are at
most, and for how many of these is waited; common practice, no source."""

# Columns of the control vector of `wall_into`; times in frames.
TARGET, LINK, RELEASE, QUICK, LASTING, HOLD, BODY_RISE, LINK_HITS = range(8)
CONTROLS = 8
# Rows of the state, one column a channel.
OUT, COUNT, BODY, LASTED, SINCE, PERIOD, THERE, EARLIER = range(8)
STATES = 8


@inlined
def _needs(
    needs: Sound,
    peaks: Sound,
    channel: int,
    target: float,
    d_target: float,
    lowest: float,
    level: Vector,
    exponent: Vector,
) -> int:
    """Fill one channel's needs of a cell; return the count. lowest: the target's, as amplitude."""
    n = len(peaks)
    for i in range(n):
        level[i] = peaks[i, channel]
    if greatest(level[:n]) <= lowest:
        for i in range(n):
            needs[i, channel] = 0
        return 0
    for i in range(n):
        level[i] += 1e-15
    log2_into(level, exponent, n, DB_PER_OCTAVE)
    for i in range(n):
        level[i] -= target + d_target * i
    found = _whole_units(level, n)
    for i in range(n):
        needs[i, channel] = level[i]
    return found


@inlined
def _standing_needs(
    needs: Vector, peaks: Vector, target: float, lowest: float, exponent: Vector
) -> int:
    """Fill the needs of a cell under a target that stands, all channels in one line; return the
    count."""
    n = len(peaks)
    if greatest(peaks) <= lowest:
        for i in range(n):
            needs[i] = 0.0
        return 0
    for i in range(n):
        needs[i] = peaks[i] + 1e-15
    log2_into(needs, exponent, n, DB_PER_OCTAVE)
    for i in range(n):
        needs[i] -= target
    return int(_whole_units(needs, n))


@inlined
def _whole_units(over: Vector, n: int) -> int:
    """Replace dB over the target by units that are needed; return how many are."""
    found = 0
    for i in range(n):
        most = over[i] if over[i] < MOST_DB else MOST_DB
        found += 1 if over[i] > SMALLEST_DB else 0
        over[i] = np.floor((most + GUARD_DB) / UNIT) if over[i] > SMALLEST_DB else 0.0
    return found


@kernel
def needs_into(
    needs: Sound, peaks: Sound, shared: Sound, start: int, value: Vector, step: Vector
) -> int:
    """Fill needs (frames, channels) with the reduction that each peak asks for; return the count.

    shared: what the channels tell each other (`sharing`), or of 0 frames: their peaks. start:
    timeline frame of peaks[0]. value, step: (grid points, CONTROLS); TARGET is in dB.
    """
    frames, channels = peaks.shape
    level, exponent, asked = np.empty(GRID), np.empty(2 * GRID), np.empty((GRID, 2))
    line, asks, found = peaks.reshape(peaks.size), needs.reshape(needs.size), 0
    for at, n, k, offset in grid_cells(start, frames):
        peaks_here = peaks[at : at + n]
        needs_here = needs[at : at + n]
        target, d_target = value[k, TARGET] + step[k, TARGET] * offset, step[k, TARGET]
        lowest, here = 10.0 ** (min(target, target + d_target * n) / 20.0), found
        if d_target == 0.0:
            part = slice(at * channels, (at + n) * channels)
            found += _standing_needs(asks[part], line[part], target, lowest, exponent)
        else:
            for channel in range(channels):
                found += _needs(
                    needs_here, peaks_here, channel, target, d_target, lowest, level, exponent
                )
        if len(shared):
            for row in range(2):
                told = shared[at : at + n]
                found += _needs(asked, told, row, target, d_target, lowest, level, exponent)
            link, hits = value[k, LINK], value[k, LINK_HITS]
            d_link, d_hits = step[k, LINK], step[k, LINK_HITS]
            for channel in range(channels):
                for i in range(n):
                    own = needs_here[i, channel]
                    lasting = max(own, asked[i, 1])
                    more = (link + d_link * (offset + i)) * (lasting - own)
                    more += (hits + d_hits * (offset + i)) * (max(own, asked[i, 0]) - lasting)
                    needs_here[i, channel] = own + np.floor(more)
        elif channels == 2 and found > here:
            link, d_link = value[k, LINK] + step[k, LINK] * offset, step[k, LINK]
            for i in range(n):
                a, b = needs_here[i, 0], needs_here[i, 1]
                share = link + d_link * i
                low, high = min(a, b), max(a, b)
                raised = high if share == 1.0 else low + np.floor(share * (high - low))
                needs_here[i, 0] = raised if a < b else a
                needs_here[i, 1] = raised if b < a else b
    return found


@inlined
def _greater_into(out: Vector, one: Vector, other: Vector) -> None:
    for i in range(len(out)):
        a, b = one[i], other[i]
        out[i] = a if a > b else b


@kernel
def maxima_into(maxima: Sound, values: Sound, window: int) -> None:
    """Fill maxima[i] with the greatest of values[i : i + window], one channel.

    values: len(maxima) + window - 1. Windows twice as long turn by turn, and in the end two of
    them that overlap: many values at once, none of which waits for another.
    """
    most, other = np.empty(PIECE + window - 1), np.empty(PIECE + window - 1)
    for first in range(0, len(maxima), PIECE):
        count = min(PIECE, len(maxima) - first)
        size, wide = count + window - 1, 1
        for i in range(size):
            most[i] = values[first + i]
        while 2 * wide <= window:
            left = size - 2 * wide + 1
            _greater_into(other[:left], most[:left], most[wide : wide + left])
            most, other = other, most
            wide *= 2
        last = window - wide
        _greater_into(maxima[first : first + count], most[:count], most[last : last + count])


@inlined
def _low_note(
    count: float, earlier: float, period: float, since: float, longest: float
) -> tuple[float, float, float, float]:
    """Return count, earlier, period and since, behind a crest.

    Its end does not hang on what was held before it. The two halves of a wave may have crests of
    their own: each its own distance.
    """
    wait = max(since, period)
    again = abs(since - period) <= APART * period
    if (again or abs(since - earlier) <= APART * earlier) and wait <= longest:
        count = max(count, WAITS * wait)
    return count, period, since, 0.0


@kernel
def release_into(
    held: Sound,
    start: int,
    value: Vector,
    step: Vector,
    adaptive: bool,
    longest: float,
    state: Sound,
    channel: int,
) -> None:
    """Replace the maxima in held (one channel) by what falls behind them with the release.

    Adaptive: QUICK takes over from RELEASE as far as the reduction has not LASTED. HOLD frames
    pass before anything is released. With BODY_RISE above 0 the release is QUICK down to a slow
    body of the reduction, which itself falls with RELEASE, adaptive or not. Peaks that follow one
    another at the same distance twice, at most `longest` frames, are those of a low note: nothing
    is released before the next one.
    """
    out, count = state[OUT, channel], state[COUNT, channel]
    since, there = state[SINCE, channel], state[THERE, channel]
    period, earlier = state[PERIOD, channel], state[EARLIER, channel]
    body, lasted = state[BODY, channel], state[LASTED, channel]
    for at, n, k, offset in grid_cells(start, len(held)):
        held_here = held[at : at + n]
        v, s = value[k], step[k]
        if body == 0.0 and v[BODY_RISE] == 0.0 and s[BODY_RISE] == 0.0:
            releases, d_releases, holds, d_holds = v[RELEASE], s[RELEASE], v[HOLD], s[HOLD]
            rises, d_rises, quicks, d_quicks = v[LASTING], s[LASTING], v[QUICK], s[QUICK]
            for i in range(n):
                j = offset + i
                wanted = held_here[i] * UNIT
                since += 1.0
                near = wanted > 0.0 and wanted >= ALIKE * out
                if there == 1.0 and not near:
                    count, earlier, period, since = _low_note(
                        count, earlier, period, since, longest
                    )
                there = 1.0 if near else 0.0
                if wanted >= out:
                    out = wanted
                    count = max(holds + d_holds * j, count)
                elif count >= 1.0:
                    count -= 1.0
                else:
                    rate = releases + d_releases * j
                    if adaptive:
                        quick = quicks + d_quicks * j
                        rate = quick + (rate - quick) * min(lasted / out, 1.0)
                    out += rate * (wanted - out)
                    if out < SMALLEST_DB:
                        out = 0.0
                lasted = min(lasted + (rises + d_rises * j) * (out - lasted), out)
                held_here[i] = out
            for i in range(n):
                held_here[i] = np.ceil(held_here[i] / UNIT)
            continue
        for i in range(n):
            j = offset + i
            wanted = held_here[i] * UNIT
            slow = v[RELEASE] + s[RELEASE] * j
            quick = v[QUICK] + s[QUICK] * j
            rise = v[BODY_RISE] + s[BODY_RISE] * j
            whole = max(out, body) if rise > 0.0 else out
            if adaptive and whole > 0.0:
                slow = quick + (slow - quick) * min(lasted / whole, 1.0)
            rate = quick if rise > 0.0 else slow
            since += 1.0
            near = wanted > 0.0 and wanted >= ALIKE * out
            if there == 1.0 and not near:
                count, earlier, period, since = _low_note(count, earlier, period, since, longest)
            there = 1.0 if near else 0.0
            if wanted >= out:
                out = wanted
                count = max(v[HOLD] + s[HOLD] * j, count)
            elif count >= 1.0:
                count -= 1.0
            else:
                out += rate * (wanted - out)
                if out < SMALLEST_DB:
                    out = 0.0
            body += (rise if out > body else slow) * (out - body)
            if body < SMALLEST_DB:
                body = 0.0
            whole = max(out, body) if rise > 0.0 else out
            lasted = min(lasted + (v[LASTING] + s[LASTING] * j) * (whole - lasted), whole)
            held_here[i] = np.ceil(whole / UNIT)
    state[OUT, channel], state[COUNT, channel] = out, max(count, 0.0)
    state[SINCE, channel], state[PERIOD, channel] = min(since, 1e9), period
    state[THERE, channel], state[EARLIER, channel] = there, earlier
    state[BODY, channel], state[LASTED, channel] = body, lasted if lasted > SMALLEST_DB else 0.0


@kernel
def mean_into(means: Sound, values: Sound, window: int) -> None:
    """Fill means[i] with the mean of values[i : i + window], rounded up, one channel."""
    total = 0.0
    for i in range(window):
        total += values[i]
    means[0] = total
    for i in range(1, len(means)):
        total += values[i + window - 1] - values[i - 1]
        means[i] = total
    for i in range(len(means)):
        means[i] = np.ceil(means[i] / window)


@inlined
def _alike(channels: Sound) -> bool:
    """Say whether both columns are the same."""
    unequal = 0
    for i in range(len(channels)):
        unequal += channels[i, 0] != channels[i, 1]
    return unequal == 0


@kernel
def smooth_into(
    reduction: Sound,
    needs: Sound,
    held: Sound,
    steady: int,
    window: int,
    start: int,
    value: Vector,
    step: Vector,
    adaptive: bool,
    longest: float,
    state: Sound,
) -> None:
    """Fill reduction (frames, channels) in dB; the gain has given way before each need, and stands.

    needs: the block's rows at its end, behind ahead + steady rows of the past. held: the releases
    of the past, ahead - steady rows, moved on. window: frames over which the gain gives way, at
    most ahead + 1 - steady. start: timeline frame of the first new row. longest: as in
    `release_into`. state: (STATES, channels).
    """
    frames, channels = reduction.shape
    full = len(held) + 1
    wide = window + 2 * steady
    first = full - window
    one = (window + 1) // 2
    two = window - one + 1
    line = np.empty(frames + len(held))
    held_line = np.empty(frames)
    inner = np.empty(frames + two - 1)
    means = np.empty(frames)
    column = np.empty(frames + wide - 1)
    alike = channels == 2 and _alike(needs) and _alike(held) and _alike(state)
    for channel in range(channels):
        if channel == 1 and alike:
            copy_into(reduction[:, 1], reduction[:, 0])
            copy_into(held[:, 1], held[:, 0])
            copy_into(state[:, 1], state[:, 0])
            continue
        asked = needs[len(needs) - frames - first - (wide - 1) :]
        copy_into(column, asked[:, channel])
        maxima_into(held_line, column, wide)
        release_into(held_line, start, value, step, adaptive, longest, state, channel)
        copy_into(line[: len(held)], held[:, channel])
        copy_into(line[len(held) :], held_line)
        mean_into(inner, line[len(held) - (window - 1) :], one)
        mean_into(means, inner, two)
        for i in range(frames):
            reduction[i, channel] = means[i] * UNIT
        copy_into(held[:, channel], line[frames:])
