"""Saturation: an odd and an even bend with closed antiderivatives, blended.

Odd: x / sqrt(1 + x^2). Even: x - (sqrt(1 + x^2) - 1), whose bend is an even function, so that it
adds even harmonics alone. Both have slope 1 at 0; formulas of our own.
"""

import math

import numpy as np

from salt_anvil.core.audio import GRID, TINY, Sound
from salt_anvil.core.compiled import as_written, inlined, kernel
from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp.control_ramp import Vector, along_into
from salt_anvil.core.dsp.grid import grid_cells
from salt_anvil.core.dsp.line import copy_into
from salt_anvil.core.dsp.maxima import Line, greatest
from salt_anvil.core.dsp.quadrature import quarters_into

EVERY = 4
"""Of so many values between the frames one tells the offset."""
EVEN_SHARE = 0.5
"""Share of the even bend, so that its slope stays between 1/2 and 3/2."""
PHASES = (math.cos(math.pi / 8), math.cos(3 * math.pi / 8))
"""Points of a wave of height 1 that tell the mean of an even bend within 2 % (Gauss, Chebyshev)."""
ZERO, QUARTER, HALF, ONE = (np.float32(x) for x in (0, 0.25, 0.5, 1))
NEAR = np.float32(0.5)
"""Steps below it take a polynomial for asinh(x) / x."""
A0, A1, A2, A3, A4, A5 = (
    np.polynomial.Chebyshev.interpolate(
        lambda square: (np.arcsinh(np.sqrt(square)) / np.sqrt(square) - 1) / square, 5, (0, 0.25)
    )
    .convert(kind=np.polynomial.Polynomial)
    .coef.astype(np.float32)
)
"""(asinh(x) / x - 1) / x^2 as a polynomial of x^2, within 1e-8 of itself up to NEAR."""
HALF_ROOT = int(np.array(math.sqrt(0.5), np.float32).view(np.int32))
MANTISSA = (1 << 23) - 1
LN2 = np.float32(math.log(2.0))
L1, L2, L3, L4 = (np.float32(1.0 / (2 * n + 1)) for n in range(1, 5))
"""artanh(x) / x - 1 as a series of x^2; the rest is under 2e-9 up to 0.0295."""


@as_written
def _bent_asinh(square: np.float32) -> np.float32:
    """Return asinh(x) / x - 1 for x^2 below NEAR^2."""
    # No power of it that float32 does not hold: such a number costs a hundred others.
    high = (A5 * square + A4) * square + A3
    return square * (((high * square + A2) * square + A1) * square + A0)


@inlined
def _straight(x: float, odd: float) -> float:
    root = math.sqrt(1.0 + x * x)
    return odd * (x - x / root) + (1.0 - odd) * (EVEN_SHARE * (root - 1.0))


@inlined
def _leaning(x: float, odd: float, lean: float, still: float) -> float:
    even = EVEN_SHARE * (math.sqrt(1.0 + x * x) - 1.0)
    moved = x + lean
    # Through 0 with slope 1, like the bend without lean.
    shifted = (moved / math.sqrt(1.0 + moved * moved) - lean / still) * still * still * still
    return odd * (x - shifted) + (1.0 - odd) * even


@inlined
def bend(x: float, odd: float, lean: float) -> float:
    """Return x - f(x) at a balance from 0 (even) to 1 (odd); lean shifts the middle of the bend."""
    if lean == 0.0:
        return float(_straight(x, odd))
    return float(_leaning(x, odd, lean, math.sqrt(1.0 + lean * lean)))


