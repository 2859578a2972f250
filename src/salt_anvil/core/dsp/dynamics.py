"""The recursions of level control: detectors, static curve, ballistics, gain.

Equations after Giannoulis, Massberg and Reiss, J. Audio Eng. Soc. 60(6), 2012 ("GMR"): the
soft-knee curve is their eq. 4, the branching detector eq. 16, the decoupled one eq. 17, both in
the log domain behind the curve; equation numbers are from memory. The feed-back form is solved
per sample for the level u that the feed-forward curve would have to see: u - a*C(u) = r.
Equation numbers are from memory.
"""

import math

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import FLOOR_AMPLITUDE, GRID, TINY, Sound
from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp.decibel import DB_PER_OCTAVE, exp2_into, log2_into
from salt_anvil.core.dsp.delay import keep_into
from salt_anvil.core.dsp.grid import grid_cells
from salt_anvil.core.dsp.line import copy_into
from salt_anvil.core.dsp.maxima import highest

# Columns of the control vector of `reduce_into`.
THRESHOLD, SLOPE, KNEE, ATTACK, RELEASE, HOLD, RMS, MOST, LINK, RESTORE, RESTORE_RATE = range(11)
SLOW_RISE, SLOW_FALL, LINK_HITS = 11, 12, 13
CONTROLS = 14
# Rows of the state, one column a channel: reduction, peak hold, hold counter, slow part, mean
# square, slow copy for restore.
OUT, HELD, COUNT, SLOW, POWER, LATE = range(6)
STATES = 6
# Flags.
PEAK, MEAN_SQUARE = 0, 1
DECOUPLED, BRANCHING = 0, 1
FORWARD, BACK = 0, 1


def rate_of(time_ms: float, rate: int) -> float:
    """Return 1 - exp(-1 / (t * rate)), the share of the way gone in one frame (GMR eq. 7)."""
    return -math.expm1(-1000.0 / (max(time_ms, 1e-6) * rate))


@kernel
def curve_reduction(
    level_db: float, threshold_db: float, slope: float, knee_db: float, most_db: float
) -> float:
    """Return the reduction in dB >= 0 of a soft-knee compressor curve (GMR eq. 4, x - y).

    slope is 1 - 1/ratio; most_db bounds the result.
    """
    over = level_db - threshold_db
    half = 0.5 * knee_db
    inside = min(max(over + half, 0.0), knee_db)
    bend = inside * inside / (2.0 * knee_db) if knee_db > 0.0 else 0.0
    return min(slope * (bend + max(over - half, 0.0)), most_db)


@inlined
def _solve(r: float, a: float, t: float, s: float, knee: float) -> float:
    """Return C(u) for the u with u - a*C(u) = r, where C is the unbounded curve.

    C(u) is what the detector asks for at once, before smoothing; it may be far more than the
    reduction that comes of it.
    """
    half = 0.5 * knee
    if r <= t - half:
        return 0.0
    u = (r - a * s * t) / (1.0 - a * s)
    if u < t + half:
        k = 0.5 * a * s / knee
        d = r - t + half
        # k*v*v - v + d = 0 for v = u - t + half, the smaller root without cancellation
        v = 2.0 * d / (1.0 + math.sqrt(max(1.0 - 4.0 * k * d, 0.0)))
        u = v + t - half
    return curve_reduction(u, t, s, knee, np.inf)


@inlined
def heard_into(
    level: Sound,
    key: Sound,
    channel: int,
    n: int,
    detector: int,
    value: Sound,
    step: Sound,
    offset: int,
    power: float,
) -> float:
    """Fill level[:n] with what the detector hears, no less than the floor: amplitudes, or mean
    squares; return the mean square at the end."""
    if detector == MEAN_SQUARE:
        b = value[RMS] + step[RMS] * offset
        db = step[RMS]
        for i in range(n):
            x = key[i, channel]
            power += (b + db * i) * (x * x - power)
            level[i] = power + FLOOR_AMPLITUDE * FLOOR_AMPLITUDE
        return power if power >= TINY else 0.0
    for i in range(n):
        level[i] = abs(key[i, channel]) + FLOOR_AMPLITUDE
    return power


