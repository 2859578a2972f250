"""De-essing: ranges cut out with linear phase, and the reduction that their level asks for."""

import math
from functools import lru_cache

import numpy as np

from salt_anvil.core.audio import FLOOR_AMPLITUDE, GRID, TINY, Sound
from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp import dynamics as d
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.decibel import log2_into
from salt_anvil.core.dsp.fir import run
from salt_anvil.core.dsp.grid import grid_cells
from salt_anvil.core.dsp.line import copy_into

# Columns of the control vector behind dynamics': share of `relative`, time of the mean squares.
RELATIVE, WHOLE = d.CONTROLS, d.CONTROLS + 1
CONTROLS = d.CONTROLS + 2
SMALLEST_DB = 1e-9
TOGETHER = 48
"""Frames of a range that are summed together."""
HEADROOM_DB = 60.0
"""A relative level counts at most this much above the level of the whole, so that silence, of
which every range is a great part, asks for nothing; common practice, no source."""


def half_length(rate: int) -> int:
    """Return the latency of the ranges' filters in frames: 2.67 ms."""
    return round(rate * 128 / 48000)


def _magnitude(hz: Vector, frequency_hz: float, slope: int, width_oct: float | None) -> Vector:
    """Return the magnitude of a Butterworth high pass, or of one with a low pass above it."""
    order = slope // 6
    safe = np.maximum(hz, 1e-3)
    low = frequency_hz if width_oct is None else frequency_hz * 2 ** (-width_oct / 2)
    rises = 1 / np.sqrt(1 + (low / safe) ** (2 * order))
    if width_oct is None:
        return np.asarray(rises)
    high = frequency_hz * 2 ** (width_oct / 2)
    return np.asarray(rises / np.sqrt(1 + (safe / high) ** (2 * order)))


@lru_cache(maxsize=128)
def ranges(
    rate: int,
    slope: int,
    first: tuple[float, float | None],
    second: tuple[float, float | None] | None,
) -> Vector:
    """Return symmetrical filters, (1 or 2, half_length + 1), from the middle tap outwards.

    first, second: frequency and width in octaves, None for everything above. The second range
    leaves out what the first has, so that together they never cut more than the whole.
    """
    half = half_length(rate)
    size = 32 * half
    hz = np.asarray(np.fft.rfftfreq(size, 1 / rate), np.float64)
    shapes = [_magnitude(hz, first[0], slope, first[1])]
    if second is not None:
        shapes.append(_magnitude(hz, second[0], slope, second[1]) * (1 - shapes[0]))
    window = np.kaiser(2 * half + 1, 6.0)[half:]
    taps = np.array([np.fft.irfft(shape, size)[: half + 1] * window for shape in shapes])
    # Nothing at 0 Hz: what the window lets through there is taken from the middle tap.
    taps[:, 0] -= taps[:, 0] + 2 * taps[:, 1:].sum(axis=1)
    taps.setflags(write=False)
    return taps