@as_written
def _logs_into(logs: Line, values: Line) -> None:
    """Fill logs with the logarithms of values over 0, without branches, so that many go at once.

    value = 2^e m, m around 1; ln m = 2 artanh s, s = (m - 1) / (m + 1), by its series.
    """
    bits, powers = values.view(np.int32), np.empty(len(logs), np.int32)
    parts = np.empty(len(logs), np.int32)
    mantissas = parts.view(np.float32)
    for i in range(len(logs)):
        moved = bits[i] - HALF_ROOT
        powers[i], parts[i] = moved >> 23, (moved & MANTISSA) + HALF_ROOT
    for i in range(len(logs)):
        s = (mantissas[i] - ONE) / (mantissas[i] + ONE)
        square = s * s
        series = ((L4 * square + L3) * square + L2) * square + L1
        logs[i] = np.float32(powers[i]) * LN2 + (s + s) * (series * square + ONE)


@inlined
def _roots_into(roots: Vector, line: Line, lean: Vector) -> None:
    for i in range(len(roots)):
        moved = line[i] + lean[i]
        roots[i] = math.sqrt(1.0 + moved * moved)


@inlined
def _slopes_into(slopes: Vector, a: Line, b: Line, ra: Vector, rb: Vector, lean: Vector) -> None:
    """Fill slopes with (rb - ra) / (b - a) = (a + b) / (ra + rb); no step is too small for it."""
    for i in range(len(slopes)):
        slopes[i] = ((a[i] + lean[i]) + (b[i] + lean[i])) / (ra[i] + rb[i])


@inlined
def _leaning_onto(
    cut: Line, a: Line, b: Line, slope: Vector, odd: Vector, offset: Vector, steep: Vector
) -> None:
    """Add the mean of what the odd bend, whose integral is the root, takes from a to b.

    slope: of the root; offset, steep: what the lean takes from it and makes good.
    """
    for i in range(len(cut)):
        shifted = (slope[i] - offset[i]) * steep[i]
        cut[i] += odd[i] * (0.5 * (float(a[i]) + float(b[i])) - shifted)


@as_written
def _straight_into(cut: Line, a: Line, b: Line, ea: Line, eb: Line, odd: Line) -> None:
    """Fill cut with the mean of what the odd bend takes from a to b, without a lean, and eb with
    what the root of b is over 1.

    s / 2 - s / R = s (R - 2) / (2 R), s = a + b and R the sum of the roots, of what the roots are
    over 1: in float32 nothing may be a difference of two that are nearly the same.
    """
    for i in range(len(cut)):
        square, s = b[i] * b[i], a[i] + b[i]
        root = math.sqrt(ONE + square)
        up, r = ONE + root, ONE + ea[i] + root
        both = ONE / (up * r)
        eb[i] = square * r * both
        cut[i] = odd[i] * (HALF * (ea[i] + eb[i]) * (s * up * both))


@as_written
def _both_into(
    cut: Line, a: Line, b: Line, ea: Line, eb: Line, odd: Line, even: Line, steps: Line
) -> None:
    """Fill as `_straight_into`, with a share of what the even bend takes added, but for wide steps;
    fill steps.

    The integral of the root is (x root + asinh x) / 2. Both halves' differences are written by
    sums: (b rb - a ra) / (b - a) = (R + s^2 / R) / 2, and the asinh moves on by that of the step
    b ra - a rb = (b - a) (R - s^2 / R) / 2.
    """
    for i in range(len(cut)):
        square, s = b[i] * b[i], a[i] + b[i]
        root = math.sqrt(ONE + square)
        up, r = ONE + root, ONE + ea[i] + root
        both = ONE / (up * r)
        eb[i] = square * r * both
        slope, over = s * up * both, ea[i] + eb[i]
        rest = r - s * slope
        step = abs((b[i] - a[i]) * (HALF * rest))
        steps[i] = step
        mean = HALF * over + QUARTER * rest * _bent_asinh(step * step)
        cut[i] = odd[i] * (HALF * over * slope) + (even[i] * mean if step < NEAR else ZERO)