@inlined
def scale_of(detector: int) -> float:
    """Return the decibels of a doubling of what a detector hears."""
    return (0.5 if detector == MEAN_SQUARE else 1.0) * DB_PER_OCTAVE


@inlined
def _link(levels: Sound, n: int, link: float, d_link: float) -> None:
    """Move every channel's level towards the loudest channel's."""
    for i in range(n):
        amount = link + d_link * i
        a, b = levels[0, i], levels[1, i]
        most = max(a, b)
        levels[0, i] = a + amount * (most - a)
        levels[1, i] = b + amount * (most - b)


@inlined
def _link_shared(
    levels: Sound,
    shared: Sound,
    room: Sound,
    exponent: Sound,
    at: int,
    n: int,
    channels: int,
    value: Sound,
    step: Sound,
    offset: int,
) -> None:
    """Move every channel's level towards what is shared: by LINK what lasts, by LINK_HITS the rest.

    shared: (frames, 2), see `sharing`. room: (2, GRID).
    """
    given = shared[at:]
    for row in range(2):
        for i in range(n):
            room[row, i] = given[i, row] + FLOOR_AMPLITUDE
        log2_into(room[row], exponent, n, DB_PER_OCTAVE)
    for channel in range(channels):
        for i in range(n):
            j = offset + i
            own = levels[channel, i]
            lasting = max(own, room[1, i])
            beyond = max(own, room[0, i]) - lasting
            levels[channel, i] = (
                own
                + (value[LINK] + step[LINK] * j) * (lasting - own)
                + (value[LINK_HITS] + step[LINK_HITS] * j) * beyond
            )


@inlined
def _curve_into(level: Sound, n: int, value: Sound, step: Sound, offset: int) -> None:
    """Replace level[:n] by the reduction of the static curve."""
    t, s = value[THRESHOLD] + step[THRESHOLD] * offset, value[SLOPE] + step[SLOPE] * offset
    w, m = value[KNEE] + step[KNEE] * offset, value[MOST] + step[MOST] * offset
    dt, ds, dw, dm = step[THRESHOLD], step[SLOPE], step[KNEE], step[MOST]
    for i in range(n):
        knee = max(w + dw * i, 1e-9)
        over = level[i] - (t + dt * i)
        inside = min(max(over + 0.5 * knee, 0.0), knee)
        bend = inside * inside / (2.0 * knee)
        reduction = (s + ds * i) * (bend + max(over - 0.5 * knee, 0.0))
        level[i] = min(reduction, m + dm * i)


@inlined
def _smooth(
    c: Sound,
    n: int,
    state: Sound,
    ballistics: int,
    programme: bool,
    value: Sound,
    step: Sound,
    offset: int,
) -> None:
    """Run the feed-forward ballistics over c[:n] in place (GMR eq. 16 and 17, plus hold)."""
    ka, kr = value[ATTACK] + step[ATTACK] * offset, value[RELEASE] + step[RELEASE] * offset
    da, dr = step[ATTACK], step[RELEASE]
    hold = value[HOLD] + step[HOLD] * offset
    out, held, count, slow = state[OUT], state[HELD], state[COUNT], state[SLOW]
    # In one loop with the rest: neither waits for the other's last frame.
    up, down = value[SLOW_RISE], value[SLOW_FALL]
    if ballistics == BRANCHING:
        for i in range(n):
            target = c[i]
            if programme:
                slow += (up if target > slow else down) * (target - slow)
                target = max(target, slow)
            if target >= out:
                out += (ka + da * i) * (target - out)
                count = hold
            elif count > 0.0:
                count -= 1.0
            else:
                out += (kr + dr * i) * (target - out)
            c[i] = out
        held = out
    else:
        for i in range(n):
            target = c[i]
            if programme:
                slow += (up if target > slow else down) * (target - slow)
                target = max(target, slow)
            if target >= held:
                held = target
                count = hold
            elif count > 0.0:
                count -= 1.0
            else:
                held += (kr + dr * i) * (target - held)
            out += (ka + da * i) * (held - out)
            c[i] = out
    state[OUT], state[HELD], state[COUNT], state[SLOW] = out, held, count, slow


