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
from salt_anvil.core.dsp.fir import Places, run, tops
from salt_anvil.core.dsp.maxima import greater_into, greatest

Line = NDArray[np.float32]
Tables = tuple[Line, Places, Line, float, float, float]

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

_LARGEST = np.float32(LARGEST)
_STEP = 104
_NEAR = FINE_TAPS // 2
_MIDS = _STEP + _NEAR
_GROUP = 16
_BEHIND = 3 * _MIDS
# The half-way values of a step, with those that its points need on both sides, and their second
# differences.
_WINDOW = -(-(_STEP + EDGE) // _STEP)
"""Steps whose second differences bound the points of a step."""


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


# All half-way values of a step at once, and all points of a group.
_half_way_into = run(_MIDS // 16, 16, single=True)
_points_into = tops(POINTS - 1, FINE_TAPS, _GROUP)
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
    # Of a point, the places of the samples around it, and of the half-way values among theirs.
    np.array([BEFORE - _NEAR // 2 + 1 + np.arange(_NEAR), np.arange(_NEAR)]),
    fine().astype(np.float32),
    _FROM_SAMPLES,
    _FROM_DOUBLED,
    _SLACK,
)


@inlined
def _bends_into(bends: Line, before: Line, here: Line, behind: Line) -> None:
    """Fill bends with the magnitudes of second differences of values that follow one another."""
    for i in range(len(bends)):
        bends[i] = abs((before[i] - here[i]) + (behind[i] - here[i]))


@inlined
def _reach(
    most: Line, room: Line, at: int, beside: float, places: Places, tables: Tables, least: float
) -> bool:
    """Fill most (_STEP) with the greatest magnitude behind each frame, before the next; where it
    cannot exceed `least`, with less. Where it nowhere can, nothing is told: False.

    room: of `_room`; the first frame is room[at + BEFORE]. beside: the greatest of the samples.
    """
    half_way, _, taps, _, from_doubled, slack = tables
    near, behind = _NEAR // 2, len(room) - _BEHIND
    _half_way_into(room, half_way, room, behind, at)
    between = room[behind : behind + _MIDS]
    first = at + BEFORE - near
    samples = room[first : first + _MIDS + 1]
    doubled = room[behind + _MIDS : behind + 3 * _MIDS - 1]
    _bends_into(doubled[:_MIDS], samples[:-1], between, samples[1:])
    _bends_into(doubled[_MIDS:], between[:-1], samples[1:-1], between[1:])
    bend = greatest(doubled)
    beside = max(beside, greatest(between[near : near + _STEP]))
    if (beside + from_doubled * bend) * slack <= least:
        return False
    here = between[near : near + _STEP]
    greater_into(most, here, here)
    _places_into(places, at, behind, tables)
    weights = taps.ravel()
    for turn in range(0, _STEP, _GROUP):
        own = min(turn, _STEP - _GROUP)
        beside = greatest(samples[near + own : near + own + _GROUP + 1])
        beside = max(beside, greatest(here[own : own + _GROUP]))
        bend = greatest(doubled[own : own + _GROUP + _NEAR - 1])
        behind = _MIDS + own
        bend = max(bend, greatest(doubled[behind : behind + _GROUP + _NEAR - 1]))
        if (beside + from_doubled * bend) * slack <= least:
            continue
        for gap in range(2):
            _points_into(most, own, room, places[gap], at + own, weights)
    return True


@inlined
def _places_into(places: Places, at: int, behind: int, tables: Tables) -> None:
    """Fill in where the values stand that a frame's points are sums of, (2, FINE_TAPS).

    Gap 0 is from a frame to its half-way value, gap 1 from there to the next frame; both kinds of
    values take turns.
    """
    around = tables[1]
    for gap in range(2):
        for t in range(_NEAR):
            places[gap, 2 * t + gap] = around[1, t] + gap - at + behind
            places[gap, 2 * t + 1 - gap] = around[0, t]


@inlined
def _room(whole: Sound, channel: int) -> tuple[Line, Line]:
    """Return one channel, zeros, so that the last steps are whole, and room for a step's values;
    and its second differences, the first that of its first three values."""
    room = np.zeros(len(whole) + 2 * _STEP + _BEHIND, np.float32)
    for i in range(len(whole)):
        room[i] = whole[i, channel]
    for i in range(len(whole)):
        x = room[i] if room[i] > -_LARGEST else -_LARGEST
        room[i] = x if x < _LARGEST else _LARGEST
    bends = np.empty(len(room) - _BEHIND, np.float32)
    count = len(bends)
    _bends_into(bends, room[:count], room[1 : count + 1], room[2 : count + 2])
    return room, bends


@inlined
def _bounds(room: Line, bends: Line, begin: int, frames: int) -> tuple[Values, Values]:
    """Return of each step from frame `begin` on the greatest sample, and the greatest second
    difference of every stretch as long as a step."""
    steps = -(-frames // _STEP)
    beside, bent = np.empty(steps), np.empty(steps + _WINDOW - 1)
    for step in range(steps):
        at = begin + BEFORE + step * _STEP
        beside[step] = greatest(room[at : at + _STEP + 1])
    for step in range(len(bent)):
        at = begin + step * _STEP
        bent[step] = greatest(bends[at : at + _STEP])
    return beside, bent


@inlined
def _silent(step: int, beside: Values, bent: Values, tables: Tables, least: float) -> bool:
    """Say whether no point of a step can exceed `least`."""
    bend = bent[step]
    for i in range(1, _WINDOW):
        bend = max(bend, bent[step + i])
    return bool((beside[step] + tables[3] * bend) * tables[5] <= least)


@inlined
def _peaks_into(peaks: Sound, whole: Sound, least: float, tables: Tables) -> None:
    most, places = np.empty(_STEP, np.float32), np.empty((2, FINE_TAPS), np.int64)
    frames, channels = peaks.shape
    for channel in range(channels):
        room, bends = _room(whole, channel)
        beside, bent = _bounds(room, bends, 0, frames)
        for i in range(frames):
            peaks[i, channel] = abs(whole[BEFORE + i, channel])
        for step in range(len(beside)):
            if _silent(step, beside, bent, tables, least):
                continue
            at = step * _STEP
            if _reach(most, room, at, beside[step], places, tables, least):
                here = peaks[at : at + _STEP]
                for i in range(len(here)):
                    told, known = float(most[i]), here[i, channel]
                    here[i, channel] = told if told > least and told > known else known


@inlined
def _pieces_into(peaks: Values, whole: Sound, size: int, tables: Tables) -> None:
    most, places = np.empty(_STEP, np.float32), np.empty((2, FINE_TAPS), np.int64)
    for channel in range(whole.shape[1]):
        room, bends = _room(whole, channel)
        for piece in range(len(peaks)):
            beside, bent = _bounds(room, bends, piece * size, size)
            # Where the samples are greatest comes first: most of the others cannot exceed that.
            first = 0  # numba's own argmax would load scipy's linear algebra with the kernel
            for step in range(1, len(beside)):
                first = step if beside[step] > beside[first] else first
            for turn in range(-1, len(beside)):
                step = first if turn < 0 else turn
                if turn == first or _silent(step, beside, bent, tables, peaks[piece]):
                    continue
                at = piece * size + step * _STEP
                if _reach(most, room, at, beside[step], places, tables, peaks[piece]):
                    most[size - step * _STEP :] = 0
                    peaks[piece] = max(peaks[piece], greatest(most))


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