@as_written
def _wide_onto(
    cut: Line,
    a: Line,
    b: Line,
    ea: Line,
    eb: Line,
    even: Line,
    steps: Line,
    grown: Line,
    logs: Line,
) -> None:
    """Add what `_both_into` left out: where the step is wide, by the logarithm."""
    n = len(cut)
    for i in range(n):
        grown[i] = steps[i] + math.sqrt(ONE + steps[i] * steps[i])
    _logs_into(logs[:n], grown[:n])
    for i in range(n):
        over, s, step = ea[i] + eb[i], a[i] + b[i], max(steps[i], NEAR)
        r = ONE + ONE + over
        both = ONE / (r * step)
        rest, bent = r - s * (s * step * both), logs[i] * r * both - ONE
        cut[i] += even[i] * (HALF * over + QUARTER * rest * bent) if steps[i] >= NEAR else ZERO


@inlined
def _evens_onto(
    evens: Vector, line: Line | Vector, odd: Vector, lean: Vector, leaning: bool, share: float
) -> None:
    """Add a share of what is taken from a line alike on both sides of 0.

    leaning: whether any lean is other than 0; if not, the odd bend takes nothing of that kind.
    """
    if not leaning:
        for i in range(len(evens)):
            x = float(line[i])
            even = EVEN_SHARE * (math.sqrt(1.0 + x * x) - 1.0)
            evens[i] += share * ((1.0 - odd[i]) * even)
        return
    for i in range(len(evens)):
        x, moved = float(line[i]), lean[i]
        even = EVEN_SHARE * (math.sqrt(1.0 + x * x) - 1.0)
        still = math.sqrt(1.0 + moved * moved)
        right = (moved + x) / math.sqrt(1.0 + (moved + x) * (moved + x))
        left = (moved - x) / math.sqrt(1.0 + (moved - x) * (moved - x))
        leaning = (0.5 * (right + left) - moved / still) * (still * still * still)
        evens[i] += share * ((1.0 - odd[i]) * even - odd[i] * leaning)


@as_written
def _bend_rows(
    room: Line,
    tables: o.Tables,
    n: int,
    odd: Vector,
    lean: Vector,
    evens: Vector,
    lines: tuple[Line, Line, Line, Line, Line, Line, Line],
    work: tuple[Vector, Vector, Vector, Vector, Vector],
) -> None:
    """Leave in `o.taken` what a bend takes from `o.raised`; odd, lean: (n,).

    evens: (n,), filled with the mean over each frame of what is taken alike on both sides of 0.
    lines, work: room for n values each.
    """
    factor = tables[0]
    odds, even, ea, eb, steps, grown, logs = lines
    ma, mb, slope, offset, steep = work
    leaning = evenly = False
    for i in range(n):
        evens[i] = 0.0
        leaning |= lean[i] != 0.0
        evenly |= odd[i] != 1.0
    for i in range(n):
        # What leans is of its own form, and added.
        odds[i] = 0.0 if leaning else odd[i]
        even[i] = EVEN_SHARE * (1.0 - odd[i])
    before = o.raised(room, tables, -1, n)
    for i in range(n):
        square = before[i] * before[i]
        ea[i] = square / (ONE + math.sqrt(ONE + square))
    if leaning:
        _roots_into(ma[:n], before, lean)
        for i in range(n):
            still = math.sqrt(1.0 + lean[i] * lean[i])
            offset[i], steep[i] = lean[i] / still, still * still * still
    for p in range(factor):
        now, cut = o.raised(room, tables, p, n), o.taken(room, tables, p, n)
        if leaning and not evenly:
            for i in range(n):
                cut[i] = 0.0
        elif evenly:
            _both_into(cut, before, now, ea, eb, odds, even, steps)
            if greatest(steps[:n]) >= NEAR:
                _wide_onto(cut, before, now, ea, eb, even, steps, grown, logs)
        else:
            _straight_into(cut, before, now, ea, eb, odds)
        if leaning:
            _roots_into(mb[:n], now, lean)
            _slopes_into(slope[:n], before, now, ma, mb, lean)
            _leaning_onto(cut, before, now, slope, odd, offset, steep)
        if p % EVERY == 0:
            if leaning:
                _evens_onto(evens, now, odd, lean, leaning, EVERY / factor)
            elif evenly:
                for i in range(n):
                    evens[i] += EVERY / factor * (even[i] * eb[i])
        before, ea, eb, ma, mb = now, eb, ea, mb, ma


