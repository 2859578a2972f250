"""Bands of tone as state-variable sections, which stay quiet while they are moved.

Trapezoidal state-variable filter (Zavalishin, "The Art of VA Filter Design", from memory): with
g = tan(pi * hz / rate) and damping k = 1 / q, its mixes of input, band and low output have the
responses of the W3C Audio EQ Cookbook, whose bilinear transform is the same; or, up to an edge,
those of the Cookbook's analogue prototypes (`matched`).
"""

import math
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import FLOOR_AMPLITUDE, GRID, TINY, Sound
from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp.cascade import FIRST, OUT, SECOND, WEIGHTS, run_sections
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.grid import grid_cells
from salt_anvil.core.dsp.line import copy_into
from salt_anvil.core.dsp.matched import matched

Shapes = NDArray[np.int64]
TYPES = ("low-cut", "high-cut", "low-shelf", "high-shelf", "bell", "notch")
LOW_CUT, HIGH_CUT, LOW_SHELF, HIGH_SHELF, BELL, NOTCH, ALL_PASS = range(7)
CHANNELS = ("both", "mid", "side", "left", "right")
BOTH, MID, SIDE, LEFT, RIGHT = range(5)
# Columns of one band in the control vector.
WARPED, DAMPING, GAIN, ON, MOVE, THRESHOLD, ATTACK, RELEASE = range(8)
COLUMNS = 8
TYPE, CHANNEL, ORDER = range(3)
"""Columns of the shapes: what does not glide."""
SECTIONS = 4
STEP = 16
"""Frames after which a band that moves by level is set anew; in between it glides."""
POWER, NOW, NEXT, MEANS = 0, 2, 3, 4
ROWS = MEANS + 2 * 3
"""Rows of a band's detector: power of each channel, the movement at this step's ends in dB, and of
each channel the means that the power is found from."""
PART_DB, PARTS = 0.5, 128
"""Of a band that moves by level, sections are found at whole parts of so many dB, up to so many of
them on both sides of 0, and drawn between; `section` takes as long as 300 frames do."""
MOST_APART = 4.0
"""A wave's two quarters are taken for at most so much apart: in the mean they are alike."""
HEARD_HZ, EDGE = 20000.0, 0.92 * math.pi
"""Up to where a filter follows its prototype: in Hz, and at most in radians a frame."""
BILINEAR = 0.0
"""The edge of filters that do not: their sums and all-passes need the bilinear transform."""