@inlined
def _smooth_back(
    level: Sound,
    n: int,
    state: Sound,
    ballistics: int,
    programme: bool,
    value: Sound,
    step: Sound,
    offset: int,
) -> None:
    """Run the feed-back ballistics: level[:n] in dB becomes the reduction, in place.

    The detector hears the output, y = x - c. With the inverted knee F(x - c) = C(u), where
    x - c = u - C(u), each smoothing step is an equation for u alone. The attack's pole p is
    kept where the control says by a = p / (1 - s + p*s), s being the curve's slope at x.
    Decoupled means here that the attack runs in the loop and the release behind it; the other
    way round, the peak stage would hold the first, unreduced moment.
    """
    out, held, count, slow = state[OUT], state[HELD], state[COUNT], state[SLOW]
    hold = value[HOLD] + step[HOLD] * offset
    up, down = value[SLOW_RISE], value[SLOW_FALL]
    for i in range(n):
        j = offset + i
        t = value[THRESHOLD] + step[THRESHOLD] * j
        s = min(value[SLOPE] + step[SLOPE] * j, 0.9999)
        knee = max(value[KNEE] + step[KNEE] * j, 1e-9)
        most = value[MOST] + step[MOST] * j
        x = level[i]
        open_loop = curve_reduction(x, t, s, knee, most)
        p = 1.0 - (value[ATTACK] + step[ATTACK] * j)
        local = s * min(max(x - t + 0.5 * knee, 0.0), knee) / knee
        a = p / (1.0 - local + p * local)
        b = 1.0 - (value[RELEASE] + step[RELEASE] * j)
        floor = 0.0
        if programme:
            slow += (up if open_loop > slow else down) * (open_loop - slow)
            floor = slow
        if ballistics == BRANCHING:
            held = out
        raised = a * held + (1.0 - a) * max(_solve(x - a * held, a, t, s, knee), floor)
        if open_loop >= held and raised >= out:
            out = held = min(raised, most)
            count = hold
        elif ballistics == BRANCHING:
            if count > 0.0:
                count -= 1.0
            else:
                out = b * out + (1.0 - b) * max(_solve(x - b * out, b, t, s, knee), floor)
                out = min(out, most)
        else:
            q = a if open_loop > held else p
            keep = 1.0 if count > 0.0 else b
            r = x - keep * out - (1.0 - keep) * q * held
            wanted = max(_solve(r, 1.0 - (1.0 - q) * (1.0 - keep), t, s, knee), floor)
            held = min(q * held + (1.0 - q) * wanted, most)
            out = keep * out + (1.0 - keep) * held
            count = max(count - 1.0, 0.0)
        level[i] = out
    state[OUT], state[HELD], state[COUNT], state[SLOW] = out, held, count, slow


@inlined
def _restore(c: Sound, n: int, state: Sound, amount: float, d_amount: float, rate: float) -> None:
    """Give back a share of what a slowly rising copy of the reduction has not reached yet."""
    late = state[LATE]
    for i in range(n):
        late = min(late + rate * (c[i] - late), c[i])
        c[i] -= (amount + d_amount * i) * (c[i] - late)
    state[LATE] = late