@inlined
def _bend_line(cut: Vector, line: Vector, odd: Vector, lean: Vector, evens: Vector) -> None:
    """Fill cut with what a bend takes from the values of a line themselves, evens as before."""
    for i in range(len(line)):
        cut[i] = bend(line[i], odd[i], lean[i])
        evens[i] = 0.0
    _evens_onto(evens, line, odd, lean, True, 1.0)


@kernel
def bend_block(
    sound: Sound,
    start: int,
    odd: Vector,
    d_odd: Vector,
    lean: Vector,
    d_lean: Vector,
    factor: int,
    stages: o.Ints,
    pairs: o.Ints,
    places: o.Ints,
    weights: Line,
    was: Vector,
    frames: Sound,
    past: Sound,
    last: Sound,
) -> tuple[Sound, Sound]:
    """Return what is taken from a block (frames, channels), o.LATENCY frames late, and what of it
    is taken alike on both sides of 0, o.UP frames late: an offset and even harmonics.

    odd, lean and their steps: per grid point; start: timeline frame; the others: `o.given`.
    """
    tables, memory = (factor, stages, pairs, places, weights), (was, frames, past, last)
    out, evens, room = np.empty_like(sound), np.empty_like(sound), o.room_for(tables)
    even, odds, leans = np.empty(o.CHUNK), np.empty(o.CHUNK), np.empty(o.CHUNK)
    # Rows of one array would be looked at for what overlaps.
    work = (
        np.empty(o.CHUNK),
        np.empty(o.CHUNK),
        np.empty(o.CHUNK),
        np.empty(o.CHUNK),
        np.empty(o.CHUNK),
    )
    lines = (
        np.empty(o.CHUNK, np.float32),
        np.empty(o.CHUNK, np.float32),
        np.empty(o.CHUNK, np.float32),
        np.empty(o.CHUNK, np.float32),
        np.empty(o.CHUNK, np.float32),
        np.empty(o.CHUNK, np.float32),
        np.empty(o.CHUNK, np.float32),
    )
    cut = np.empty(o.CHUNK)
    for at in range(0, len(sound), o.CHUNK):
        block = sound[at : at + o.CHUNK]
        n, k = len(block), (start % GRID + at) // GRID
        along_into(odds[:n], odd[k:], d_odd[k:], start + at)
        along_into(leans[:n], lean[k:], d_lean[k:], start + at)
        for lane in range(sound.shape[1]):
            ours, own = out[at:], evens[at:]
            if factor == 1:
                line = o.held(block, lane, memory)
                _bend_line(cut[:n], line, odds[:n], leans[:n], even[:n])
                line = o.late(cut[:n], lane, memory)
                for i in range(n):
                    ours[i, lane] = line[i]
            else:
                o.rise(room, block, lane, tables, memory)
                _bend_rows(room, tables, n, odds[:n], leans[:n], even[:n], lines, work)
                fallen = o.fall(room, n, lane, tables, memory)
                for i in range(n):
                    ours[i, lane] = fallen[i]
            for i in range(n):
                own[i, lane] = even[i]
    return out, evens


@inlined
def _twice_into(lines: Sound, n: int, rate: float, memory: Sound, at: int) -> None:
    """Run two poles each over two lines, beside each other: in a form in which one value waits for
    one product. memory: (channels, sections, 4), of whose last rows two columns from `at` on."""
    last, other = memory.shape[1] - 1, len(memory) - 1
    a, c = memory[0, last, at], memory[0, last, at + 1]
    b, d = memory[other, last, at], memory[other, last, at + 1]
    stays = 1.0 - rate
    for i in range(n):
        a, b = stays * a + rate * lines[0, i], stays * b + rate * lines[1, i]
        c, d = stays * c + rate * a, stays * d + rate * b
        lines[0, i], lines[1, i] = c, d
    memory[other, last, at], memory[other, last, at + 1] = _kept(b), _kept(d)
    memory[0, last, at], memory[0, last, at + 1] = _kept(a), _kept(c)