def butterworth() -> Sound:
    """Return the damping of the sections of orders 0 to 8, (9, SECTIONS).

    The poles lie evenly on a half circle; the first section of an odd order is the real pole.
    """
    table = np.zeros((9, SECTIONS))
    for order in range(1, 9):
        odd = order % 2
        if odd:
            table[order, 0] = 2.0
        for pair in range(order // 2):
            angle = math.pi * (2 * pair + 1) / (2 * order)
            table[order, odd + pair] = 2 * math.sin(angle)
    return table


DAMPINGS = butterworth()


@kernel
def _follow(
    kind: int, warped: float, damping: float, a: float, real: bool, edge: float, found: Sound
) -> None:
    """Fill found with g, k and the numerator n0, n1, n2 of a section that follows its prototype.

    a: the square root of the gain of a shelf or bell. Of it and its inverse, that is designed whose
    poles lie lower; so they undo each other exactly.
    """
    corner = 2.0 * math.atan(warped)
    num, den = np.zeros(3), np.array([1.0, damping, 1.0])
    b = max(a, 1.0 / a)
    if real:
        # One pole, and (s + 1) over itself, with which there is more to fit.
        num[1], num[0 if kind == LOW_CUT else 2] = 1.0, 1.0
    elif kind == LOW_CUT:
        num[0] = 1.0
    elif kind == HIGH_CUT:
        num[2] = 1.0
    elif kind == NOTCH:
        num[0] = num[2] = 1.0
    elif kind == BELL:
        num[0], num[1], num[2] = 1.0, damping * b, 1.0
        den[1] = damping / b
    else:
        slope = damping * math.sqrt(b)
        if kind == LOW_SHELF:
            num[0], num[1], num[2] = b, b * slope, b * b
            den[0], den[1] = b, slope
        else:
            num[0], num[1], num[2] = 1.0, slope, b
            den[0], den[1], den[2] = b * b, b * slope, b
    zeros = 1 if kind == NOTCH else 2 if kind == LOW_CUT and not real else 0
    matched(num, den, zeros, corner, edge, found)
    if LOW_SHELF <= kind <= BELL and (a < 1.0) != (kind == HIGH_SHELF):
        g, k, n0, n1, n2 = found
        span = math.sqrt(n0 / n2)
        found[0], found[1] = g * span, n1 / math.sqrt(n0 * n2)
        found[2], found[3], found[4] = 1.0 / n0, k * span / n0, 1.0 / n2


@kernel
def section(
    kind: int,
    warped: float,
    damping: float,
    gain_db: float,
    on: float,
    real: bool,
    edge: float,
    found: Sound,
) -> None:
    """Fill found with g, k and the mix m0, m1, m2 of one section.

    real: the one pole of an odd order. on: 0 to 1, how much of the section there is. edge: up to
    which it follows its analogue prototype, in radians a frame, or BILINEAR.
    """
    if edge > 0.0 and kind != ALL_PASS:
        shelved = LOW_SHELF <= kind <= BELL
        a = 10.0 ** (on * gain_db / 40.0) if shelved else 1.0
        _follow(kind, warped, damping, a, real, edge, found)
        k, n0, n1, n2 = found[1], found[2], found[3], found[4]
        share = 1.0 if shelved else on
        found[2] = 1.0 - share + share * n2
        found[3], found[4] = share * (n1 - n2 * k), share * (n0 - n2)
        return
    g, k, m0, m1, m2 = warped, damping, 1.0, 0.0, 0.0
    if kind == LOW_CUT:
        m1, m2 = (-on, -on) if real else (-on * k, -on)
    elif kind == HIGH_CUT:
        m0, m2 = 1.0 - on, on
        if real:
            m1 = on
    elif kind == NOTCH:
        m1 = -on * k
    elif kind == ALL_PASS:
        m1 = -2.0 * k
    else:
        a = 10.0 ** (on * gain_db / 40.0)
        if kind == BELL:
            k = damping / a
            m1 = k * (a * a - 1.0)
        elif kind == LOW_SHELF:
            g = warped / math.sqrt(a)
            m1, m2 = k * (a - 1.0), a * a - 1.0
        else:
            g = warped * math.sqrt(a)
            m0, m1, m2 = a * a, k * (1.0 - a) * a, 1.0 - a * a
    found[0], found[1], found[2], found[3], found[4] = g, k, m0, m1, m2


@inlined
def _between(
    kind: int,
    warped: float,
    damping: float,
    gain_db: float,
    edge: float,
    parts: Sound,
    there: NDArray[np.bool_],
    found: Sound,
) -> None:
    """Fill found as `section` does of a shelf or bell, but from four at whole parts of gain, by the
    cubic through them; they lie on one side of 0, where it is another one that is designed.

    parts: (2 * PARTS + 1, 5), those found already, where `there`.
    """
    at = gain_db / PART_DB
    first = math.floor(at) - 1
    first = min(max(first, 0), PARTS - 3) if at >= 0.0 else max(min(first, -3), -PARTS)
    for j in range(first + PARTS, first + PARTS + 4):
        if not there[j]:
            section(kind, warped, damping, (j - PARTS) * PART_DB, 1.0, False, edge, parts[j])
            there[j] = True
    a, b, c, d = at - first, at - first - 1.0, at - first - 2.0, at - first - 3.0
    w0, w1, w2, w3 = -b * c * d / 6.0, 0.5 * a * c * d, -0.5 * a * b * d, a * b * c / 6.0
    here = parts[first + PARTS : first + PARTS + 4]
    for i in range(5):
        found[i] = (w0 * here[0, i] + w1 * here[1, i]) + (w2 * here[2, i] + w3 * here[3, i])


@kernel
def stand(line: Vector, c: Sound, memory: Sound) -> None:
    """Run a standing section over a line."""
    g, k, m0, m1, m2 = c
    a1 = 1.0 / (1.0 + g * (g + k))
    a2 = g * a1
    a3 = g * a2
    z1, z2 = memory
    for i in range(len(line)):
        x = line[i]
        u = x - z2
        band = a1 * z1 + a2 * u
        low = z2 + a2 * z1 + a3 * u
        z1 = 2.0 * band - z1
        z2 = 2.0 * low - z2
        line[i] = m0 * x + m1 * band + m2 * low
    memory[0], memory[1] = z1, z2


@inlined
def _by_state(weights: Vector, c: Sound) -> None:
    """Fill weights with a standing section as `run_sections` takes it."""
    g, k, m0, m1, m2 = c
    a1 = 1.0 / (1.0 + g * (g + k))
    a2 = g * a1
    a3 = g * a2
    weights[OUT], weights[OUT + 1] = m1 * a1 + m2 * a2, m2 * (1.0 - a3) - m1 * a2
    weights[OUT + 2] = m0 + m1 * a2 + m2 * a3
    weights[FIRST], weights[FIRST + 1], weights[FIRST + 2] = 2.0 * a1 - 1.0, -2.0 * a2, 2.0 * a2
    weights[SECOND], weights[SECOND + 1] = 2.0 * a2, 1.0 - 2.0 * a3
    weights[SECOND + 2] = 2.0 * a3


@kernel
def glide(lines: Sound, inside: int, span: int, c: Sound, to: Sound, memory: Sound) -> None:
    """Run a section from c to `to` over span frames, of which `inside` are past.

    lines: (1 or 2, frames); memory: (as many, 2). Two go in one loop: neither waits for the
    other's last frame.
    """
    share = 1.0 / span
    dg, dk = share * (to[0] - c[0]), share * (to[1] - c[1])
    d0, d1, d2 = share * (to[2] - c[2]), share * (to[3] - c[3]), share * (to[4] - c[4])
    z1, z2 = memory[0]
    last = len(lines) - 1
    y1, y2 = memory[last]
    for i in range(lines.shape[1]):
        j = float(inside + i)
        g, k = c[0] + dg * j, c[1] + dk * j
        a1 = 1.0 / (1.0 + g * (g + k))
        a2 = g * a1
        m0, m1, m2 = c[2] + d0 * j, c[3] + d1 * j, c[4] + d2 * j
        x, y = lines[0, i], lines[last, i]
        u, v = x - z2, y - y2
        band, other = a1 * z1 + a2 * u, a1 * y1 + a2 * v
        low, lower = z2 + a2 * z1 + g * a2 * u, y2 + a2 * y1 + g * a2 * v
        z1, y1 = 2.0 * band - z1, 2.0 * other - y1
        z2, y2 = 2.0 * low - z2, 2.0 * lower - y2
        lines[0, i] = m0 * x + m1 * band + m2 * low
        lines[last, i] = m0 * y + m1 * other + m2 * lower
    memory[0, 0], memory[0, 1] = z1, z2
    memory[last, 0], memory[last, 1] = y1, y2


@inlined
def _ear(
    x: float,
    z1: float,
    z2: float,
    a1: float,
    a2: float,
    a3: float,
    damping: float,
    lower: bool,
    rate: float,
    square: float,
    quarter: float,
    both: float,
) -> tuple[float, float, float, float, float]:
    """Return the state of a section and the means of `_heard` behind a frame."""
    u = x - z2
    band = a1 * z1 + a2 * u
    low = z2 + a2 * z1 + a3 * u
    high = x - damping * band - low
    y = low if lower else high
    square += rate * (y * y - square)
    quarter += rate * (band * band - quarter)
    both += rate * (-low * high - both)
    return 2.0 * band - z1, 2.0 * low - z2, square, quarter, both


@inlined
def _heard(
    keys: Sound,
    at: int,
    n: int,
    kind: int,
    warped: float,
    damping: float,
    rate: float,
    row: Sound,
    memory: Sound,
    channels: int,
) -> None:
    """Move the powers of what lies in a band's range of the keys on by n frames.

    Of a steady tone a power has no ripple, however low it is: beside the square of what is heard
    stands that of the same a quarter of a period on. A section's band output is that of its low and
    high ones, but for the frequency, w of its own: low is l, band is w times l's quarter, high is
    w * w * l turned round, so that band * band and -low * high are the two squares of a bell, and
    their ratio weighs band * band for a shelf.
    """
    a1 = 1.0 / (1.0 + warped * (warped + damping))
    a2 = warped * a1
    a3 = warped * a2
    lower, last = kind == LOW_SHELF, channels - 1
    z1, z2 = memory[0]
    y1, y2 = memory[last]
    one, other = row[MEANS : MEANS + 3], row[MEANS + 3 * last : MEANS + 3 * last + 3]
    s0, s1, s2 = one
    t0, t1, t2 = other
    # In one loop: neither channel waits for the other's last frame.
    for i in range(at, at + n):
        z1, z2, s0, s1, s2 = _ear(keys[0, i], z1, z2, a1, a2, a3, damping, lower, rate, s0, s1, s2)
        y1, y2, t0, t1, t2 = _ear(
            keys[last, i], y1, y2, a1, a2, a3, damping, lower, rate, t0, t1, t2
        )
    memory[0, 0], memory[0, 1], memory[last, 0], memory[last, 1] = z1, z2, y1, y2
    one[0], one[1], one[2] = s0, s1, s2
    other[0], other[1], other[2] = t0, t1, t2
    for channel in range(channels):
        for j in range(2):
            kept = memory[channel, j]
            memory[channel, j] = kept if abs(kept) > TINY else 0.0
        means = row[MEANS + 3 * channel : MEANS + 3 * channel + 3]
        square, quarter, both = max(means[0], 0.0), max(means[1], 0.0), means[2]
        if kind == BELL:
            power = 0.5 * damping * damping * (quarter + max(both, 0.0))
        else:
            apart = quarter / both if both * MOST_APART > quarter else MOST_APART
            power = 0.5 * square * (1.0 + apart)
        means[0] = square if square > TINY else 0.0
        means[1] = quarter if quarter > TINY else 0.0
        means[2] = both if abs(both) > TINY else 0.0
        row[POWER + channel] = power if power > TINY else 0.0


@inlined
def _next_move(row: Sound, v: Vector, most: float, channels: int) -> None:
    """Step a band's movement: a dB for every dB over its threshold, as far as it may go."""
    power = row[POWER]
    if channels == 2:
        power = max(power, row[POWER + 1])
    over = 10.0 * math.log10(power + FLOOR_AMPLITUDE * FLOOR_AMPLITUDE) - v[THRESHOLD]
    target = min(max(over, 0.0), abs(most))
    if most < 0.0:
        target = -target
    row[NOW] = row[NEXT]
    rate = v[ATTACK] if abs(target) > abs(row[NEXT]) else v[RELEASE]
    moved = row[NEXT] + rate * (target - row[NEXT])
    moved = min(max(moved, -abs(most)), abs(most))
    row[NEXT] = moved if abs(moved) > 1e-9 else 0.0


@inlined
def _pick(lines: Sound, frames: Sound, channel: int) -> int:
    """Fill lines with what a channel choice works on; return how many lines that is."""
    columns = int(frames.shape[1])
    if channel == BOTH or columns == 1:
        for column in range(columns):
            for i in range(len(frames)):
                lines[column, i] = frames[i, column]
        return columns
    line = lines[0]
    for i in range(len(frames)):
        left, right = frames[i, 0], frames[i, 1]
        if channel == MID:
            line[i] = 0.5 * (left + right)
        elif channel == SIDE:
            line[i] = 0.5 * (left - right)
        else:
            line[i] = left if channel == LEFT else right
    return 1


@inlined
def _put(lines: Sound, frames: Sound, channel: int) -> None:
    """Put back what `_pick` took; what was not taken stays as it is to the bit."""
    columns, line = frames.shape[1], lines[0]
    if channel == BOTH or columns == 1:
        for column in range(columns):
            for i in range(len(frames)):
                frames[i, column] = lines[column, i]
        return
    for i in range(len(frames)):
        if channel == LEFT:
            frames[i, 0] = line[i]
        elif channel == RIGHT:
            frames[i, 1] = line[i]
        elif channel == MID:
            change = line[i] - 0.5 * (frames[i, 0] + frames[i, 1])
            frames[i, 0] += change
            frames[i, 1] += change
        else:
            change = line[i] - 0.5 * (frames[i, 0] - frames[i, 1])
            frames[i, 0] += change
            frames[i, 1] -= change


@inlined
def _same(a: Sound, b: Sound) -> bool:
    gains = a[2] == b[2] and a[3] == b[3] and a[4] == b[4]
    return bool(gains and a[0] == b[0] and a[1] == b[1])


@inlined
def _idle(kind: int, v: Vector, s: Vector) -> bool:
    """Say whether a band does nothing all along a cell."""
    if v[ON] == 0.0 and s[ON] == 0.0:
        return True
    standing = v[MOVE] == 0.0 and s[MOVE] == 0.0
    gain = v[GAIN] != 0.0 or s[GAIN] != 0.0
    return LOW_SHELF <= kind <= BELL and standing and not gain


@inlined
def _stands(v: Vector, s: Vector, known: Vector) -> bool:
    """Say whether a band stands all along a cell as it is known."""
    same = True
    for column in range(MOVE):
        same &= v[column] == known[column] and s[column] == 0.0
    return same


@inlined
def _still(s: Vector) -> bool:
    """Say whether a band that does not move by level stands all along a cell."""
    still = True
    for column in range(MOVE):
        still &= s[column] == 0.0
    return still


@inlined
def _design(weights: Sound, shape: Shapes, v: Vector, dampings: Sound, edge: float) -> None:
    """Fill weights, (SECTIONS, WEIGHTS), with those of a band that stands."""
    kind, order, found = shape[TYPE], shape[ORDER], np.empty(5)
    for j in range((order + 1) // 2):
        cut = kind <= HIGH_CUT
        damping = dampings[order, j] if cut else v[DAMPING]
        real = cut and order % 2 == 1 and j == 0
        section(kind, math.exp(v[WARPED]), damping, v[GAIN], v[ON], real, edge, found)
        _by_state(weights[j], found)


@kernel
def _moved_into(
    lines: Sound,
    count: int,
    heard: Sound,
    moves: Vector,
    offset: int,
    n: int,
    v: Vector,
    s: Vector,
    shape: Shapes,
    dampings: Sound,
    edge: float,
    power_rate: float,
    memory: Sound,
    ears: Sound,
    row: Vector,
    asked: Sound,
    last: Sound,
    drawn: bool,
    parts: Sound,
    there: NDArray[np.bool_],
) -> None:
    """Run a band over a cell in which it glides or moves by level.

    lines, heard: (2, GRID), of which `count` lines are used; moves: (n,), filled where it moves by
    level. v, s: its controls and their steps. asked, last: (SECTIONS, 5), of what its sections were
    found last, and these, with which most steps begin. drawn: whether they are drawn between those
    in parts (`_between`). The others are its own, as in `tone_into`.
    """
    kind, order = shape[TYPE], shape[ORDER]
    moving = LOW_SHELF <= kind <= BELL and (v[MOVE] != 0.0 or s[MOVE] != 0.0)
    span = STEP if moving else GRID
    here, wanted = np.zeros(5), np.zeros(5)
    g = g_to = math.exp(v[WARPED])
    i = 0
    while i < n:
        inside = (offset + i) % span
        m = min(span - inside, n - i)
        first = float(offset + i - inside)
        if moving and inside == 0:
            _next_move(row, v, v[MOVE] + s[MOVE] * (first + span), count)
        begin, end = row[NOW], row[NEXT]
        gain = v[GAIN] + s[GAIN] * first
        gain_to = v[GAIN] + s[GAIN] * (first + span)
        on, on_to = v[ON] + s[ON] * first, v[ON] + s[ON] * (first + span)
        if s[WARPED] != 0.0:
            g = math.exp(v[WARPED] + s[WARPED] * first)
            g_to = math.exp(v[WARPED] + s[WARPED] * (first + span))
        k, k_to = v[DAMPING] + s[DAMPING] * first, v[DAMPING] + s[DAMPING] * (first + span)
        for j in range((order + 1) // 2):
            cut = kind <= HIGH_CUT
            real = cut and order % 2 == 1 and j == 0
            d, d_to = (dampings[order, j], dampings[order, j]) if cut else (k, k_to)
            ahead = last[j]
            wanted[0], wanted[1], wanted[2], wanted[3] = g, d, gain + begin, on
            if not _same(wanted, asked[j]):
                if drawn:
                    _between(kind, g, d, on * (gain + begin), edge, parts, there, ahead)
                else:
                    section(kind, g, d, gain + begin, on, real, edge, ahead)
            copy_into(here, ahead)
            asked[j, 0], asked[j, 1], asked[j, 2], asked[j, 3] = g_to, d_to, gain_to + end, on_to
            if not _same(wanted, asked[j]):
                if drawn:
                    _between(kind, g, d, on_to * (gain_to + end), edge, parts, there, ahead)
                else:
                    section(kind, g_to, d_to, gain_to + end, on_to, real, edge, ahead)
            if _same(here, ahead):
                for column in range(count):
                    stand(lines[column, i : i + m], here, memory[j, column])
            else:
                part = lines[:count, i : i + m]
                glide(part, inside, span, here, ahead, memory[j, :count])
        if moving:
            _heard(heard, i, m, kind, g, k, power_rate, row, ears, count)
            for t in range(m):
                moves[i + t] = begin + (end - begin) * (inside + t) / span
        i += m


@kernel
def tone_into(
    out: Sound,
    moves: Sound,
    sound: Sound,
    key: Sound,
    start: int,
    value: Vector,
    step: Vector,
    shapes: Shapes,
    dampings: Sound,
    edge: float,
    power_rate: float,
    memory: Sound,
    ears: Sound,
    rows: Sound,
) -> None:
    """Fill out (frames, columns) with the sound through all bands.

    moves: (bands, frames), zeros; filled with the movement in dB of bands that move.
    key: (frames, columns), what bands that move listen to. start: timeline frame of sound[0].
    value, step: (grid points, bands * COLUMNS). shapes: (bands, 3). edge: see `section`.
    power_rate: of the mean squares. memory: (bands, SECTIONS, columns, 2); ears: (bands, columns,
    2); rows: (bands, ROWS); all changed. A band that does nothing is passed by, to the bit.
    """
    columns, bands = sound.shape[1], len(shapes)
    lines, heard = np.empty((2, GRID)), np.empty((2, GRID))
    flat, apart = memory.reshape(memory.size), 2 * columns
    whole_out, whole_in = out.reshape(out.size), sound.ravel()
    # What stands is known from cell to cell, and waits for those behind it to go beside them.
    known, weights = np.full((bands, MOVE), np.nan), np.empty((bands, SECTIONS, WEIGHTS))
    waiting, places = np.empty((bands * SECTIONS, WEIGHTS)), np.empty(bands * SECTIONS, np.int64)
    asked, last = np.zeros((bands, SECTIONS, 5)), np.empty((bands, SECTIONS, 5))
    asked[:, :, 0] = np.nan
    parts, there = np.empty((bands, 2 * PARTS + 1, 5)), np.zeros((bands, 2 * PARTS + 1), np.bool_)
    found_for, drew = np.full((bands, 2), np.nan), np.zeros(bands, np.bool_)
    for at, n, point, offset in grid_cells(start, len(sound)):
        here = out[at : at + n]
        count = 0
        ours, given = whole_out[at * columns :], whole_in[at * columns :]
        for i in range(n * columns):
            ours[i] = given[i]
        for b in range(bands):
            v = value[point, b * COLUMNS : (b + 1) * COLUMNS]
            s = step[point, b * COLUMNS : (b + 1) * COLUMNS]
            kind, channel, order = shapes[b, 0], shapes[b, 1], shapes[b, 2]
            if _idle(kind, v, s) or (columns == 1 and channel == SIDE):
                memory[b] = 0.0
                ears[b] = 0.0
                rows[b] = 0.0
                continue
            whole = columns == 1 or channel == BOTH
            moving = LOW_SHELF <= kind <= BELL and (v[MOVE] != 0.0 or s[MOVE] != 0.0)
            still = not moving and _still(s)
            if still and not _stands(v, s, known[b]):
                _design(weights[b], shapes[b], v, dampings, edge)
                copy_into(known[b], v)
            if still and whole:
                for j in range((order + 1) // 2):
                    copy_into(waiting[count], weights[b, j])
                    places[count] = (b * SECTIONS + j) * apart
                    count += 1
                continue
            run_sections(out, at, at + n, waiting, flat, places, count)
            count = 0
            used = _pick(lines, here, channel)
            if still:
                for j in range((order + 1) // 2):
                    places[j] = (b * SECTIONS + j) * apart
                alone = lines[0, :n].reshape(n, 1)
                run_sections(alone, 0, n, weights[b], flat, places, (order + 1) // 2)
            else:
                if moving:
                    _pick(heard, key[at : at + n], channel)
                # A shelf that rings has zeros that jump from one gain to the next.
                smooth = kind == BELL or v[DAMPING] >= 1.0
                drawn = moving and smooth and edge > 0.0 and s[WARPED] == s[DAMPING] == 0.0
                if drawn and (v[WARPED] != found_for[b, 0] or v[DAMPING] != found_for[b, 1]):
                    found_for[b, 0], found_for[b, 1] = v[WARPED], v[DAMPING]
                    there[b] = False
                if drawn != drew[b]:
                    drew[b] = drawn
                    asked[b, :, 0] = np.nan
                _moved_into(
                    lines, used, heard, moves[b, at : at + n], offset, n, v, s, shapes[b], dampings,
                    edge, power_rate, memory[b], ears[b], rows[b], asked[b], last[b],
                    drawn, parts[b], there[b],
                )  # fmt: skip
            _put(lines, here, channel)
        run_sections(out, at, at + n, waiting, flat, places, count)
        for i in range(len(flat)):
            if abs(flat[i]) < TINY:
                flat[i] = 0.0


def warped(hz: float, rate: int) -> float:
    """Return ln g, the frequency as the bilinear transform takes it; held below half the rate.

    In the logarithm, so that a moved frequency glides by octaves.
    """
    return math.log(math.tan(math.pi * min(hz, 0.49 * rate) / rate))


def corners(hz: list[float], rate: int) -> Vector:
    """Return the controls of plain 12 dB sections at these frequencies, (len(hz) * COLUMNS,)."""
    vector = np.zeros((len(hz), COLUMNS))
    vector[:, WARPED] = [warped(v, rate) for v in hz]
    vector[:, DAMPING] = math.sqrt(2)
    vector[:, ON] = 1.0
    return vector.ravel()


def undone(columns: Vector) -> Vector:
    """Return the controls, (points, bands * COLUMNS), with every gain turned round.

    A shelf or bell of the negative gain is the exact inverse of the one before.
    """
    turned = columns.copy()
    turned[:, GAIN::COLUMNS] *= -1
    return turned


def sections(*kinds: int) -> Shapes:
    """Return the shapes of plain 12 dB sections of both channels."""
    return np.array([[kind, BOTH, 2] for kind in kinds], np.int64)


def filtered(
    sound: Sound, start: int, value: Vector, step: Vector, shapes: Shapes, memory: Sound
) -> Sound:
    """Return the sound through sections that do not move by level; memory as in `tone_into`."""
    out, (moves, ears, rows) = np.empty_like(sound), _unmoved(len(shapes), sound.shape[1])
    tone_into(
        out,
        moves,
        sound,
        sound,
        start,
        np.ascontiguousarray(value),
        np.ascontiguousarray(step),
        shapes,
        DAMPINGS,
        BILINEAR,
        0.0,
        memory,
        ears,
        rows,
    )
    return out


@lru_cache(maxsize=64)
def _unmoved(count: int, columns: int) -> tuple[Sound, Sound, Sound]:
    """Return what bands that do not move by level neither read nor write but with 0."""
    return np.zeros((count, 0)), np.zeros((count, columns, 2)), np.zeros((count, ROWS))


def edge_of(rate: int) -> float:
    """Return up to where a filter follows its prototype, in radians a frame."""
    return min(2 * math.pi * HEARD_HZ / rate, EDGE)


def response(
    values: Vector,
    shape: Shapes,
    hz: Vector,
    rate: int,
    *,
    analogue: bool = False,
    power: float = 1.0,
) -> NDArray[np.complex128]:
    """Return the complex response of one band at frequencies in Hz, at rest.

    values: (COLUMNS,); shape: (3,). analogue: of its prototype, as if the rate were infinite.
    power: to which every section is raised; none turns by more than half a turn, so that a root
    has that share of its phase.
    """
    warp = math.exp(values[WARPED])
    if analogue:
        bent, edge = 1j * hz / (rate / math.pi * math.atan(warp)), BILINEAR
        warp = 1.0
    else:
        bent, edge = 1j * np.tan(np.pi * np.minimum(hz, 0.4999 * rate) / rate), edge_of(rate)
    whole = np.ones(len(hz), np.complex128)
    kind, order = int(shape[TYPE]), int(shape[ORDER])
    cut = kind <= HIGH_CUT
    found = np.zeros(5)
    for j in range((order + 1) // 2):
        damping = DAMPINGS[order, j] if cut else values[DAMPING]
        real = cut and order % 2 == 1 and j == 0
        section(kind, warp, damping, values[GAIN], values[ON], real, edge, found)
        g, k, m0, m1, m2 = found
        s = bent / g
        found_here = m0 + (m1 * s + m2) / (s * s + k * s + 1)
        whole *= found_here if power == 1.0 else found_here**power
    return whole