@kernel
def reduce_into(
    reduction: Sound,
    heard: Sound,
    key: Sound,
    shared: Sound,
    start: int,
    value: Sound,
    step: Sound,
    flags: NDArray[np.int64],
    state: Sound,
) -> None:
    """Fill reduction (frames, channels) with the smoothed reduction in dB that the key asks for.

    heard: (frames, channels), filled with the detector's level in dB, or of 0 frames.
    shared: what the channels tell each other (`sharing`), or of 0 frames: their levels.
    key: (frames, channels), 1 or 2 channels. start: timeline frame of key[0]. value, step:
    (grid points, CONTROLS). flags: detector, ballistics, topology, programme-dependent release.
    state: (STATES, channels), changed.
    """
    frames, channels = key.shape
    detector, ballistics, topology, programme = flags[0], flags[1], flags[2], flags[3] == 1
    levels, room = np.empty((2, GRID)), np.empty((2, GRID))
    exponent = np.empty(GRID)
    carried = np.empty(STATES)
    for at, n, k, offset in grid_cells(start, frames):
        heard_here = heard[at : at + n]
        reduction_here = reduction[at : at + n]
        key_here = key[at : at + n]
        v, d = value[k], step[k]
        for channel in range(channels):
            state[POWER, channel] = heard_into(
                levels[channel], key_here, channel, n, detector, v, d, offset, state[POWER, channel]
            )
        if len(shared):
            alike = False
            for channel in range(channels):
                log2_into(levels[channel], exponent, n, scale_of(detector))
            _link_shared(levels, shared, room, exponent, at, n, channels, v, d, offset)
        else:
            alike = linked_levels(levels, exponent, channels, n, detector, v, d, offset)
            alike = alike and equal_lanes(state, POWER)
        for channel in range(1 if alike else channels):
            c = levels[channel]
            copy_into(carried, state[:, channel])
            if len(heard):
                for i in range(n):
                    heard_here[i, channel] = c[i]
            if topology == BACK:
                _smooth_back(c, n, carried, ballistics, programme, v, d, offset)
            else:
                _curve_into(c, n, v, d, offset)
                _smooth(c, n, carried, ballistics, programme, v, d, offset)
            for row in (OUT, HELD, SLOW):
                if carried[row] < TINY:
                    carried[row] = 0.0
            restore = v[RESTORE] + d[RESTORE] * offset
            if restore != 0.0 or d[RESTORE] != 0.0:
                _restore(c, n, carried, restore, d[RESTORE], v[RESTORE_RATE])
            else:
                carried[LATE] = carried[OUT]
            if len(heard) and topology == BACK:
                for i in range(n):
                    heard_here[i, channel] -= c[i]
            for row in range(STATES):
                if row != POWER:
                    state[row, channel] = carried[row]
            for i in range(n):
                reduction_here[i, channel] = c[i]
        if alike:
            stand_alike(state, POWER)
            for i in range(n):
                reduction_here[i, 1] = reduction_here[i, 0]
                if len(heard):
                    heard_here[i, 1] = heard_here[i, 0]


@inlined
def linked_levels(
    levels: Sound,
    exponent: Sound,
    channels: int,
    n: int,
    detector: int,
    value: Sound,
    step: Sound,
    offset: int,
) -> bool:
    """Turn what was heard of a cell into levels in dB, linked; say whether both are one level."""
    link = value[LINK] + step[LINK] * offset
    alike = channels == 2 and link == 1.0 and step[LINK] == 0.0
    if alike:
        # The logarithm rises: of the greater one is that of both.
        for i in range(n):
            levels[0, i] = max(levels[0, i], levels[1, i])
    for channel in range(1 if alike else channels):
        log2_into(levels[channel], exponent, n, scale_of(detector))
    if alike:
        for i in range(n):
            levels[1, i] = levels[0, i]
    elif channels == 2:
        _link(levels, n, link, step[LINK])
    return alike


@inlined
def equal_lanes(state: Sound, apart: int) -> bool:
    """Say whether both channels stand at the same place, but for one row of the state."""
    unequal = 0
    for row in range(len(state)):
        unequal += row != apart and state[row, 0] != state[row, 1]
    return unequal == 0


@inlined
def stand_alike(state: Sound, apart: int) -> None:
    """Let the second channel stand where the first does, but for one row of the state."""
    for row in range(len(state)):
        if row != apart:
            state[row, 1] = state[row, 0]


@inlined
def _nothing(values: Sound, n: int) -> bool:
    """Say whether the first n values are 0."""
    found = 0
    for i in range(n):
        found += 1 if values[i] != 0.0 else 0
    return found == 0


@inlined
def _even(values: Sound, n: int) -> bool:
    """Say whether n frames of two channels are the same in both."""
    unequal = 0
    for i in range(n):
        unequal += 1 if values[2 * i] != values[2 * i + 1] else 0
    return unequal == 0


