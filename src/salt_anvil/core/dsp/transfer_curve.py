"""A drawn curve of level in against level out, in front of the compressor's detectors.

The change of gain is tabulated every tenth of a dB and split into what rises and what falls with
the level. Each part is smoothed by itself, so that louder is always attack and quieter always
release: a falling part behaves like the compressor, a rising one like the expander.
"""

from functools import lru_cache

import numpy as np

from salt_anvil.core.audio import GRID, TINY, Sound
from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp import dynamics as d
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.grid import grid_cells

LOWEST_DB, HIGHEST_DB = -100.0, 20.0
STEPS_PER_DB = 10
ROWS = round((HIGHEST_DB - LOWEST_DB) * STEPS_PER_DB) + 1
MOST_DB = 100.0
# Columns of the control vector behind dynamics': the change at the lowest level, then the tables.
BASE = d.CONTROLS
RISES = BASE + 1
FALLS = RISES + ROWS
CONTROLS = FALLS + ROWS

# Rows of the state, one column a channel: both parts and what they hold, the level that was heard,
# the mean square.
UP, UP_HELD, DOWN, DOWN_HELD, HEARD, POWER = range(6)
STATES = 6

Points = tuple[tuple[float, float], ...]


def monotone_slopes(x: Vector, y: Vector) -> Vector:
    """Return the slopes at three points or more of a cubic that rises only where these do.

    Of the slopes on both sides the harmonic mean, weighted by their widths, 0 at a turn; at an end
    that of the parabola through three points, held to its side (Fritsch and Butland 1984, from
    memory). scipy's would take half a second of every process to import.
    """
    wide, steep = np.diff(x), np.diff(y) / np.diff(x)
    before, behind = steep[:-1], steep[1:]
    near, far = wide[:-1] + 2 * wide[1:], 2 * wide[:-1] + wide[1:]
    with np.errstate(divide="ignore", invalid="ignore"):
        inner = (near + far) / (near / before + far / behind)
    inner[before * behind <= 0] = 0.0

    def end(w: Vector, s: Vector) -> float:
        found = ((2 * w[0] + w[1]) * s[0] - w[0] * s[1]) / (w[0] + w[1])
        if found * s[0] <= 0:
            return 0.0
        return float(3 * s[0] if s[0] * s[1] < 0 and abs(found) > 3 * abs(s[0]) else found)

    return np.array([end(wide[:2], steep[:2]), *inner, end(wide[:-3:-1], steep[:-3:-1])])


def _hermite(x: Vector, y: Vector, slopes: Vector, at: Vector) -> Vector:
    """Return the values between its points of a cubic with these slopes."""
    k = np.clip(np.searchsorted(x, at, side="right") - 1, 0, len(x) - 2)
    wide = x[k + 1] - x[k]
    steep = (y[k + 1] - y[k]) / wide
    cubic = (slopes[k] + slopes[k + 1] - 2 * steep) / wide
    square, on = (steep - slopes[k]) / wide - cubic, at - x[k]
    return np.asarray(y[k] + on * (slopes[k] + on * (square + on * (cubic / wide))))


@lru_cache(maxsize=64)
def tabulate(points: Points, smooth: bool) -> tuple[Vector, Vector]:
    """Return the tabulated input levels and outputs of a curve, both (ROWS,), in dB.

    Straight lines, or a monotone cubic (Fritsch and Carlson 1980) with smooth. Beyond its ends
    the curve goes on straight; nothing is changed by more than MOST_DB.
    """
    x, y = np.array(points).T
    levels = np.round(np.linspace(LOWEST_DB, HIGHEST_DB, ROWS), 1)
    if smooth and len(x) > 2:
        leaning = monotone_slopes(x, y)
        inside = _hermite(x, y, leaning, np.clip(levels, x[0], x[-1]))
        low, high = leaning[0], leaning[-1]
    else:
        inside = np.interp(levels, x, y)
        slopes = np.diff(y) / np.diff(x)
        low, high = slopes[0], slopes[-1]
    outside = low * np.minimum(levels - x[0], 0) + high * np.maximum(levels - x[-1], 0)
    change = np.clip(inside + outside - levels, -MOST_DB, MOST_DB)
    return levels, levels + change


@lru_cache(maxsize=64)
def columns(points: Points, smooth: bool) -> Vector:
    """Return BASE, RISES and FALLS of the control vector."""
    levels, out = tabulate(points, smooth)
    change = out - levels
    steps = np.diff(change, prepend=change[0])
    rises, falls = np.cumsum(np.maximum(steps, 0)), np.cumsum(np.maximum(-steps, 0))
    return np.concatenate([change[:1], rises, falls])


