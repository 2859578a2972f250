"""What a sound reaches between its samples: 16 points a frame, in two steps.

BS.1770-4, annex 2, asks for 4 points a frame and shows 12 taps for them. 32 taps read a burst of
full-band noise 0.3 dB lower than 256 do, signs at random 1.0 and the worst of all sounds 4.0 dB. So
256 taps find the values half-way between the samples; on the doubled line everything lies in its
lower half, and 16 are enough for the points in between. In float32, whose 1e-6 dB do not count.
"""

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import Sound, Values
from salt_anvil.core.compiled import inlined
from salt_anvil.core.dsp.fir import SINGLE, Places, sums

Line = NDArray[np.float32]
Tables = tuple[Line, Places, Places, Line, float, float, float]

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


def _bend_factor(taps: Values, at: float) -> float:
    """Return by how much of the greatest second difference of the values what these taps read
    `at` can lie outside the two values around it.

    The taps less those of a straight line between the two add up to 0: they are taps of first
    differences. Less what they make of the slope between the two (nothing, or under 0.1 %: see
    _SLACK) these add up to 0 as well.
    """
    rest = taps.copy()
    first = int(at)
    rest[first] -= first + 1 - at
    rest[first + 1] -= at - first
    slopes = np.cumsum(rest)
    slopes[first] -= slopes.sum()
    return float(np.abs(np.cumsum(slopes)).sum())


# All half-way values of a step at once, 13 vectors of eight; the points two by two, half a step.
_half_way_into = sums(1, _MIDS // 8, 8, SINGLE)
_two_into, _one_into = sums(2, _STEP // 16, 8, SINGLE), sums(1, _STEP // 8, 8, SINGLE)
_HALF_WAY_BEND = _bend_factor(half_way(), (HALF_TAPS - 1) / 2)
_FROM_DOUBLED = max(_bend_factor(fine()[p - 1], _NEAR - 1 + p / POINTS) for p in range(1, POINTS))
_FROM_SAMPLES = _HALF_WAY_BEND + _FROM_DOUBLED * (0.5 + 2 * _HALF_WAY_BEND)
"""By how many greatest second differences, of the doubled line or of the samples, a point can
exceed the greatest value beside it. A second difference of the doubled line is twice what a
half-way value lies off the straight line, or half of one of the samples and two of those."""
_SLACK = 1.003
"""For what the fine taps make of a slope, and for float32."""
_TABLES = (
    half_way().astype(np.float32),
    np.arange(HALF_TAPS),
    # Of a point, the places of the samples around it, and of the half-way values among theirs.
    np.array([BEFORE - _NEAR // 2 + 1 + np.arange(_NEAR), np.arange(_NEAR)]),
    fine().astype(np.float32),
    _FROM_SAMPLES,
    _FROM_DOUBLED,
    _SLACK,
)


@inlined
def _raise_to(most: Line, row: Line) -> None:
    """Raise most to the magnitudes of a row of the same length."""
    for i in range(len(most)):
        here = abs(row[i])
        most[i] = here if here > most[i] else most[i]


@inlined
def _bends_into(bends: Line, before: Line, here: Line, behind: Line) -> None:
    """Fill bends with the magnitudes of second differences of values that follow one another."""
    for i in range(len(bends)):
        bends[i] = abs((before[i] - here[i]) + (behind[i] - here[i]))


@inlined
def greatest(most: Line, row: Line) -> float:
    """Return the greatest magnitude of a row, at least as long as `most`, which is used up."""
    # A maximum over a line is no vector's, maxima of many beside each other are.
    step = len(most)
    most[:] = 0
    for at in range(0, len(row) - step, step):
        _raise_to(most, row[at : at + step])
    _raise_to(most, row[len(row) - step :])
    half = step
    while half % 2 == 0:
        half //= 2
        _raise_to(most[:half], most[half : 2 * half])
    peak = most[0]
    for i in range(half):
        peak = max(peak, most[i])
    return float(peak)


@inlined
def _reach(
    most: Line, room: Line, bends: Line, at: int, ends: Places, tables: Tables, least: float
) -> bool:
    """Fill most (_STEP) with the greatest magnitude behind each frame, before the next.

    room, bends: of `_room`; the first frame is room[at + BEFORE]. ends: room for where a step's
    values stand. Where no point can exceed `least` nothing is told: False.
    """
    half_way, mids, places, taps, from_samples, from_doubled, slack = tables
    weights, near = taps.ravel(), _NEAR // 2
    line = room[at : at + _STEP + EDGE]
    beside = greatest(most, line[BEFORE : BEFORE + _STEP + 1])
    bend = greatest(most, bends[at : at + _STEP + EDGE - 2])
    if (beside + from_samples * bend) * slack <= least:
        return False
    behind = len(room) - _BEHIND
    ends[0] = behind - at
    _half_way_into(room, mids, half_way, 0, HALF_TAPS, ends, at)
    between = room[behind : behind + _MIDS]
    samples = line[BEFORE - near : BEFORE + _STEP + near + 1]
    doubled = room[behind + _MIDS : behind + 3 * _MIDS - 1]
    _bends_into(doubled[:_MIDS], samples[:-1], between, samples[1:])
    _bends_into(doubled[_MIDS:], between[:-1], samples[1:-1], between[1:])
    bend = greatest(most, doubled)
    beside = max(beside, greatest(most, between[near : near + _STEP]))
    if (beside + from_doubled * bend) * slack <= least:
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


@inlined
def _room(whole: Sound, channel: int) -> tuple[Line, Line]:
    """Return one channel, zeros, so that the last step is whole, and room for a step's values;
    and its second differences, the first that of its first three values."""
    room = np.zeros(len(whole) + _STEP + _BEHIND, np.float32)
    for i in range(len(whole)):
        room[i] = min(max(whole[i, channel], -LARGEST), LARGEST)
    bends = np.empty(len(room) - _BEHIND, np.float32)
    count = len(bends)
    _bends_into(bends, room[:count], room[1 : count + 1], room[2 : count + 2])
    return room, bends


@inlined
def _peaks_into(peaks: Sound, whole: Sound, least: float, tables: Tables) -> None:
    most, ends = np.empty(_STEP, np.float32), np.empty(POINTS, np.int64)
    frames, channels = peaks.shape
    for channel in range(channels):
        room, bends = _room(whole, channel)
        for i in range(frames):
            peaks[i, channel] = abs(whole[BEFORE + i, channel])
        for at in range(0, frames, _STEP):
            if _reach(most, room, bends, at, ends, tables, least):
                for i in range(min(_STEP, frames - at)):
                    if most[i] > least:
                        peaks[at + i, channel] = max(peaks[at + i, channel], most[i])


@inlined
def _pieces_into(peaks: Values, whole: Sound, size: int, tables: Tables) -> None:
    most, ends = np.empty(_STEP, np.float32), np.empty(POINTS, np.int64)
    for channel in range(whole.shape[1]):
        room, bends = _room(whole, channel)
        for piece in range(len(peaks)):
            begin, end = piece * size, (piece + 1) * size
            # Where the samples are greatest comes first: most of the others cannot exceed that.
            greatest = np.abs(room[BEFORE + begin : BEFORE + end]).argmax()
            first = begin + int(greatest) // _STEP * _STEP
            for turn in range(begin - _STEP, end, _STEP):
                at = turn if turn >= begin else first
                if at == turn == first:
                    continue
                if _reach(most, room, bends, at, ends, tables, peaks[piece]):
                    for i in range(min(_STEP, end - at)):
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
