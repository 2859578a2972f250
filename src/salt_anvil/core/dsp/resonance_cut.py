"""Bells that turn a place down as far as it stands over its flanks; and a gain that gives back.

Each place is heard through three band passes (state-variable, see `equaliser`): its own and one
at each flank. The excess, in dB, is the power of the place over the geometric mean of the flanks.
"""

import math
from functools import lru_cache

import numpy as np

from salt_anvil.core.audio import GRID, TINY, Sound
from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.decibel import DB_PER_OCTAVE, exp2_into
from salt_anvil.core.dsp.equaliser import BELL, BILINEAR, glide, section, stand
from salt_anvil.core.dsp.grid import grid_cells
from salt_anvil.core.dsp.line import copy_into

# Columns of one place in the control vector, then those of all places together.
WARPED, DAMPING, LOW, HIGH, SLOPE, CAP, ON, ATTACK, RELEASE, POWER = range(10)
COLUMNS = 10
AMOUNT, MOST, LINK, GIVEN, KNOWN = range(5)
COMMON = 5
NOW, NEXT = 0, 1
BANDS = 3
"""The place, and its two flanks."""
FOLLOW_S = 8.0
"""Over how long the loudness before and after is compared as long as it is not measured."""
IN, OUT, COUNT, SUM_IN, SUM_OUT, GAIN, GAIN_TO = range(7)
FOLLOWER = 7
SILENT = 1e-7
"""Mean square below which a cell says nothing of loudness (-70 LUFS); also a tenth of the mean."""


def bell_db(hz: Vector, middle: float, q: float, gain_db: float) -> Vector:
    """Return the response of a bell, as an analogue filter has it, in dB."""
    a = 10 ** (gain_db / 40)
    w = hz / middle
    flat = (1 - w * w) ** 2
    return np.asarray(10 * np.log10((flat + (w * a / q) ** 2) / (flat + (w / (a * q)) ** 2)))


def flank_octaves(q: float) -> float:
    """Return how far from a place its flanks are heard."""
    return max(0.35, 1.2 / q)


@lru_cache(maxsize=1024)
def expected_db(q: float, over_db: float) -> float:
    """Return what the detector reads where a bell of this Q and gain is in pink noise.

    The flanks catch the bell's skirts, so it reads less than the gain.
    """
    octaves = np.linspace(-6, 6, 1201)
    bell = 10 ** (bell_db(2.0**octaves, 1.0, q, over_db) / 10)
    away = flank_octaves(q)

    def heard(middle: float) -> float:
        x = 2.0 ** (octaves - middle)
        return float(np.trapezoid(bell / (1 + (q * (x - 1 / x)) ** 2), octaves))

    flanks = 0.5 * (math.log10(heard(-away)) + math.log10(heard(away)))
    return 10 * (math.log10(heard(0.0)) - flanks)


@inlined
def _pass(
    x: float, z1: float, z2: float, a1: float, a2: float, a3: float
) -> tuple[float, float, float]:
    """Return what a band pass lets through, before its damping, and its next state."""
    u = x - z2
    band = a1 * z1 + a2 * u
    return band, 2.0 * band - z1, 2.0 * (z2 + a2 * z1 + a3 * u) - z2


@inlined
def _weights(warped: float, damping: float) -> tuple[float, float, float]:
    g = math.exp(warped)
    a1 = 1.0 / (1.0 + g * (g + damping))
    return a1, g * a1, g * (g * a1)


@inlined
def _hear(line: Sound, n: int, v: Vector, powers: Vector, ears: Sound) -> None:
    """Move the mean squares of what the three band passes of a place let through on by n frames.

    powers: (BANDS,); ears: (BANDS, 2).
    """
    damping, rate = v[DAMPING], v[POWER]
    a1, a2, a3 = _weights(v[WARPED], damping)
    b1, b2, b3 = _weights(v[LOW], damping)
    c1, c2, c3 = _weights(v[HIGH], damping)
    p, q, r = powers
    y1, y2 = ears[0]
    z1, z2 = ears[1]
    w1, w2 = ears[2]
    # In one loop: none waits for another's last frame.
    for i in range(n):
        x = line[i]
        one, y1, y2 = _pass(x, y1, y2, a1, a2, a3)
        two, z1, z2 = _pass(x, z1, z2, b1, b2, b3)
        three, w1, w2 = _pass(x, w1, w2, c1, c2, c3)
        one, two, three = damping * one, damping * two, damping * three
        p += rate * (one * one - p)
        q += rate * (two * two - q)
        r += rate * (three * three - r)
    ears[0, 0], ears[0, 1], ears[1, 0] = y1, y2, z1
    ears[1, 1], ears[2, 0], ears[2, 1] = z2, w1, w2
    powers[0], powers[1], powers[2] = p, q, r
    for band in range(BANDS):
        powers[band] = powers[band] if powers[band] > TINY else 0.0
        for k in range(2):
            ears[band, k] = ears[band, k] if abs(ears[band, k]) > TINY else 0.0