@kernel
def gain_into(
    out: Sound,
    signal: Sound,
    reduction: Sound,
    start: int,
    makeup: Sound,
    d_makeup: Sound,
    past: Sound,
) -> None:
    """Fill out with the signal, as late as past is long, times 10 ** ((make-up - reduction) / 20).

    makeup, d_makeup: per grid point, in dB. start: timeline frame of reduction[0]. past: (delay,
    channels), contiguous, moved on; of 0 frames where nothing waits.
    """
    frames, channels = signal.shape
    octaves, levels = np.empty(2 * GRID), np.empty(2 * GRID)
    whole = np.empty(2 * GRID, np.int64)
    per_db = 1.0 / DB_PER_OCTAVE
    # Of contiguous sound the channels need not be told apart.
    taken, before = reduction.reshape(reduction.size), past.reshape(past.size)
    given, found = signal.reshape(signal.size), out.reshape(out.size)
    for at, n, k, offset in grid_cells(start, frames):
        m, dm = makeup[k] + d_makeup[k] * offset, d_makeup[k]
        first, count = at * channels, n * channels
        less, gained = taken[first:], found[first:]
        if m == 0.0 and dm == 0.0 and _nothing(less, count):
            for i in range(count):
                octaves[i] = 1.0
        elif channels == 2 and _even(less, n):
            for i in range(n):
                levels[i] = per_db * ((m + dm * i) - less[2 * i])
            exp2_into(levels, whole, n)
            for i in range(n):
                octaves[2 * i] = octaves[2 * i + 1] = levels[i]
        else:
            for i in range(n):
                for channel in range(channels):
                    levels[channels * i + channel] = m + dm * i
            for i in range(count):
                octaves[i] = per_db * (levels[i] - less[i])
            exp2_into(octaves, whole, count)
        waits = min(max(len(before) - first, 0), count)
        old, new = before[first:], given[max(first - len(before), 0) :]
        for i in range(waits):
            gained[i] = old[i] * octaves[i]
        later, louder = gained[waits:], octaves[waits:]
        for i in range(count - waits):
            later[i] = new[i] * louder[i]
    keep_into(past, signal)


@inlined
def _raise(carry: Sound, line: Sound, channels: int) -> None:
    """Raise the running maxima of a cell by what of it lies in a line, frame by frame."""
    first, last = highest(line, channels)
    carry[0] = max(carry[0], first)
    carry[channels - 1] = max(carry[channels - 1], last)


@inlined
def _finish(cells: Sound, done: int, carry: Sound, rest: float) -> None:
    for channel in range(cells.shape[1]):
        cells[done, channel] = carry[channel]
        carry[channel] = rest


@kernel
def cell_maxima(values: Sound, start: int, carry: Sound, rest: float, cells: Sound) -> int:
    """Fill cells with the maxima over the grid cells that end inside this block.

    values: (frames, channels), start: timeline frame of values[0]. carry: (channels,), the running
    maximum of the unfinished cell, changed; it starts at `rest`. Returns the number of finished
    cells.
    """
    frames, channels = values.shape
    done = 0
    line = values.ravel()
    for at, n, _, offset in grid_cells(start, frames):
        _raise(carry, line[at * channels : (at + n) * channels], channels)
        if offset + n == GRID:
            _finish(cells, done, carry, rest)
            done += 1
    return done


@kernel
def change_maxima(
    change: Sound, start: int, taken: Sound, given: Sound, less: Sound, more: Sound
) -> int:
    """Fill less and more with the most that a change of gain takes and gives in each cell, as
    `cell_maxima` does, from 0 on."""
    frames, channels = change.shape
    done = 0
    line, against = change.ravel(), np.empty(2 * GRID)
    for at, n, _, offset in grid_cells(start, frames):
        here = line[at * channels : (at + n) * channels]
        for i in range(len(here)):
            against[i] = -here[i]
        _raise(taken, against[: len(here)], channels)
        _raise(given, here, channels)
        if offset + n == GRID:
            _finish(less, done, taken, 0.0)
            _finish(more, done, given, 0.0)
            done += 1
    return done
