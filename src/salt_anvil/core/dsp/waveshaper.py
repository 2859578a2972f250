"""Saturation: an odd and an even bend with closed antiderivatives, blended.

Odd: x / sqrt(1 + x^2). Even: x - (sqrt(1 + x^2) - 1), whose bend is an even function, so that it
adds even harmonics alone. Both have slope 1 at 0; formulas of our own.
"""

import math

import numpy as np
from numba import njit

from salt_anvil.core.audio import GRID, TINY, Sound
from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp.control_ramp import Vector, along_into
from salt_anvil.core.dsp.grid import grid_cells
from salt_anvil.core.dsp.maxima import greatest
from salt_anvil.core.dsp.quadrature import quarters_into

EVERY = 4
"""Of so many values between the frames one tells the offset."""
EVEN_SHARE = 0.5
"""Share of the even bend, so that its slope stays between 1/2 and 3/2."""
PHASES = (math.cos(math.pi / 8), math.cos(3 * math.pi / 8))
"""Points of a wave of height 1 that tell the mean of an even bend within 2 % (Gauss, Chebyshev)."""
NEAR = 0.5
"""Steps below it take a polynomial for asinh(x) / x."""
ASINH = tuple(
    np.polynomial.Chebyshev.interpolate(
        lambda square: np.arcsinh(np.sqrt(square)) / np.sqrt(square), 9, (0, NEAR**2)
    )
    .convert(kind=np.polynomial.Polynomial)
    .coef.tolist()
)
"""asinh(x) / x as a polynomial of x^2, within 1e-12 up to NEAR."""
HALF_ROOT = int(np.array(math.sqrt(0.5)).view(np.int64))
MANTISSA = (1 << 52) - 1
LN2_HIGH, LN2_LOW = 0.693147180369123816490, 1.90821492927058770002e-10
"""ln 2 in two parts, the first of which has zeros at its end."""
ARTANH = tuple(1.0 / (2.0 * n + 1.0) for n in range(10))
"""artanh(x) / x as a series of x^2; the rest is under 1e-16 up to 0.0295."""


@njit(cache=True, nogil=True, error_model="numpy", inline="always", fastmath={"contract"})
def _power_series(x: float, c: tuple[float, ...]) -> float:
    """Return a polynomial of ten powers, in pairs, so that few products wait for another."""
    square = x * x
    low = (c[2] + c[3] * x) * square + (c[0] + c[1] * x)
    high = (c[6] + c[7] * x) * square + (c[4] + c[5] * x)
    fourth = square * square
    return ((c[8] + c[9] * x) * fourth + high) * fourth + low


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


@inlined
def _log_into(out: Vector, values: Vector) -> None:
    """Fill out with the logarithms of values over 0, without branches, so that many go at once.

    value = 2^e m, m around 1; ln m = 2 artanh s, s = (m - 1) / (m + 1), by its series.
    """
    work = np.empty(len(out), np.int64)
    bits, mantissas = values.view(np.int64), work.view(np.float64)
    for i in range(len(out)):
        moved = bits[i] - HALF_ROOT
        out[i] = float(moved >> 52)
        work[i] = (moved & MANTISSA) + HALF_ROOT
    for i in range(len(out)):
        m, e = mantissas[i], out[i]
        s = (m - 1.0) / (m + 1.0)
        out[i] = e * LN2_HIGH + (2.0 * s * _power_series(s * s, ARTANH) + e * LN2_LOW)


@inlined
def _roots_into(roots: Vector, line: Vector, lean: Vector) -> None:
    for i in range(len(roots)):
        moved = line[i] + lean[i]
        roots[i] = math.sqrt(1.0 + moved * moved)


@inlined
def _slopes_into(
    slopes: Vector, a: Vector, b: Vector, ra: Vector, rb: Vector, lean: Vector
) -> None:
    """Fill slopes with (rb - ra) / (b - a) = (a + b) / (ra + rb); no step is too small for it."""
    for i in range(len(slopes)):
        slopes[i] = ((a[i] + lean[i]) + (b[i] + lean[i])) / (ra[i] + rb[i])


@inlined
def _odd_into(
    cut: Vector, a: Vector, b: Vector, slope: Vector, odd: Vector, offset: Vector, steep: Vector
) -> None:
    """Fill cut with the mean of what the odd bend, whose integral is the root, takes from a to b.

    slope: of the root; offset, steep: what the lean takes from it and makes good.
    """
    for i in range(len(cut)):
        shifted = (slope[i] - offset[i]) * steep[i]
        cut[i] = odd[i] * (0.5 * (a[i] + b[i]) - shifted)


@inlined
def _even(r: float, share: float, turned: float) -> float:
    """Return the mean of what the even bend takes from a to b.

    The integral of the root is (x root + asinh x) / 2. Both halves' differences are written by
    sums: (b rb - a ra) / (b - a) = (R + s^2 / R) / 2 with s = a + b and R = ra + rb, and the asinh
    moves on by that of the step b ra - a rb = (b - a) (R - s^2 / R) / 2. r: R; share: s^2 / R;
    turned: asinh of the step over the step.
    """
    return EVEN_SHARE * (0.25 * (r + share) + 0.25 * (r - share) * turned - 1.0)