@inlined
def _steps(v: Vector, common: Vector, powers: Sound, cuts: Sound, columns: int) -> None:
    """Move a place's cuts on by one cell: as far over its flanks as it is, and no further."""
    for column in range(columns):
        other = columns - 1 - column
        excess = -300.0
        linked = np.empty(BANDS)
        for band in range(BANDS):
            own, both = powers[band, column], 0.5 * (powers[band, column] + powers[band, other])
            linked[band] = own + common[LINK] * (both - own)
        if linked[0] > 1e-13:
            flanks = 5.0 * math.log10((linked[1] + 1e-20) * (linked[2] + 1e-20))
            excess = 10.0 * math.log10(linked[0]) - flanks
        wanted = common[AMOUNT] * min(max(v[SLOPE] * excess, 0.0), v[CAP])
        wanted = min(wanted, common[MOST]) * v[ON]
        now = cuts[NEXT, column]
        moved = now + (v[ATTACK] if wanted > now else v[RELEASE]) * (wanted - now)
        cuts[NOW, column] = now
        cuts[NEXT, column] = moved if moved > 1e-6 else 0.0


@kernel
def cut_into(
    out: Sound,
    taken: Sound,
    sound: Sound,
    key: Sound,
    start: int,
    value: Vector,
    step: Vector,
    sides: bool,
    memory: Sound,
    ears: Sound,
    powers: Sound,
    cuts: Sound,
) -> None:
    """Fill out (frames, columns) with the sound less what rings in it.

    taken: (places, frames), the greater cut of the columns in dB. key: what is listened to.
    start: timeline frame of sound[0]. value, step: (grid points, COMMON + places * COLUMNS).
    sides: works on middle and sides of two columns. memory: (places, columns, 2); ears: (places,
    BANDS, columns, 2); powers: (places, BANDS, columns); cuts: (places, 2, columns); all changed.
    A place that takes nothing is passed by, to the bit.
    """
    frames, columns = sound.shape
    lines, keys, before = np.empty((2, GRID)), np.empty((2, GRID)), np.empty((2, GRID))
    here, there = np.zeros(5), np.zeros(5)
    for at, n, point, offset in grid_cells(start, frames):
        sound_here = sound[at : at + n]
        key_here = key[at : at + n]
        out_here = out[at : at + n]
        for i in range(n):
            if sides:
                left, right = sound_here[i, 0], sound_here[i, 1]
                lines[0, i], lines[1, i] = 0.5 * (left + right), 0.5 * (left - right)
                left, right = key_here[i, 0], key_here[i, 1]
                keys[0, i], keys[1, i] = 0.5 * (left + right), 0.5 * (left - right)
            else:
                for column in range(columns):
                    lines[column, i], keys[column, i] = sound_here[i, column], key_here[i, column]
        for row in range(2):
            copy_into(before[row, :n], lines[row])
        common, common_step = value[point, :COMMON], step[point, :COMMON]
        for p in range(len(cuts)):
            first = COMMON + p * COLUMNS
            v, s = value[point, first : first + COLUMNS], step[point, first : first + COLUMNS]
            if v[ON] == 0.0 and s[ON] == 0.0:
                memory[p] = 0.0
                ears[p] = 0.0
                powers[p] = 0.0
                cuts[p] = 0.0
                continue
            if offset == 0:
                _steps(v, common + common_step * GRID, powers[p], cuts[p], columns)
            for column in range(columns):
                now, to = cuts[p, NOW, column], cuts[p, NEXT, column]
                if now == 0.0 and to == 0.0:
                    memory[p, column] = 0.0
                else:
                    g, k = math.exp(v[WARPED]), v[DAMPING]
                    g_to, k_to = math.exp(v[WARPED] + s[WARPED] * GRID), k + s[DAMPING] * GRID
                    section(BELL, g, k, -now, 1.0, False, BILINEAR, here)
                    section(BELL, g_to, k_to, -to, 1.0, False, BILINEAR, there)
                    line, mine = lines[column : column + 1, :n], memory[p, column : column + 1]
                    if now == to and s[WARPED] == 0.0 and s[DAMPING] == 0.0:
                        stand(line[0], here, mine[0])
                    else:
                        glide(line, offset, GRID, here, there, mine)
                for i in range(n):
                    part = now + (to - now) * (offset + i) / GRID
                    taken[p, at + i] = max(taken[p, at + i], part)
                _hear(keys[column], n, v, powers[p, :, column], ears[p, :, column])
        for i in range(n):
            if sides:
                middle, side = lines[0, i] - before[0, i], lines[1, i] - before[1, i]
                out_here[i, 0] = sound_here[i, 0] + (middle + side)
                out_here[i, 1] = sound_here[i, 1] + (middle - side)
            else:
                for column in range(columns):
                    out_here[i, column] = lines[column, i]


