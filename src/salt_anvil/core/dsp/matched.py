"""Second-order filters that follow their analogue prototype up to 20 kHz.

The bilinear transform squeezes what lies between 0 Hz and infinity below half the rate. Here the
poles are those of the prototype sampled (impulse invariance), and the zeros follow from the squared
magnitude, which is a quotient of two parabolas in x = sin(w / 2)^2: three numbers, one of them
given by the gain at 0 Hz, the others fitted to the prototype, as Vicanek ("Matched second order
digital filters", 2016, from memory) finds them from one point each. Where zeros are given
(high-pass, notch), it is the poles that are fitted.
"""

import math

import numpy as np

from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp.control_ramp import Vector

EVEN = 12
"""Points between 0 Hz and the edge, evenly."""
AROUND = np.array([0.25, 0.5, 0.7, 0.85, 1.0, 1.2, 1.5, 2.0, 4.0])
"""Points around the corner, in corners."""
POINTS = EVEN + len(AROUND)
ROUNDS = 2
"""How often what is furthest off gets more weight (Lawson's way to the least of the worst)."""
CLEAR = 0.02
"""Points so near to a notch, in corners, do not count."""
STEPS = 8
"""In which a fit is drawn towards roots that were sampled, until it has roots that a filter can
have: of steep shelves near half the rate."""
LEAST_TOP, LEAST_DAMPING = 0.01, 0.25
"""What such roots keep at least of the sampled ones: value at half the rate, damping."""


@kernel
def sampled_poles(corner: float, damping: float, found: Vector) -> None:
    """Fill found (3,) with the parabola in x of |denominator|^2 of s^2 + damping s + 1, sampled.

    corner: in radians a frame.
    """
    half = 0.5 * damping
    if half < 1.0:
        a1 = -2.0 * math.exp(-half * corner) * math.cos(math.sqrt(1.0 - half * half) * corner)
    else:
        apart = math.sqrt(half * half - 1.0)
        a1 = -math.exp(-(half - apart) * corner) - math.exp(-(half + apart) * corner)
    a2 = math.exp(-damping * corner)
    total = 1.0 + a1 + a2
    found[0], found[1], found[2] = total * total, -4.0 * a1 * (1.0 + a2) - 16.0 * a2, 16.0 * a2


@kernel
def _fit(x: Vector, goal: Vector, n: int, weight: Vector, free: bool, p: Vector) -> None:
    """Fit p[0] + p[1] x + p[2] x^2 to a goal over 0, by the ratio; p[0] is given unless free.

    goal is left turned round, weight as it came out.
    """
    for i in range(n):
        weight[i], goal[i] = 1.0, 1.0 / goal[i]
    share = 1.0 / n
    for _ in range(ROUNDS):
        s00 = s01 = s02 = s11 = s12 = s22 = r0 = r1 = r2 = 0.0
        for i in range(n):
            one = goal[i]
            a, b = x[i] * one, x[i] * x[i] * one
            w, rest = weight[i], 1.0 if free else 1.0 - p[0] * one
            s00, s01, s02 = s00 + w * one * one, s01 + w * one * a, s02 + w * one * b
            s11, s12, s22 = s11 + w * a * a, s12 + w * a * b, s22 + w * b * b
            r0, r1, r2 = r0 + w * one * rest, r1 + w * a * rest, r2 + w * b * rest
        if free:
            # The first unknown taken out, then as below.
            s11, s12, s22 = s11 - s01 * s01 / s00, s12 - s01 * s02 / s00, s22 - s02 * s02 / s00
            r1, r2 = r1 - s01 * r0 / s00, r2 - s02 * r0 / s00
        under = s11 * s22 - s12 * s12
        p[1], p[2] = (r1 * s22 - r2 * s12) / under, (r2 * s11 - r1 * s12) / under
        if free:
            p[0] = (r0 - s01 * p[1] - s02 * p[2]) / s00
        mean = 0.0
        for i in range(n):
            mean += share * abs((p[0] + x[i] * (p[1] + x[i] * p[2])) * goal[i] - 1.0)
        if mean < 1e-9:
            return
        for i in range(n):
            off = abs((p[0] + x[i] * (p[1] + x[i] * p[2])) * goal[i] - 1.0)
            weight[i] *= off / mean + 0.05