@inlined
def _drift(step: Vector, table: int, level: float) -> float:
    """Return how fast a table moves at a level, per frame."""
    place = min(max((level - LOWEST_DB) * STEPS_PER_DB, 0.0), ROWS - 1.000001)
    row = int(place)
    low, high = step[table + row], step[table + row + 1]
    return float(low + (place - row) * (high - low))


@inlined
def _wanted_into(rises: Vector, falls: Vector, level: Vector, n: int, v: Vector) -> None:
    """Fill rises and falls with what both tables ask for at so many levels."""
    up, down = v[RISES : RISES + ROWS], v[FALLS : FALLS + ROWS]
    for i in range(n):
        place = min(max((level[i] - LOWEST_DB) * STEPS_PER_DB, 0.0), ROWS - 1.000001)
        row = np.uint64(place)
        share = place - np.float64(row)
        rises[i] = (1.0 - share) * up[row] + share * up[row + np.uint64(1)]
        falls[i] = (1.0 - share) * down[row] + share * down[row + np.uint64(1)]


@kernel
def curve_into(
    change: Sound,
    heard: Sound,
    key: Sound,
    start: int,
    value: Vector,
    step: Vector,
    detector: int,
    moving: bool,
    state: Sound,
) -> None:
    """Fill change (frames, channels) with the smoothed change of gain in dB that the key asks for.

    heard: (frames, channels), filled with the detector's level in dB. key: (frames, channels), 1 or
    2 channels. start: timeline frame of key[0]. value, step: (grid points, CONTROLS or more).
    moving: the curve moves somewhere; it has so many points that they are looked through once for
    all. state: (STATES, channels), changed. Decoupled ballistics as in the compressor. What is held
    and smoothed goes along with a curve that is moved (at the level that was HEARD), so that a
    moved point acts at once and not with the release.
    """
    frames, channels = key.shape
    levels = np.empty((2, GRID))
    exponent, rises, falls = np.empty(GRID), np.empty(GRID), np.empty(GRID)
    for at, n, k, offset in grid_cells(start, frames):
        heard_here = heard[at : at + n]
        change_here = change[at : at + n]
        key_here = key[at : at + n]
        v, s = value[k], step[k]
        for channel in range(channels):
            state[POWER, channel] = d.heard_into(
                levels[channel], key_here, channel, n, detector, v, s, offset, state[POWER, channel]
            )
        alike = d.linked_levels(levels, exponent, channels, n, detector, v, s, offset)
        alike = alike and d.equal_lanes(state, POWER)
        for channel in range(1 if alike else channels):
            up, up_held = state[UP, channel], state[UP_HELD, channel]
            down, down_held, was = (
                state[DOWN, channel],
                state[DOWN_HELD, channel],
                state[HEARD, channel],
            )
            own = levels[channel]
            _wanted_into(rises, falls, own, n, v)
            # Read once: for all that the compiler knows, what is written may be the controls.
            attack0, d_attack = v[d.ATTACK], s[d.ATTACK]
            release0, d_release, base, d_base = v[d.RELEASE], s[d.RELEASE], v[BASE], s[BASE]
            for i in range(n):
                j = offset + i
                level, rise, fall = own[i], rises[i], falls[i]
                heard_here[i, channel] = level
                attack, release = attack0 + d_attack * j, release0 + d_release * j
                if moving:
                    rise += j * _drift(s, RISES, level)
                    fall += j * _drift(s, FALLS, level)
                    up += _drift(s, RISES, was)
                    up_held += _drift(s, RISES, was)
                    down += _drift(s, FALLS, was)
                    down_held += _drift(s, FALLS, was)
                bounded = max(level, LOWEST_DB)
                was = bounded if bounded > was else was + release * (bounded - was)
                up_held = rise if rise >= up_held else up_held + release * (rise - up_held)
                down_held = fall if fall >= down_held else down_held + release * (fall - down_held)
                up += attack * (up_held - up)
                down += attack * (down_held - down)
                change_here[i, channel] = base + d_base * j + up - down
            state[UP, channel], state[UP_HELD, channel] = up, up_held
            state[DOWN, channel], state[DOWN_HELD, channel], state[HEARD, channel] = (
                down,
                down_held,
                was,
            )
        if alike:
            for row in range(STATES):
                if row != POWER:
                    state[row, 1] = state[row, 0]
            for i in range(n):
                change_here[i, 1], heard_here[i, 1] = change_here[i, 0], heard_here[i, 0]
    for row in (UP, UP_HELD, DOWN, DOWN_HELD):
        for channel in range(channels):
            if abs(state[row, channel]) < TINY:
                state[row, channel] = 0.0
