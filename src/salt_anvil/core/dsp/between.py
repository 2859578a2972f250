"""What a sound reaches between its samples: 16 points a frame, in two steps.

BS.1770-4, annex 2, asks for 4 points a frame and shows 12 taps for them. 32 taps read a burst of
full-band noise 0.3 dB lower than 256 do, signs at random 1.0 and the worst of all sounds 4.0 dB. So
256 taps find the values half-way between the samples; on the doubled line everything lies in its
lower half, and 16 are enough for the points in between. In float32, whose 1e-6 dB do not count.
"""

import numpy as np
from numba import njit
from numpy.typing import NDArray

from salt_anvil.core.audio import Sound, Values
from salt_anvil.core.dsp.fir import SINGLE, Places, sums

Line = NDArray[np.float32]
Tables = tuple[Line, Places, Places, Line, float, float]

HALF_TAPS = 256
"""Of the value half-way between two samples."""
FINE_TAPS = 16
"""Of the points between a sample and a half-way value, on the doubled line."""
POINTS = 8
"""Points from one value of the doubled line to the next."""
AFTER = (HALF_TAPS + FINE_TAPS // 2) // 2
"""Frames behind a frame that its points need."""
EDGE = 2 * AFTER - 1
"""Frames around a frame that its points need, less itself."""
BEFORE = EDGE - AFTER
"""Frames before a frame that its points need."""
LARGEST = 1e30
"""Greater samples count as this: float32 ends at 3e38."""

_STEP = 96
_NEAR = FINE_TAPS // 2
_MIDS = _STEP + _NEAR
_BEHIND = _MIDS + _STEP * (POINTS - 1)
# The half-way values of a step, with those that its points need on both sides, and the points.


def kaiser(at: Values, half: float, beta: float) -> Values:
    """Return Kaiser's window at some places, 0 from `half` on."""
    inside: Values = np.sqrt(np.maximum(1 - (at / half) ** 2, 0))
    return np.asarray(np.i0(beta * inside) / np.i0(beta))


def half_way() -> Values:
    """Return the taps of the value half-way (windowed sinc, Kaiser, beta 5), (HALF_TAPS,)."""
    at = np.arange(HALF_TAPS, dtype=np.float64) - (HALF_TAPS - 1) / 2
    taps = np.sinc(at) * kaiser(at, HALF_TAPS / 2, 5.0)
    return np.asarray(taps / taps.sum())


def fine() -> Sound:
    """Return the taps of the points p / POINTS on from a value of the doubled line, p from 1 to
    POINTS - 1 (Kaiser, beta 7), (POINTS - 1, FINE_TAPS); tap _NEAR - 1 belongs to that value."""
    at = np.arange(FINE_TAPS) - (_NEAR - 1) - np.arange(1, POINTS)[:, None] / POINTS
    taps = np.sinc(at) * kaiser(at, _NEAR, 7.0)
    return np.asarray(taps / taps.sum(axis=1, keepdims=True))


# All half-way values of a step at once, 13 vectors of eight; the points two by two, half a step.
_half_way_into = sums(1, _MIDS // 8, 8, SINGLE)
_two_into, _one_into = sums(2, _STEP // 16, 8, SINGLE), sums(1, _STEP // 8, 8, SINGLE)
_TABLES = (
    half_way().astype(np.float32),
    np.arange(HALF_TAPS),
    # Of a point, the places of the samples around it, and of the half-way values among theirs.
    np.array([BEFORE - _NEAR // 2 + 1 + np.arange(_NEAR), np.arange(_NEAR)]),
    fine().astype(np.float32),
    float(np.abs(half_way()).sum()) * 1.0001,
    float(np.abs(fine()).sum(axis=1).max()) * 1.0001,
)
# The last: by which factors a half-way value can exceed the samples around it, and a point the
# values of the doubled line.


@njit(cache=True, nogil=True, error_model="numpy")
def _raise_to(most: Line, row: Line) -> None:
    """Raise most to the magnitudes of a row of the same length."""
    for i in range(len(most)):
        here = abs(row[i])
        most[i] = here if here > most[i] else most[i]


@njit(cache=True, nogil=True, error_model="numpy")
def _greatest(most: Line, row: Line) -> float:
    """Return the greatest magnitude of a row, at least _STEP long; most: room for _STEP."""
    # A maximum over a line is no vector's, maxima of many beside each other are.
    most[:] = 0
    for at in range(0, len(row) - _STEP, _STEP):
        _raise_to(most, row[at : at + _STEP])
    _raise_to(most, row[len(row) - _STEP :])
    half = _STEP
    while half % 2 == 0:
        half //= 2
        _raise_to(most[:half], most[half : 2 * half])
    peak = most[0]
    for i in range(half):
        peak = max(peak, most[i])
    return float(peak)


@njit(cache=True, nogil=True, error_model="numpy")
def _reach(most: Line, room: Line, at: int, ends: Places, tables: Tables, least: float) -> bool:
    """Fill most (_STEP) with the greatest magnitude behind each frame, before the next.

    room: of `_room`; the first frame is room[at + BEFORE]. ends: room for where a step's values
    stand. Where no point can exceed `least` nothing is told: False.
    """
    half_way, mids, places, taps, half_bound, bound = tables
    weights, near = taps.ravel(), _NEAR // 2
    line = room[at : at + _STEP + EDGE]
    if _greatest(most, line) * half_bound * bound <= least:
        return False
    behind = len(room) - _BEHIND
    ends[0] = behind - at
    _half_way_into(room, mids, half_way, 0, HALF_TAPS, ends, at)
    between = room[behind : behind + _MIDS]
    samples = line[BEFORE - near : BEFORE + _STEP + near + 1]
    if max(_greatest(most, between), _greatest(most, samples)) * bound <= least:
        return False
    most[:] = 0
    _raise_to(most, between[near : near + _STEP])
    here = np.empty(FINE_TAPS, np.int64)
    for gap in range(2):
        # Gap 0 is from a frame to its half-way value, gap 1 from there to the next frame; both
        # kinds of values take turns.
        for t in range(_NEAR):
            here[2 * t + gap] = places[1, t] + gap - at + behind
            here[2 * t + 1 - gap] = places[0, t]
        for p in range(POINTS - 1):
            ends[p] = behind + _MIDS + p * _STEP - at
        for p in range(0, POINTS - 2, 2):
            for half in range(0, _STEP, _STEP // 2):
                _two_into(room, here, weights[p * FINE_TAPS :], 0, FINE_TAPS, ends[p:], at + half)
        last = POINTS - 2
        _one_into(room, here, weights[last * FINE_TAPS :], 0, FINE_TAPS, ends[last:], at)
        for p in range(POINTS - 1):
            begin = behind + _MIDS + p * _STEP
            _raise_to(most, room[begin : begin + _STEP])
    return True


@njit(cache=True, nogil=True, error_model="numpy")
def _room(whole: Sound, channel: int) -> Line:
    """Return one channel, zeros, so that the last step is whole, and room for a step's values."""
    room = np.zeros(len(whole) + _STEP + _BEHIND, np.float32)
    for i in range(len(whole)):
        room[i] = min(max(whole[i, channel], -LARGEST), LARGEST)
    return room


@njit(cache=True, nogil=True, error_model="numpy")
def _peaks_into(peaks: Sound, whole: Sound, least: float, tables: Tables) -> None:
    most, ends = np.empty(_STEP, np.float32), np.empty(POINTS, np.int64)
    frames, channels = peaks.shape
    for channel in range(channels):
        room = _room(whole, channel)
        for i in range(frames):
            peaks[i, channel] = abs(whole[BEFORE + i, channel])
        for at in range(0, frames, _STEP):
            if _reach(most, room, at, ends, tables, least):
                for i in range(min(_STEP, frames - at)):
                    if most[i] > least:
                        peaks[at + i, channel] = max(peaks[at + i, channel], most[i])


@njit(cache=True, nogil=True, error_model="numpy")
def _pieces_into(peaks: Values, whole: Sound, size: int, tables: Tables) -> None:
    most, ends = np.empty(_STEP, np.float32), np.empty(POINTS, np.int64)
    for channel in range(whole.shape[1]):
        room = _room(whole, channel)
        for piece in range(len(peaks)):
            for at in range(piece * size, (piece + 1) * size, _STEP):
                if _reach(most, room, at, ends, tables, peaks[piece]):
                    for i in range(min(_STEP, (piece + 1) * size - at)):
                        peaks[piece] = max(peaks[piece], most[i])


def peaks_into(peaks: Sound, whole: Sound, least: float) -> None:
    """Fill peaks (frames, channels) with the greatest magnitude from each frame to the next.

    whole: (BEFORE + frames + AFTER, channels); peaks[0] belongs to whole[BEFORE]. What does not
    exceed `least` between the samples is not told, so that quiet stretches can be passed over.
    """
    _peaks_into(peaks, whole, least, _TABLES)


def pieces_into(peaks: Values, whole: Sound, size: int) -> None:
    """Raise the peak of each piece of `size` frames to the greatest magnitude in it.

    whole: (BEFORE + pieces * size + AFTER, channels); the first piece begins at whole[BEFORE].
    """
    _pieces_into(peaks, whole, size, _TABLES)
