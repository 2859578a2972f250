"""What a level detector hears: the peaks between the samples too, from one to the next.

A tone near half the rate is seldom sampled at its tops: at a quarter of the rate up to 3 dB are
missed. Eight points a frame by 16 taps read tones to 16 kHz at 44.1 kHz within 0.1 dB. What was
reached stands for 0.125 ms, as long as half a period of 4 kHz takes: what comes faster has one
level, which cannot be folded back, however short the attack and the release are. In float32.
"""

import numpy as np

from salt_anvil.core.audio import Sound
from salt_anvil.core.compiled import inlined
from salt_anvil.core.dsp.between import LARGEST, Line, greatest, kaiser
from salt_anvil.core.dsp.delay import delayed, keep
from salt_anvil.core.dsp.fir import SINGLE, sums
from salt_anvil.core.state import State

TAPS, POINTS = 16, 8
LATENCY = TAPS // 2 - 1
"""Frames by which what is heard is late."""
STANDS_S = 0.000125
"""Time for which a peak stands."""
SMALLEST = 1e-30
"""Smaller samples count as silence: float32 slows down from 1e-38 on."""
_SPAN, _EDGE, _ROWS = 64, TAPS - 1, POINTS - 1
_PIECE = 16 * _SPAN
_AT_ONCE = 16
_rows_into = sums(_ROWS, 1, _AT_ONCE, SINGLE)


def taps() -> Sound:
    """Return the taps of the points p / POINTS on from a sample (windowed sinc, Kaiser, beta 6).

    (POINTS - 1, TAPS), p from 1; tap LATENCY belongs to that sample.
    """
    at = np.arange(TAPS) - LATENCY - np.arange(1, POINTS)[:, None] / POINTS
    found = np.sinc(at) * kaiser(at, TAPS / 2, 6.0)
    return np.asarray(found / found.sum(axis=1, keepdims=True))


_WEIGHTS = taps().astype(np.float32).ravel()
BOUND = float(np.abs(taps()).sum(axis=1).max()) * 1.0001
"""By which factor a point can exceed the samples around it."""


def stands(rate: int) -> int:
    """Return the frames for which a peak stands, with that of its own."""
    return round(STANDS_S * rate)


@inlined
def _bounded_into(line: Line, sound: Sound, channel: int) -> None:
    for i in range(len(line)):
        x = sound[i, channel]
        x = min(max(x, -LARGEST), LARGEST)
        line[i] = x if abs(x) > SMALLEST else 0.0


@inlined
def _peaks_into(
    peaks: Sound, past: Sound, key: Sound, tops: Sound, weights: Line, least: float
) -> None:
    """Fill peaks with the greatest magnitude of the frames up to each, LATENCY late.

    What is told of peaks up to `least` may be less than they are.

    past: (_EDGE, channels), what comes before the key. tops: (stands - 1, channels), changed.
    """
    frames, channels = peaks.shape
    before = len(tops)
    # Pieces that stay in the cache; behind each the room for a whole span.
    line = np.empty(_EDGE + _PIECE + _SPAN, np.float32)
    high, other = np.empty((2, before + _PIECE), np.float32)
    room = np.empty(_SPAN + _EDGE + _ROWS * _SPAN, np.float32)
    most = np.empty(_AT_ONCE, np.float32)
    places, ends = np.arange(TAPS), np.empty(_ROWS, np.int64)
    for row in range(_ROWS):
        ends[row] = _SPAN + _EDGE + row * _SPAN
    for channel in range(channels):
        for at in range(0, frames, _PIECE):
            n = min(_PIECE, frames - at)
            if at:
                for i in range(_EDGE):
                    line[i] = line[_PIECE + i]
            else:
                _bounded_into(line[:_EDGE], past, channel)
            _bounded_into(line[_EDGE : _EDGE + n], key[at : at + n], channel)
            line[_EDGE + n :] = 0.0
            for i in range(before):
                high[i] = tops[i, channel]
            found = high[before : before + n]
            for i in range(n):
                found[i] = abs(line[i + _EDGE - LATENCY])
            for first in range(0, n, _SPAN):
                here = line[first : first + _SPAN + _EDGE]
                if greatest(most, here) * BOUND > least:
                    for i in range(_SPAN + _EDGE):
                        room[i] = here[i]
                    span = high[before + first : before + first + _SPAN]
                    for i in range(0, _SPAN, _AT_ONCE):
                        _rows_into(room, places, weights, 0, TAPS, ends, i)
                    for row in range(_ROWS):
                        points = room[ends[row] : ends[row] + _SPAN]
                        for i in range(_SPAN):
                            now = abs(points[i])
                            span[i] = now if now > span[i] else span[i]
            for i in range(before):
                tops[i, channel] = high[n + i]
            stood = _stand(high[: before + n], other[: before + n], before + 1)[before:]
            given = peaks[at : at + n]
            for i in range(n):
                given[i, channel] = stood[i]


@inlined
def _stand(line: Line, other: Line, frames: int) -> Line:
    """Return each value's greatest of as many as `frames` up to it, right from the last on."""
    covered = 1
    while covered < frames:
        back = min(covered, frames - covered)
        earlier, here, found = line[:-back], line[back:], other[back:]
        for i in range(len(found)):
            found[i] = earlier[i] if earlier[i] > here[i] else here[i]
        line, other = other, line
        covered += back
    return line


def memory(rate: int, channels: int) -> State:
    """Return what `heard` remembers."""
    return State(line=np.zeros((_EDGE, channels)), tops=np.zeros((stands(rate) - 1, channels)))


def heard(key: Sound, between: bool, state: State, least: float = 0.0) -> Sound:
    """Return what a detector hears of a key, LATENCY frames late.

    between: the peaks between the samples, as they stand; or the samples themselves. least: where
    no peak can exceed this amplitude, samples will do.
    """
    line = state["line"]
    if between:
        found = np.empty_like(key)
        _peaks_into(found, line, key, state["tops"], _WEIGHTS, least)
    else:
        found = delayed(key, line[_EDGE - LATENCY :].copy())
        state["tops"][:] = 0
    keep(key, line)
    return found