_sums_into = run(TOGETHER // 8, 8)


@kernel
def range_into(out: Sound, sound: Sound, taps: Sound) -> None:
    """Fill out (frames, channels) with what a symmetrical filter passes.

    sound: (frames + 2 * half, channels); out[i] is centred on sound[i + half]. taps: (half + 1,),
    TOGETHER / 2 at least.
    """
    frames, channels = out.shape
    half = len(taps) - 1
    whole = np.empty(2 * half + 1)
    for t in range(half + 1):
        whole[half - t] = whole[half + t] = taps[t]
    room = -(-frames // TOGETHER) * TOGETHER
    line, total = np.zeros(room + 2 * half), np.empty(room)
    for channel in range(channels):
        for i in range(frames + 2 * half):
            line[i] = sound[i, channel]
        for at in range(0, room, TOGETHER):
            _sums_into(line, whole, total, at, at)
        for i in range(frames):
            out[i, channel] = total[i]


@kernel
def take_into(out: Sound, less: Sound, band: Sound) -> None:
    """Take from out what a band, made less, has lost; all alike and contiguous."""
    line, left, whole = out.reshape(out.size), less.reshape(less.size), band.reshape(band.size)
    for i in range(len(line)):
        line[i] += left[i] - whole[i]


@inlined
def _powers_into(
    heard: Sound,
    wholes: Sound,
    band: Sound,
    whole: Sound,
    n: int,
    v: Vector,
    s: Vector,
    offset: int,
    state: Sound,
    powers: Sound,
) -> None:
    """Fill heard and wholes, (2, at least n), with mean squares of range and whole, no less than
    the floor; those at the end are kept. Of one channel both rows are the same."""
    # All in one loop: none waits for another's last frame.
    last, floor = band.shape[1] - 1, FLOOR_AMPLITUDE * FLOOR_AMPLITUDE
    a, b = state[d.POWER, 0], state[d.POWER, last]
    c, e = powers[0], powers[last]
    rate, d_rate, slow = v[d.RMS] + s[d.RMS] * offset, s[d.RMS], v[WHOLE]
    for i in range(n):
        now = rate + d_rate * i
        left, right = band[i, 0], band[i, last]
        a += now * (left * left - a)
        b += now * (right * right - b)
        heard[0, i], heard[1, i] = a + floor, b + floor
        left, right = whole[i, 0], whole[i, last]
        c += slow * (left * left - c)
        e += slow * (right * right - e)
        wholes[0, i], wholes[1, i] = c + floor, e + floor
    state[d.POWER, 0], state[d.POWER, last] = a if a >= TINY else 0.0, b if b >= TINY else 0.0
    powers[0], powers[last] = c if c > TINY else 0.0, e if e > TINY else 0.0


@kernel
def ess_into(
    reduction: Sound,
    heard: Sound,
    band: Sound,
    whole: Sound,
    start: int,
    value: Vector,
    step: Vector,
    state: Sound,
    powers: Sound,
) -> None:
    """Fill reduction (frames, channels) in dB by the level of a range, heard with that level.

    band, whole: (frames, channels), 1 or 2 channels. start: timeline frame of band[0]. value, step:
    (grid points, CONTROLS or more). state: (dynamics.STATES, channels); powers: (channels,), the
    mean square of the whole; both changed. With RELATIVE 1 the level is that of the range against
    the whole.
    """
    frames, channels = band.shape
    levels, wholes, exponent = np.empty((2, GRID)), np.empty((2, GRID)), np.empty(GRID)
    carried = np.empty(d.STATES)
    for at, n, k, offset in grid_cells(start, frames):
        whole_here = whole[at : at + n]
        heard_here = heard[at : at + n]
        reduction_here = reduction[at : at + n]
        band_here = band[at : at + n]
        v, s = value[k], step[k]
        _powers_into(levels, wholes, band_here, whole_here, n, v, s, offset, state, powers)
        relative = v[RELATIVE]
        for channel in range(channels):
            level, of = levels[channel], wholes[channel]
            log2_into(level, exponent, n, d.scale_of(d.MEAN_SQUARE))
            if relative != 0.0 or s[RELATIVE] != 0.0:
                log2_into(of, exponent, n, d.scale_of(d.MEAN_SQUARE))
                for i in range(n):
                    share = relative + s[RELATIVE] * (offset + i)
                    against = min(level[i] - of[i], of[i] + HEADROOM_DB)
                    level[i] += share * (against - level[i])
        link = v[d.LINK] + s[d.LINK] * offset
        alike = channels == 2 and link == 1.0 and s[d.LINK] == 0.0
        if alike:
            for i in range(n):
                levels[0, i] = levels[1, i] = max(levels[0, i], levels[1, i])
            alike = d.equal_lanes(state, d.POWER)
        elif channels == 2:
            d._link(levels, n, link, s[d.LINK])
        for channel in range(1 if alike else channels):
            c = levels[channel]
            for i in range(n):
                heard_here[i, channel] = c[i]
            d._curve_into(c, n, v, s, offset)
            copy_into(carried, state[:, channel])
            d._smooth(c, n, carried, d.DECOUPLED, False, v, s, offset)
            for row in range(d.STATES):
                if row != d.POWER:
                    state[row, channel] = carried[row]
            for i in range(n):
                reduction_here[i, channel] = c[i] if c[i] > SMALLEST_DB else 0.0
        if alike:
            d.stand_alike(state, d.POWER)
            for i in range(n):
                heard_here[i, 1], reduction_here[i, 1] = heard_here[i, 0], reduction_here[i, 0]


def response_db(taps: Vector, hz: Vector, rate: int) -> Vector:
    """Return the magnitude in dB of one symmetrical filter at some frequencies."""
    at = np.arange(1, len(taps))
    turns = np.cos(2 * math.pi * np.outer(hz, at) / rate)
    return np.asarray(20 * np.log10(np.maximum(np.abs(taps[0] + 2 * turns @ taps[1:]), 1e-8)))