@inlined
def _straight_into(cut: Vector, a: Vector, b: Vector, ra: Vector, rb: Vector, odd: Vector) -> None:
    """Fill rb with the roots of b, and cut with what the odd bend takes, all without a lean."""
    for i in range(len(cut)):
        root, s = math.sqrt(1.0 + b[i] * b[i]), a[i] + b[i]
        rb[i] = root
        cut[i] = odd[i] * (0.5 * s - s / (ra[i] + root))


@inlined
def _both_into(
    cut: Vector, a: Vector, b: Vector, ra: Vector, rb: Vector, odd: Vector, steps: Vector
) -> int:
    """Fill as `_straight_into` and `_even_onto` do, in one loop."""
    wide = 0
    for i in range(len(cut)):
        root, s = math.sqrt(1.0 + b[i] * b[i]), a[i] + b[i]
        rb[i] = root
        r = ra[i] + root
        slope = s / r
        share = s * slope
        step = abs((b[i] - a[i]) * (0.5 * (r - share)))
        steps[i] = step
        even = (1.0 - odd[i]) * _even(r, share, _power_series(step * step, ASINH))
        cut[i] = odd[i] * (0.5 * s - slope) + (even if step < NEAR else 0.0)
        wide += 1 if step >= NEAR else 0
    return wide


@inlined
def _even_onto(
    cut: Vector, a: Vector, b: Vector, ra: Vector, rb: Vector, odd: Vector, steps: Vector
) -> int:
    """Fill rb and steps, and add what the even bend takes to cut, but for wide steps; return how
    many these are."""
    wide = 0
    for i in range(len(cut)):
        root, s = math.sqrt(1.0 + b[i] * b[i]), a[i] + b[i]
        rb[i] = root
        r = ra[i] + root
        share = s * (s / r)
        step = abs((b[i] - a[i]) * (0.5 * (r - share)))
        steps[i] = step
        even = (1.0 - odd[i]) * _even(r, share, _power_series(step * step, ASINH))
        cut[i] += even if step < NEAR else 0.0
        wide += 1 if step >= NEAR else 0
    return wide


@inlined
def _wide_onto(
    cut: Vector, a: Vector, b: Vector, ra: Vector, rb: Vector, odd: Vector, steps: Vector
) -> None:
    """Add what `_even_onto` left out: where the step is wide, by the logarithm."""
    n = len(cut)
    grown, logs = np.empty(n), np.empty(n)
    for i in range(n):
        grown[i] = steps[i] + (ra[i] * rb[i] - a[i] * b[i])
    _log_into(logs, grown)
    for i in range(n):
        if steps[i] >= NEAR:
            r, s = ra[i] + rb[i], a[i] + b[i]
            share = s * (s / r)
            cut[i] += (1.0 - odd[i]) * _even(r, share, logs[i] / steps[i])


@inlined
def _evens_onto(
    evens: Vector, line: Vector, odd: Vector, lean: Vector, leaning: bool, share: float
) -> None:
    """Add a share of what is taken from a line alike on both sides of 0.

    leaning: whether any lean is other than 0; if not, the odd bend takes nothing of that kind.
    """
    if not leaning:
        for i in range(len(evens)):
            even = EVEN_SHARE * (math.sqrt(1.0 + line[i] * line[i]) - 1.0)
            evens[i] += share * ((1.0 - odd[i]) * even)
        return
    for i in range(len(evens)):
        x, moved = line[i], lean[i]
        even = EVEN_SHARE * (math.sqrt(1.0 + x * x) - 1.0)
        still = math.sqrt(1.0 + moved * moved)
        right = (moved + x) / math.sqrt(1.0 + (moved + x) * (moved + x))
        left = (moved - x) / math.sqrt(1.0 + (moved - x) * (moved - x))
        leaning = (0.5 * (right + left) - moved / still) * (still * still * still)
        evens[i] += share * ((1.0 - odd[i]) * even - odd[i] * leaning)