@inlined
def _kept(value: float) -> float:
    return value if abs(value) > TINY else 0.0


@inlined
def _offsets_into(
    means: Sound,
    lines: Sound,
    n: int,
    odd: Vector,
    lean: Vector,
    rates: tuple[float, float],
    all_passes: Vector,
    memory: Sound,
    work: tuple[Sound, Sound],
) -> None:
    """Fill means (2, n) with what an even part of these lines comes to beside its harmonics.

    Its mean over a wave of a line's envelope, by the points of PHASES; the envelope and the mean
    behind two poles each, of `rates`. Of the envelope, so that no harmonic is there to be folded
    back. memory: (channels, quadrature.SECTIONS + 2, 4), changed.
    """
    one, other = work
    for lane in range(2):
        # One channel is done twice: beside each other that costs nothing.
        if lane < len(memory):
            waves = memory[lane]
            quarters_into(one[lane, :n], other[lane, :n], lines[lane, :n], all_passes, waves[:-1])
            for i in range(n):
                means[lane, i] = one[lane, i] * one[lane, i] + other[lane, i] * other[lane, i]
        else:
            copy_into(means[lane, :n], means[0, :n])
    _twice_into(means, n, rates[0], memory, 0)
    leaning = greatest(lean) > 0.0
    for lane in range(2):
        for i in range(n):
            height = math.sqrt(means[lane, i])
            one[lane, i], other[lane, i] = PHASES[0] * height, PHASES[1] * height
            means[lane, i] = 0.0
        _evens_onto(means[lane, :n], one[lane], odd, lean, leaning, 0.5)
        _evens_onto(means[lane, :n], other[lane], odd, lean, leaning, 0.5)
    _twice_into(means, n, rates[1], memory, 2)


