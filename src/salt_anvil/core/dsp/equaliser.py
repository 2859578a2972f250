"""Bands of tone as state-variable sections, which stay quiet while they are moved.

Trapezoidal state-variable filter (Zavalishin, "The Art of VA Filter Design", from memory): with
g = tan(pi * hz / rate) and damping k = 1 / q, its mixes of input, band and low output have the
responses of the W3C Audio EQ Cookbook, whose bilinear transform is the same; or, up to an edge,
those of the Cookbook's analogue prototypes (`matched`).
"""

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from salt_anvil.core.audio import FLOOR_AMPLITUDE, GRID, TINY, Sound
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.grid import grid_cells
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


@njit(cache=True, nogil=True, error_model="numpy")
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


@njit(cache=True, nogil=True, error_model="numpy")
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


@njit(cache=True, nogil=True, error_model="numpy")
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


@njit(cache=True, nogil=True, error_model="numpy")
def _still_pair(left: Vector, right: Vector, c: Sound, memory: Sound) -> None:
    """Run a standing section over both lines, side by side."""
    g, k, m0, m1, m2 = c
    a1 = 1.0 / (1.0 + g * (g + k))
    a2 = g * a1
    a3 = g * a2
    y1, y2 = memory[0]
    z1, z2 = memory[1]
    for i in range(len(left)):
        w, x = left[i], right[i]
        t, u = w - y2, x - z2
        b, d = a1 * y1 + a2 * t, a1 * z1 + a2 * u
        e, f = y2 + a2 * y1 + a3 * t, z2 + a2 * z1 + a3 * u
        y1, z1 = 2.0 * b - y1, 2.0 * d - z1
        y2, z2 = 2.0 * e - y2, 2.0 * f - z2
        left[i] = m0 * w + m1 * b + m2 * e
        right[i] = m0 * x + m1 * d + m2 * f
    memory[0, 0], memory[0, 1], memory[1, 0], memory[1, 1] = y1, y2, z1, z2


@njit(cache=True, nogil=True, error_model="numpy")
def glide(line: Vector, inside: int, span: int, c: Sound, to: Sound, memory: Sound) -> None:
    """Run a section from c to `to` over span frames, of which `inside` are past."""
    share = 1.0 / span
    dg, dk = share * (to[0] - c[0]), share * (to[1] - c[1])
    d0, d1, d2 = share * (to[2] - c[2]), share * (to[3] - c[3]), share * (to[4] - c[4])
    z1, z2 = memory
    for i in range(len(line)):
        j = float(inside + i)
        g, k = c[0] + dg * j, c[1] + dk * j
        a1 = 1.0 / (1.0 + g * (g + k))
        a2 = g * a1
        x = line[i]
        u = x - z2
        band = a1 * z1 + a2 * u
        low = z2 + a2 * z1 + g * a2 * u
        z1 = 2.0 * band - z1
        z2 = 2.0 * low - z2
        line[i] = (c[2] + d0 * j) * x + (c[3] + d1 * j) * band + (c[4] + d2 * j) * low
    memory[0], memory[1] = z1, z2


@njit(cache=True, nogil=True, error_model="numpy")
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
    for channel in range(channels):
        z1, z2 = memory[channel]
        means = row[MEANS + 3 * channel : MEANS + 3 * channel + 3]
        square, quarter, both = means
        for i in range(at, at + n):
            x = keys[channel, i]
            u = x - z2
            band = a1 * z1 + a2 * u
            low = z2 + a2 * z1 + a3 * u
            z1 = 2.0 * band - z1
            z2 = 2.0 * low - z2
            high = x - damping * band - low
            y = low if kind == LOW_SHELF else high
            square += rate * (y * y - square)
            quarter += rate * (band * band - quarter)
            both += rate * (-low * high - both)
        memory[channel, 0] = z1 if abs(z1) > TINY else 0.0
        memory[channel, 1] = z2 if abs(z2) > TINY else 0.0
        square, quarter = max(square, 0.0), max(quarter, 0.0)
        if kind == BELL:
            power = 0.5 * damping * damping * (quarter + max(both, 0.0))
        else:
            apart = quarter / both if both * MOST_APART > quarter else MOST_APART
            power = 0.5 * square * (1.0 + apart)
        means[0] = square if square > TINY else 0.0
        means[1] = quarter if quarter > TINY else 0.0
        means[2] = both if abs(both) > TINY else 0.0
        row[POWER + channel] = power if power > TINY else 0.0


@njit(cache=True, nogil=True, error_model="numpy")
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


@njit(cache=True, nogil=True, error_model="numpy")
def _pick(lines: Sound, pair: Sound, n: int, channel: int) -> int:
    """Fill lines[0] with what a channel choice works on; return how many lines that is."""
    for i in range(n):
        left, right = pair[0, i], pair[1, i]
        if channel == MID:
            lines[0, i] = 0.5 * (left + right)
        elif channel == SIDE:
            lines[0, i] = 0.5 * (left - right)
        else:
            lines[0, i] = left if channel == LEFT else right
    return 1


@njit(cache=True, nogil=True, error_model="numpy")
def _put(lines: Sound, pair: Sound, n: int, channel: int) -> None:
    """Put back what `_pick` took; what was not taken stays as it is to the bit."""
    for i in range(n):
        if channel == LEFT:
            pair[0, i] = lines[0, i]
        elif channel == RIGHT:
            pair[1, i] = lines[0, i]
        elif channel == MID:
            change = lines[0, i] - 0.5 * (pair[0, i] + pair[1, i])
            pair[0, i] += change
            pair[1, i] += change
        else:
            change = lines[0, i] - 0.5 * (pair[0, i] - pair[1, i])
            pair[0, i] += change
            pair[1, i] -= change