@inlined
def _bend_rows(
    room: Vector,
    tables: o.Tables,
    n: int,
    odd: Vector,
    lean: Vector,
    evens: Vector,
    work: tuple[Vector, Vector, Vector, Vector, Vector, Vector, Vector, Vector],
) -> None:
    """Leave in `o.taken` what a bend takes from `o.raised`; odd, lean: (n,).

    evens: (n,), filled with the mean over each frame of what is taken alike on both sides of 0.
    work: room for n values each.
    """
    factor = tables[0]
    for i in range(n):
        evens[i] = 0.0
    if factor == 1:
        line, cut = o.raised(room, tables, 0, n), o.taken(room, tables, 0, n)
        for i in range(n):
            cut[i] = bend(line[i], odd[i], lean[i])
        _evens_onto(evens, line, odd, lean, True, 1.0)
        return
    leaning = evenly = False
    for i in range(n):
        leaning |= lean[i] != 0.0
        evenly |= odd[i] != 1.0
    ra, rb, ma, mb, slope, steps, offset, steep = work
    before = o.raised(room, tables, -1, n)
    for i in range(n):
        ra[i] = math.sqrt(1.0 + before[i] * before[i])
    if leaning:
        _roots_into(ma[:n], before, lean)
        for i in range(n):
            still = math.sqrt(1.0 + lean[i] * lean[i])
            offset[i], steep[i] = lean[i] / still, still * still * still
    for p in range(factor):
        now, cut = o.raised(room, tables, p, n), o.taken(room, tables, p, n)
        wide = 0
        if leaning:
            _roots_into(mb[:n], now, lean)
            _slopes_into(slope[:n], before, now, ma, mb, lean)
            _odd_into(cut, before, now, slope, odd, offset, steep)
            if evenly:
                wide = _even_onto(cut, before, now, ra, rb, odd, steps)
        elif evenly:
            wide = _both_into(cut, before, now, ra, rb, odd, steps)
        else:
            _straight_into(cut, before, now, ra, rb, odd)
        if wide:
            _wide_onto(cut, before, now, ra, rb, odd, steps)
        if p % EVERY == 0 and (evenly or leaning):
            _evens_onto(evens, now, odd, lean, leaning, EVERY / factor)
        before, ra, rb, ma, mb = now, rb, ra, mb, ma


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
    weights: Sound,
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
    roots = np.empty(o.CHUNK), np.empty(o.CHUNK), np.empty(o.CHUNK), np.empty(o.CHUNK)
    steps = np.empty(o.CHUNK), np.empty(o.CHUNK), np.empty(o.CHUNK), np.empty(o.CHUNK)
    for at in range(0, len(sound), o.CHUNK):
        block = sound[at : at + o.CHUNK]
        n, k = len(block), (start % GRID + at) // GRID
        along_into(odds[:n], odd[k:], d_odd[k:], start + at)
        along_into(leans[:n], lean[k:], d_lean[k:], start + at)
        for lane in range(sound.shape[1]):
            o.rise(room, block, lane, tables, memory)
            _bend_rows(room, tables, n, odds[:n], leans[:n], even[:n], roots + steps)
            line = o.fall(room, n, lane, tables, memory)
            ours, own = out[at:], evens[at:]
            for i in range(n):
                ours[i, lane] = line[i]
            for i in range(n):
                own[i, lane] = even[i]
    return out, evens


@kernel
def offset_into(
    offset: Sound,
    sound: Sound,
    start: int,
    odd: Vector,
    d_odd: Vector,
    lean: Vector,
    d_lean: Vector,
    rates: tuple[float, float],
    all_passes: Vector,
    memory: Sound,
) -> None:
    """Fill offset (frames, channels) with what an even part comes to beside its harmonics.

    Its mean over a wave of the sound's envelope, by the points of PHASES; the envelope and
    the mean behind two poles each, of `rates`. Of the envelope, so that no harmonic is there to be
    folded back. odd, lean and their steps: per grid point. memory: (channels, quadrature.SECTIONS
    + 2, 4), changed.
    """
    odds, leans = np.empty(o.CHUNK), np.empty(o.CHUNK)
    line, one, other = np.empty(o.CHUNK), np.empty(o.CHUNK), np.empty(o.CHUNK)
    means = np.empty(o.CHUNK)
    for at in range(0, len(sound), o.CHUNK):
        n, k = min(o.CHUNK, len(sound) - at), (start % GRID + at) // GRID
        along_into(odds[:n], odd[k:], d_odd[k:], start + at)
        along_into(leans[:n], lean[k:], d_lean[k:], start + at)
        leaning = greatest(leans[:n]) > 0.0
        for lane in range(sound.shape[1]):
            given, ours = sound[at:], offset[at:]
            for i in range(n):
                line[i] = given[i, lane]
            quarters_into(one[:n], other[:n], line[:n], all_passes, memory[lane, :-1])
            means[:] = 0.0
            z = memory[lane, -1]
            # Not in the array, which may be what is written for all that the compiler knows.
            lag, second = z[0], z[1]
            for i in range(n):
                lag += rates[0] * (one[i] * one[i] + other[i] * other[i] - lag)
                second += rates[0] * (lag - second)
                line[i] = second
            z[0], z[1] = lag, second
            for i in range(n):
                height = math.sqrt(line[i])
                one[i], other[i] = PHASES[0] * height, PHASES[1] * height
            _evens_onto(means[:n], one[:n], odds[:n], leans[:n], leaning, 0.5)
            _evens_onto(means[:n], other[:n], odds[:n], leans[:n], leaning, 0.5)
            lag, second = z[2], z[3]
            for i in range(n):
                lag += rates[1] * (means[i] - lag)
                second += rates[1] * (lag - second)
                ours[i, lane] = second
            z[2], z[3] = lag, second
            for i in range(4):
                z[i] = z[i] if abs(z[i]) > TINY else 0.0


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