@kernel
def take_offset(
    cut: Sound,
    evens: Sound,
    sound: Sound,
    start: int,
    odd: Vector,
    d_odd: Vector,
    lean: Vector,
    d_lean: Vector,
    rates: tuple[float, float],
    all_passes: Vector,
    rest: Vector,
    waves: Sound,
    heard: Sound,
    late_evens: Sound,
    late_offset: Sound,
) -> None:
    """Take out of cut (frames, channels) the offset of its even part.

    evens and sound, the latter as it is bent, are earlier than cut, by the lengths of late_evens
    and, with what `rates` let it lag, of late_offset; both (frames, channels). The offset follows
    the envelope; what is left of it goes by the high pass `rest`. odd, lean and their steps: per
    grid point. heard: (channels, 2), waves: (channels, quadrature.SECTIONS + 2, 4); changed, like
    what is late.
    """
    waits, channels = (len(late_evens), len(late_offset)), sound.shape[1]
    even, offset = np.empty((2, waits[0] + o.CHUNK)), np.empty((2, waits[1] + o.CHUNK))
    lines, means, work = (
        np.empty((2, GRID)),
        np.empty((2, GRID)),
        (np.empty((2, GRID)), np.empty((2, GRID))),
    )
    odds, leans = np.empty(GRID), np.empty(GRID)
    b0, b1, b2, a1, a2 = rest
    for lane in range(2):
        side = min(lane, channels - 1)
        for i in range(waits[0]):
            even[lane, i] = late_evens[i, side]
        for i in range(waits[1]):
            offset[lane, i] = late_offset[i, side]
    for first in range(0, len(sound), o.CHUNK):
        count, before = min(o.CHUNK, len(sound) - first), (start % GRID + first) // GRID
        for at, n, cell, inside in grid_cells(start + first, count):
            k, bent_evenly, begin = before + cell, False, waits[1] + at
            for i in range(n):
                odds[i] = odd[k] + d_odd[k] * (inside + i)
                leans[i] = lean[k] + d_lean[k] * (inside + i)
                bent_evenly |= odds[i] != 1.0 or leans[i] != 0.0
            if not bent_evenly:
                waves[:] = 0.0
                means[:] = 0.0
            else:
                for lane in range(channels):
                    for i in range(n):
                        lines[lane, i] = sound[first + at + i, lane]
                _offsets_into(means, lines, n, odds[:n], leans[:n], rates, all_passes, waves, work)
            for lane in range(2):
                for i in range(n):
                    offset[lane, begin + i] = means[lane, i]
        for lane in range(channels):
            for i in range(count):
                even[lane, waits[0] + i] = evens[first + i, lane]
        # Both channels beside each other: neither waits for the other.
        last = channels - 1
        x1, x2, y1, y2 = heard[0, 0], heard[0, 1], heard[last, 0], heard[last, 1]
        c1, c2 = b1 - a1 * b0, b2 - a2 * b0
        for i in range(count):
            x, y = even[0, i] - offset[0, i], even[last, i] - offset[last, i]
            cut[first + i, 0] += (b0 * x + x1) - even[0, i]
            if last:
                cut[first + i, 1] += (b0 * y + y1) - even[1, i]
            x1, x2 = (c1 * x + x2) - a1 * x1, c2 * x - a2 * x1
            y1, y2 = (c1 * y + y2) - a1 * y1, c2 * y - a2 * y1
        heard[last, 0], heard[last, 1] = _kept(y1), _kept(y2)
        heard[0, 0], heard[0, 1] = _kept(x1), _kept(x2)
        for lane in range(2):
            for i in range(waits[0]):
                even[lane, i] = even[lane, count + i]
            for i in range(waits[1]):
                offset[lane, i] = offset[lane, count + i]
    for lane in range(channels):
        for i in range(waits[0]):
            late_evens[i, lane] = even[lane, i]
        for i in range(waits[1]):
            late_offset[i, lane] = offset[lane, i]


@kernel
def match_into(
    gains: Sound,
    before: Sound,
    after: Sound,
    start: int,
    link: Vector,
    share: Vector,
    d_share: Vector,
    rate: float,
    most_db: float,
    powers: Sound,
    match: Sound,
) -> None:
    """Fill gains (frames, channels) in dB that bring the power after to the power before.

    before, after: (frames, channels), K-weighted. link, share, d_share: per grid point; start:
    timeline frame of the first row. powers: (2, channels), the mean squares, moved on by `rate` a
    frame. match: (2, channels), the gain in force and the one it moves to, which stands still while
    there is nothing to hear.
    """
    frames, channels = before.shape
    for at, n, k, offset in grid_cells(start, frames):
        for i in range(at, at + n):
            both_in = both_out = 0.0
            for channel in range(channels):
                x, y = before[i, channel], after[i, channel]
                powers[0, channel] += rate * (x * x - powers[0, channel])
                powers[1, channel] += rate * (y * y - powers[1, channel])
                both_in += powers[0, channel]
                both_out += powers[1, channel]
            if offset + i - at == GRID - 1:
                for channel in range(channels):
                    a = powers[0, channel] + link[k] * (both_in / channels - powers[0, channel])
                    b = powers[1, channel] + link[k] * (both_out / channels - powers[1, channel])
                    if a > 1e-7 and b > 1e-9:
                        wanted = 10.0 * math.log10(a / b)
                        match[1, channel] = min(max(wanted, -most_db), most_db)
            amount = share[k] + d_share[k] * (offset + i - at)
            for channel in range(channels):
                match[0, channel] += 4.0 * rate * (match[1, channel] - match[0, channel])
                gains[i, channel] = amount * match[0, channel]