@kernel
def give_back_into(
    out: Sound,
    wet: Sound,
    heard_in: Sound,
    heard_out: Sound,
    start: int,
    value: Vector,
    step: Vector,
    most: float,
    state: Vector,
) -> None:
    """Fill out with the wet sound as loud as it was: by the gain that is known, or followed.

    heard_in, heard_out: (frames, columns), K-weighted, before and after. value, step: as in
    `cut_into`. most: cells over which is compared. state: (FOLLOWER,), changed.
    """
    frames, columns = wet.shape
    levels, octaves, whole = np.empty(GRID), np.empty(GRID), np.empty(GRID, np.int64)
    for at, n, point, offset in grid_cells(start, frames):
        out_here = out[at : at + n]
        wet_here = wet[at : at + n]
        heard_in_here = heard_in[at : at + n]
        heard_out_here = heard_out[at : at + n]
        if offset == 0:
            _compare(state, most)
        gain, moved = state[GAIN], state[GAIN_TO] - state[GAIN]
        known0, d_known = value[point, KNOWN], step[point, KNOWN]
        given0, d_given = value[point, GIVEN], step[point, GIVEN]
        sum_in, sum_out = state[SUM_IN], state[SUM_OUT]
        for i in range(n):
            j = float(offset + i)
            known, given = known0 + d_known * j, given0 + d_given * j
            levels[i] = known * given + (1.0 - known) * (gain + moved * j / GRID)
            octaves[i] = levels[i] / DB_PER_OCTAVE
        exp2_into(octaves, whole, n)
        for i in range(n):
            factor = 1.0 if levels[i] == 0.0 else octaves[i]
            for column in range(columns):
                out_here[i, column] = factor * wet_here[i, column]
                x, y = heard_in_here[i, column], heard_out_here[i, column]
                sum_in += x * x
                sum_out += y * y
        state[SUM_IN], state[SUM_OUT] = sum_in, sum_out


@inlined
def _compare(state: Vector, most: float) -> None:
    """Take a cell's powers into the means, if it is loud enough, and set the next gain."""
    power = state[SUM_IN] / GRID
    if power > SILENT and power > 0.1 * state[IN]:
        state[COUNT] = min(state[COUNT] + 1.0, most)
        state[IN] += (power - state[IN]) / state[COUNT]
        state[OUT] += (state[SUM_OUT] / GRID - state[OUT]) / state[COUNT]
    state[SUM_IN], state[SUM_OUT] = 0.0, 0.0
    state[GAIN] = state[GAIN_TO]
    if state[OUT] > 0.0:
        same = state[IN] == state[OUT]
        wanted = 0.0 if same else 10.0 * math.log10(state[IN] / state[OUT])
        # From cell to cell no faster than a fader goes.
        state[GAIN_TO] += min(max(wanted - state[GAIN], -0.05), 0.05)
