"""What a level detector hears: the peaks between the samples too, from one to the next.

A tone near half the rate is seldom sampled at its tops: at a quarter of the rate up to 3 dB are
missed. Eight points a frame by 16 taps read tones to 16 kHz at 44.1 kHz within 0.1 dB. What was
reached stands for 0.125 ms, as long as half a period of 4 kHz takes: what comes faster has one
level, which cannot be folded back, however short the attack and the release are. In float32.
"""

import numpy as np

from salt_anvil.core.audio import Sound, as_block
from salt_anvil.core.compiled import inlined
from salt_anvil.core.dsp.between import LARGEST, Line, kaiser
from salt_anvil.core.dsp.delay import delayed, keep, keep_into
from salt_anvil.core.dsp.fir import tops
from salt_anvil.core.dsp.maxima import greater_into, greatest
from salt_anvil.core.state import State

TAPS, POINTS = 16, 8
LATENCY = TAPS // 2 - 1
"""Frames by which what is heard is late."""
STANDS_S = 0.000125
"""Time for which a peak stands."""
SMALLEST = 1e-30
"""Smaller samples count as silence: float32 slows down from 1e-38 on."""
_LARGEST, _SMALLEST, _NOTHING = np.float32(LARGEST), np.float32(SMALLEST), np.float32(0)
_SPAN, _EDGE, _ROWS = 64, TAPS - 1, POINTS - 1
_PIECE = 16 * _SPAN
_AT_ONCE = 16
_tops_into = tops(_ROWS, TAPS, _AT_ONCE)


def taps() -> Sound:
    """Return the taps of the points p / POINTS on from a sample (windowed sinc, Kaiser, beta 6).

    (POINTS - 1, TAPS), p from 1; tap LATENCY belongs to that sample.
    """
    at = np.arange(TAPS) - LATENCY - np.arange(1, POINTS)[:, None] / POINTS
    found = np.sinc(at) * kaiser(at, TAPS / 2, 6.0)
    return np.asarray(found / found.sum(axis=1, keepdims=True))


_ONE_BY_ONE = np.arange(TAPS)
_WEIGHTS = taps().astype(np.float32).ravel()
BOUND = float(np.abs(taps()).sum(axis=1).max()) * 1.0001
"""By which factor a point can exceed the samples around it."""


def stands(rate: int) -> int:
    """Return the frames for which a peak stands, with that of its own."""
    return round(STANDS_S * rate)


@inlined
def _bounded_into(line: Line, sound: Sound, channel: int) -> None:
    for i in range(len(line)):
        line[i] = sound[i, channel]
    for i in range(len(line)):
        x = line[i] if line[i] > -_LARGEST else -_LARGEST
        x = x if x < _LARGEST else _LARGEST
        line[i] = x if abs(x) > _SMALLEST else _NOTHING


@inlined
def _peaks_into(
    peaks: Sound, past: Sound, key: Sound, tops: Sound, weights: Line, least: float
) -> None:
    """Fill peaks with the greatest magnitude of the frames up to each, LATENCY late.

    What is told of peaks up to `least` may be less than they are.

    past: (_EDGE, channels), what comes before the key. tops: (stands - 1, channels). Both change.
    """
    frames, channels = peaks.shape
    before = len(tops)
    # Pieces that stay in the cache; behind each the room for a whole span.
    lines = np.empty((2, _EDGE + _PIECE + _SPAN), np.float32)
    highs, others = np.empty((2, 2, before + _PIECE + _SPAN), np.float32)
    for at in range(0, frames, _PIECE):
        n = min(_PIECE, frames - at)
        for channel in range(channels):
            line, high = lines[channel], highs[channel]
            if at:
                for i in range(_EDGE):
                    line[i] = line[_PIECE + i]
            else:
                _bounded_into(line[:_EDGE], past, channel)
            _bounded_into(line[_EDGE : _EDGE + n], key[at : at + n], channel)
            line[_EDGE + n :] = 0.0
            for i in range(before):
                high[i] = tops[i, channel]
            found, own = high[before:], line[_EDGE - LATENCY :]
            for i in range(n):
                found[i] = abs(own[i])
            for first in range(0, n, _SPAN):
                if greatest(line[first : first + _SPAN + _EDGE]) * BOUND > least:
                    for i in range(first, first + _SPAN, _AT_ONCE):
                        _tops_into(found, i, line, _ONE_BY_ONE, i, weights)
            for i in range(before):
                tops[i, channel] = high[n + i]
        stood = _stand(highs, others, channels, before + n, before + 1)
        given = peaks[at : at + n].reshape(n * channels)
        left, right = stood[0, before : before + n], stood[channels - 1, before : before + n]
        if channels == 2:
            for i in range(n):
                given[2 * i], given[2 * i + 1] = left[i], right[i]
        else:
            for i in range(n):
                given[i] = left[i]
    keep_into(past, key)


@inlined
def _stand(lines: Line, others: Line, channels: int, count: int, frames: int) -> Line:
    """Return each value's greatest of as many as `frames` up to it, right from the last on.

    lines, others: (2, at least count), changed; one of them is returned.
    """
    covered = 1
    while covered < frames:
        back = min(covered, frames - covered)
        for channel in range(channels):
            line, found = lines[channel], others[channel, back:count]
            greater_into(found, line, line[back:])
        lines, others = others, lines
        covered += back
    return lines


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
        clean = key if key.flags.carray else as_block(key)
        found = np.empty_like(clean)
        _peaks_into(found, line, clean, state["tops"], _WEIGHTS, least)
    else:
        found = delayed(key, line[_EDGE - LATENCY :].copy())
        state["tops"][:] = 0
        keep(key, line)
    return found