@inlined
def _damping(p: Vector) -> float:
    """Return the damping that the roots of a parabola have, 0 where no filter has such roots."""
    top = p[0] + p[1] + p[2]
    if not (p[0] > 0.0 and top > 0.0):
        return 0.0
    return math.sqrt(max(2.0 + (p[1] + 2.0 * p[0]) / math.sqrt(p[0] * top), 0.0))


@kernel
def _keep_stable(p: Vector, corner: float, damping: float, value: float) -> None:
    """Draw a fitted parabola towards that of sampled roots, which is `value` at 0 Hz."""
    safe, fitted = np.empty(3), p.copy()
    sampled_poles(corner, damping, safe)
    safe *= value / safe[0]
    top = LEAST_TOP * (safe[0] + safe[1] + safe[2])
    least = LEAST_DAMPING * _damping(safe)
    for step in range(STEPS + 1):
        share = step / STEPS
        for i in range(3):
            p[i] = fitted[i] + share * (safe[i] - fitted[i])
        if p[0] + p[1] + p[2] >= top and _damping(p) >= least:
            return


@kernel
def _squares(num: Vector, den: Vector, at: float) -> float:
    """Return |num / den|^2 at j * at; num, den: coefficients of s^2, s, 1."""
    square = at * at
    a, b = num[2] - num[0] * square, num[1] * num[1] * square
    c, d = den[2] - den[0] * square, den[1] * den[1] * square
    return float((a * a + b) / (c * c + d))


@kernel
def matched(
    num: Vector, den: Vector, zeros: int, corner: float, edge: float, found: Vector
) -> None:
    """Fill found with g, k and the numerator n0 + n1 s + n2 s^2 over s^2 + k s + 1 of a section.

    num, den: of the prototype, coefficients of s^2, s, 1, s in corners. corner: in radians a frame,
    below pi. zeros: 0 where the zeros are fitted, 1 for a notch, 2 for a high-pass. edge: up to
    which it is fitted, in radians a frame.
    """
    x, goal, weight = np.empty(POINTS), np.empty(POINTS), np.empty(POINTS)
    c, d = np.zeros(3), np.zeros(3)
    middle = math.sin(0.5 * corner)
    middle *= middle
    if zeros == 0:
        lower = math.sqrt(den[2] / den[0])
        sampled_poles(corner * lower, den[1] / (den[0] * lower), d)
        c[0] = d[0] * (num[2] / den[2]) ** 2
    elif zeros == 1:
        c[0], c[1], c[2] = 1.0, -2.0 / middle, 1.0 / (middle * middle)
        d[0] = 1.0
    else:
        c[2] = 1.0
    n = 0
    for i in range(POINTS):
        w = edge * (i + 1) / EVEN if i < EVEN else corner * AROUND[i - EVEN]
        if w > edge or (zeros == 1 and abs(w / corner - 1.0) < CLEAR):
            continue
        half = math.sin(0.5 * w)
        x[n] = half * half
        squares = _squares(num, den, w / corner)
        if zeros == 0:
            goal[n] = squares * (d[0] + x[n] * (d[1] + x[n] * d[2]))
        else:
            goal[n] = (c[0] + x[n] * (c[1] + x[n] * c[2])) / squares
        n += 1
    _fit(x, goal, n, weight, zeros == 2, c if zeros == 0 else d)
    if zeros > 0:
        _keep_stable(d, corner, den[1], d[0] if zeros == 1 else corner**4 / 16.0)
    elif num[0] > 0.0 and num[2] > 0.0:
        upper = math.sqrt(num[2] / num[0])
        _keep_stable(c, corner * upper, num[1] / (num[0] * upper), c[0])
    top, floor = max(c[0] + c[1] + c[2], 0.0), d[0] + d[1] + d[2]
    square = math.sqrt(d[0] / floor)
    n0, n2 = math.sqrt(c[0] / d[0]), square * math.sqrt(top / d[0])
    if zeros == 1:
        # On the axis, so that what is cut out is cut out whole.
        n1 = 0.0
    else:
        n1 = math.sqrt(max(2.0 * n0 * n2 + square * (c[1] / d[0] + 2.0 * n0 * n0), 0.0))
    found[0] = math.sqrt(square)
    found[1] = math.sqrt(max(2.0 + square * (d[1] / d[0] + 2.0), 0.0))
    found[2], found[3], found[4] = n0, n1, n2