@njit(cache=True, nogil=True, error_model="numpy")
def _same(a: Sound, b: Sound) -> bool:
    gains = a[2] == b[2] and a[3] == b[3] and a[4] == b[4]
    return bool(gains and a[0] == b[0] and a[1] == b[1])


@njit(cache=True, nogil=True, error_model="numpy")
def _idle(kind: int, v: Vector, s: Vector) -> bool:
    """Say whether a band does nothing all along a cell."""
    if v[ON] == 0.0 and s[ON] == 0.0:
        return True
    standing = v[MOVE] == 0.0 and s[MOVE] == 0.0
    gain = v[GAIN] != 0.0 or s[GAIN] != 0.0
    return LOW_SHELF <= kind <= BELL and standing and not gain


@njit(cache=True, nogil=True, error_model="numpy")
def _stands(value: Vector, step: Vector, point: int, b: int) -> bool:
    """Say whether a band is at a grid point, and all along its cell, what it was at the last."""
    same = True
    for column in range(b * COLUMNS, b * COLUMNS + MOVE):
        same &= value[point, column] == value[point - 1, column]
        same &= step[point, column] == 0.0 and step[point - 1, column] == 0.0
    return same


@njit(cache=True, nogil=True, error_model="numpy")
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
    frames, columns = sound.shape
    cell, keys = np.empty((2, GRID)), np.empty((2, GRID))
    picked, heard = np.empty((2, GRID)), np.empty((2, GRID))
    listened = keys
    here, there = np.zeros(5), np.zeros(5)
    # What a band's sections were last, and whether that holds: to find it anew takes its time.
    known, holds = np.empty((len(shapes), SECTIONS, 5)), np.zeros(len(shapes), np.bool_)
    for at, n, point, offset in grid_cells(start, frames):
        sound_here = sound[at : at + n]
        key_here = key[at : at + n]
        out_here = out[at : at + n]
        for column in range(columns):
            for i in range(n):
                cell[column, i], keys[column, i] = sound_here[i, column], key_here[i, column]
        for b in range(len(shapes)):
            v = value[point, b * COLUMNS : (b + 1) * COLUMNS]
            s = step[point, b * COLUMNS : (b + 1) * COLUMNS]
            kind, channel, order = shapes[b, 0], shapes[b, 1], shapes[b, 2]
            if _idle(kind, v, s) or (columns == 1 and channel == SIDE):
                memory[b] = 0.0
                ears[b] = 0.0
                rows[b] = 0.0
                holds[b] = False
                continue
            moving = LOW_SHELF <= kind <= BELL and (v[MOVE] != 0.0 or s[MOVE] != 0.0)
            whole = columns == 1 or channel == BOTH
            lines = cell if whole else picked
            count = columns if whole else _pick(picked, cell, n, channel)
            if moving and whole:
                listened = keys
            elif moving:
                listened = heard
                _pick(heard, keys, n, channel)
            span = STEP if moving else GRID
            if holds[b]:
                holds[b] = not moving and _stands(value, step, point, b)
            i = 0
            while i < n:
                inside = (offset + i) % span
                m = min(span - inside, n - i)
                first = float(offset + i - inside)
                if moving and inside == 0:
                    _next_move(rows[b], v, v[MOVE] + s[MOVE] * (first + span), count)
                begin, end = rows[b, NOW], rows[b, NEXT]
                gain = v[GAIN] + s[GAIN] * first
                gain_to = v[GAIN] + s[GAIN] * (first + span)
                on, on_to = v[ON] + s[ON] * first, v[ON] + s[ON] * (first + span)
                g = math.exp(v[WARPED] + s[WARPED] * first)
                g_to = math.exp(v[WARPED] + s[WARPED] * (first + span))
                k, k_to = v[DAMPING] + s[DAMPING] * first, v[DAMPING] + s[DAMPING] * (first + span)
                for j in range((order + 1) // 2):
                    cut = kind <= HIGH_CUT
                    real = cut and order % 2 == 1 and j == 0
                    d, d_to = (dampings[order, j], dampings[order, j]) if cut else (k, k_to)
                    if holds[b]:
                        here[:] = known[b, j]
                    else:
                        section(kind, g, d, gain + begin, on, real, edge, here)
                    moved = g != g_to or d != d_to or on != on_to
                    if moved or gain + begin != gain_to + end:
                        section(kind, g_to, d_to, gain_to + end, on_to, real, edge, there)
                    else:
                        there[:] = here
                    known[b, j] = there
                    if not _same(here, there):
                        for column in range(count):
                            line = lines[column, i : i + m]
                            glide(line, inside, span, here, there, memory[b, j, column])
                    elif count == 2:
                        _still_pair(lines[0, i : i + m], lines[1, i : i + m], here, memory[b, j])
                    else:
                        stand(lines[0, i : i + m], here, memory[b, j, 0])
                if moving:
                    _heard(listened, i, m, kind, g, k, power_rate, rows[b], ears[b], count)
                    for t in range(m):
                        moves[b, at + i + t] = begin + (end - begin) * (inside + t) / span
                i += m
                # At the end of a step the next one begins, as long as its cell goes on.
                holds[b] = (offset + i) % span == 0
            if not whole:
                _put(picked, cell, n, channel)
            for j in range(SECTIONS):
                for column in range(columns):
                    for z in range(2):
                        if abs(memory[b, j, column, z]) < TINY:
                            memory[b, j, column, z] = 0.0
        for column in range(columns):
            for i in range(n):
                out_here[i, column] = cell[column, i]


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
    out, count = np.empty_like(sound), len(shapes)
    tone_into(
        out,
        np.zeros((count, 0)),
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
        np.zeros((count, sound.shape[1], 2)),
        np.zeros((count, ROWS)),
    )
    return out


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
