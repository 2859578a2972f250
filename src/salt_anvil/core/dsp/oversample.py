"""Shaping without fold-back: up in half-band stages, antiderivative shaping, down in stages.

What a shaper takes away, x - f(x), is formed at 8, 16 or 32 times the rate and taken from the
delayed input, so that what is not shaped passes bit for bit. Only what is taken away goes through
float32: of a sound that is bent hard its noise lies 135 dB below, of one that hardly is over 200.
First-order antiderivative form:
Parker, Zavalishin and Le Bivic, DAFx-16. It is the mean over a step of a wave that is straight
between its values, half a step late. Straight lines lose sinc^2 of the treble before the bend, the
mean loses sinc behind it: the last filter on the way up lifts the one, the first on the way down,
of an even length, which makes a whole step of the half, lifts the other. So a bend is level,
whatever power of the wave it takes.
"""

from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.compiled import inlined, kernel
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.fir import sum_into
from salt_anvil.core.dsp.line import copy_into
from salt_anvil.core.dsp.maxima import Line, greatest
from salt_anvil.core.state import State

FACTORS = {"plain": 1, "good": 8, "high": 16, "best": 32}
UP = DOWN = 44
"""Frames of delay on the way up and on the way down, the same for every quality."""
LATENCY = UP + DOWN
BETA = 11.0
"""Kaiser window for 108 dB (Kaiser 1974: 0.1102 * (A - 8.7)); stages together stay over 100."""
TAPS = {1: 76, 2: 16, 4: 10, 8: 8, 16: 6}
"""Taps of a half-band between the values, by the factor that it begins at: next to the rate itself,
flat to 20 kHz and -100 dB from 24.1 kHz on at 44.1 kHz, so that nothing folds to where it is
heard; the higher, the less lies near its corner."""
INNER = {8: (8,), 16: (6, 4), 32: (5, 4, 4)}
OUTER = {8: (16,), 16: (10, 12), 32: (10, 8, 8)}
"""Delays in their own values of the stages beyond 4 times the rate, up and down: 2 frames of each
quality."""
LIFT = 1.0 / 12.0
"""1 / sinc^2 = 1 + d / 12 + ..., with d the second difference, turned round."""
CHUNK = 8 * GRID
"""Frames at a time, so that what lies between them stays in the cache."""
FAINT, LOUD = 1e-9, 1e9
"""Below the one is nothing to shape, -180 dB, whose third power float32 hardly holds; what is over
the other would leave it by its square."""
Ints = NDArray[np.int64]


@dataclass(frozen=True)
class Stage:
    """A filter from `inner` values a frame to `outer`.

    rows: for each of a frame's outer values, which inner ones it is made of, counted from the
    frame's first, and their weights.
    """

    inner: int
    outer: int
    rows: list[tuple[Ints, Vector]]

    @property
    def past(self) -> int:
        """Frames that it wants in front of a block."""
        return max(-(int(places.min()) // self.inner) for places, _ in self.rows)


def _kaiser(share: NDArray[Any]) -> Vector:
    inside = np.sqrt(np.maximum(1 - share**2, 0))
    return np.asarray(np.i0(BETA * inside) / np.i0(BETA))


def _between(taps: int) -> Vector:
    """Return the weights of the value half way between two, (taps,), sum 1."""
    at = np.arange(taps) - taps / 2 + 0.5
    weights = np.sinc(at) * _kaiser(at / (taps / 2))
    return np.asarray(weights / weights.sum())


def _even(taps: int, factor: int) -> Vector:
    """Return half of the band with the treble given back, (taps,), sum 1.

    The even length puts the middle between two taps, half a step from each.
    """
    size = 64 * taps
    hz = np.fft.rfftfreq(size, 1 / factor)  # in units of the rate
    wanted = np.where(hz < factor / 4, 1 / np.sinc(hz / factor), 0.0)
    wanted[np.isclose(hz, factor / 4)] = 0.5 / np.sinc(0.25)
    half = np.arange(taps // 2) + 0.5
    turns = np.full(len(hz), 2.0)
    turns[0] = turns[-1] = 1.0
    right = (turns * wanted) @ np.cos(2 * np.pi * np.outer(hz, half) / factor)
    right *= _kaiser(half / (taps / 2))
    whole = np.concatenate([right[::-1], right])
    return np.asarray(whole / whole.sum())


def _flattest(taps: int) -> Vector:
    """Return Lagrange's weights of the value half way between two, (taps,): exact for polynomials,
    so that few do where all that is heard lies low."""
    at = np.arange(taps) - taps / 2 + 0.5
    apart = at[:, None] - at + np.eye(taps)
    return np.asarray([np.prod(np.delete(-at, j)) for j in range(taps)] / np.prod(apart, axis=1))


def _half_band(factor: int) -> Vector:
    """Return the half-band from a factor to twice as many whole, (2 * taps - 1,), its middle 1."""
    taps = TAPS[factor]
    whole = np.zeros(2 * taps - 1)
    whole[::2], whole[taps - 1] = _flattest(taps) if factor >= 8 else _between(taps), 1.0
    return whole


def _late(frames: int) -> Stage:
    return Stage(1, 1, [(np.array([-frames]), np.ones(1))])


def _double(factor: int, delay: int, *, lift: bool) -> Stage:
    """lift: for a shaper that goes straight from one value to the next."""
    whole = _half_band(factor)
    if lift:
        whole = np.convolve(whole, [-LIFT, 1 + 2 * LIFT, -LIFT])
    middle, rows = len(whole) // 2, []
    for p in range(2 * factor):
        # Twice the place of an inner value, less that of the outer one, is odd or even as p is.
        apart = np.arange(-middle, middle + 1)
        mine = (apart % 2 == p % 2) & (whole != 0)
        rows.append(((p + apart[mine]) // 2 - delay, whole[mine]))
    return Stage(factor, 2 * factor, rows)


def _halve(factor: int, delay: int) -> Stage:
    whole = 0.5 * _half_band(factor // 2)
    apart = np.flatnonzero(whole) - len(whole) // 2
    rows = [(2 * p + apart - delay, whole[whole != 0]) for p in range(factor // 2)]
    return Stage(factor, factor // 2, rows)


def _unshape(factor: int, delay: int) -> Stage:
    taps = max(2 * TAPS[factor // 2], 16)
    apart = np.arange(taps) - taps // 2 + 1
    weights = _even(taps, factor)
    return Stage(
        factor, factor // 2, [(2 * p + apart - delay, weights) for p in range(factor // 2)]
    )


@lru_cache(maxsize=4)
def stages(quality: str) -> tuple[list[Stage], list[Stage]]:
    """Return the filters of a quality on the way up and on the way down."""
    if quality == "plain":
        return [_late(UP)], [_late(DOWN)]
    top = FACTORS[quality]
    up = [_double(1, UP - 6, lift=False), _double(2, 8, lift=False)]
    down = [_halve(4, 16), _halve(2, 2 * (DOWN - 6))]
    factor = 4
    for inner, outer in zip(INNER[top], OUTER[top], strict=True):
        last = 2 * factor == top
        up.append(_double(factor, inner, lift=last))
        down.insert(0, (_unshape if last else _halve)(2 * factor, outer))
        factor *= 2
    return up, down


SPAN = 1 + max(sum(stage.past for stage in stages(quality)[0]) for quality in FACTORS)
"""Frames on which, at most, the newest value on the way up and the one before it depend."""
Tables = tuple[int, Ints, Ints, Ints, Line]
"""A quality as the kernels take it: its factor; a row for each stage, the way up and down; where
the taps of each pair of rows of weights begin and to where they lead; their places in the room;
their weights, (2, all)."""
PAST_AT, KEPT_AT, ROOM_AT, FIRST_AT = range(1, 5)
"""Columns of a stage's row behind the values a frame that come in: frames in front, where those are
kept, where its room begins, and its first pair of rows of weights."""
Kept = tuple[Vector, Sound, Sound, Sound]
"""What is remembered, as the kernels take it: the factor that the rest is of, 0 where only the
frames are known; the last SPAN frames; what stands in front of the stages; the last value."""


@lru_cache(maxsize=4)
def tables(quality: str) -> Tables:
    """Return a quality as the kernels take it."""
    chain = [*stages(quality)[0], *stages(quality)[1]]
    rising = len(stages(quality)[0])
    rows, kept, room, first = [], 0, 0, 0
    for number, stage in enumerate(chain):
        if number == rising:
            room += stage.inner * (CHUNK + 1)
        past = SPAN if number == 0 else stage.past
        rows.append([stage.inner, past, kept, room, first])
        kept += stage.inner * past if number else 0
        room += stage.inner * (past + CHUNK)
        first += len(_pairs(stage))
    rows.append([1, 0, kept, room, first])
    pairs, places, weights = [], [], []
    taken = 0
    for number, (stage, row) in enumerate(zip(chain, rows, strict=False)):
        wide, above = row[PAST_AT] + CHUNK, rows[number + 1]
        out, width = above[ROOM_AT] + above[PAST_AT], above[PAST_AT] + CHUNK
        if number + 1 == rising:
            out, width = above[ROOM_AT] - stage.outer * (CHUNK + 1) + 1, CHUNK + 1
        for one, other, place, weight in _pairs(stage):
            frame, value = np.divmod(place, stage.inner)
            places.append(row[ROOM_AT] + value * wide + row[PAST_AT] + frame)
            weights.append(weight)
            pairs.append([taken, taken + len(place), out + one * width, out + other * width])
            taken += len(place)
    return (
        FACTORS[quality],
        np.array(rows, np.int64),
        np.array(pairs, np.int64),
        np.concatenate(places).astype(np.int64),
        np.concatenate(weights, axis=1).astype(np.float32, order="C"),
    )


def _pairs(stage: Stage) -> list[tuple[int, int, Ints, Sound]]:
    """Return a stage's rows two by two, those that are copies alone: which, of what, weights.

    Neighbours are made of nearly the same values.
    """
    copies = [p for p, (places, _) in enumerate(stage.rows) if len(places) == 1]
    sums = [p for p in range(stage.outer) if p not in copies]
    found = [(p, p, stage.rows[p][0], np.ones((2, 1))) for p in copies]
    for one, other in zip(sums[::2], [*sums[1::2], sums[-1]] if sums else [], strict=False):
        places = np.array(sorted({*stage.rows[one][0], *stage.rows[other][0]}))
        weights = np.zeros((2, len(places)))
        for row, p in enumerate((one, other)):
            weights[row, np.searchsorted(places, stage.rows[p][0])] = stage.rows[p][1]
        found.append((one, other, places, weights))
    return found


def _kept_values(quality: str) -> int:
    up, down = stages(quality)
    return sum(stage.inner * stage.past for stage in [*up[1:], *down])


KEPT = max(_kept_values(quality) for quality in FACTORS)


def shaping_state(lanes: int) -> State:
    """Return the cold state of a shaper, to be held in a processor's own."""
    return State(
        shaping_factor=np.zeros(lanes),
        shaping_frames=np.zeros((lanes, SPAN)),
        shaping_past=np.zeros((lanes, KEPT)),
        shaping_last=np.zeros((lanes, 1)),
    )


def kept(state: State) -> Kept:
    """Return what a state remembers as the kernels take it."""
    return (state["shaping_factor"], state["shaping_frames"], state["shaping_past"],
            state["shaping_last"])  # fmt: skip


def given(
    quality: str, state: State
) -> tuple[int, Ints, Ints, Ints, Line, Vector, Sound, Sound, Sound]:
    """Return `tables` and `kept` one by one, which costs a kernel less to take."""
    return *tables(quality), *kept(state)


@inlined
def room_for(tables: Tables) -> Line:
    """Return the room in which the stages work on CHUNK frames of a lane.

    Each stage's values stand there as rows of frames, one for each of a frame's values: what lies
    beside each other is found at once, and nothing is woven together or apart.
    """
    return np.empty(tables[1][-1, ROOM_AT] + CHUNK, np.float32)


@inlined
def raised(room: Line, tables: Tables, p: int, n: int) -> Line:
    """Return the p-th values of n frames, p from -1 (the one before the first) to factor - 1."""
    factor, rows = tables[0], tables[1]
    at = rows[_rising(factor), ROOM_AT] - factor * (CHUNK + 1)
    at += (factor - 1) * (CHUNK + 1) if p < 0 else p * (CHUNK + 1) + 1
    return room[at : at + n]


@inlined
def taken(room: Line, tables: Tables, p: int, n: int) -> Line:
    """Return where a shaper leaves what it takes from the p-th values of n frames: the mean over
    the step that ends there."""
    row = tables[1][_rising(tables[0])]
    at = row[ROOM_AT] + p * (row[PAST_AT] + CHUNK) + row[PAST_AT]
    return room[at : at + n]


@inlined
def _rising(factor: int) -> int:
    """Return how many stages rise to a factor."""
    stages = 1
    while 1 << stages < factor:
        stages += 1
    return stages


@inlined
def _copy(out: Line | Vector, to: int, values: Line | Vector, begin: int, n: int) -> None:
    # A part of an array would cost more than the few values; below 0 nobody asks for one.
    there, here = np.uint64(to), np.uint64(begin)
    for i in range(np.uint64(n)):
        out[there + i] = values[here + i]


@inlined
def _through(
    room: Line, tables: Tables, begin: int, end: int, n: int, kept: Vector, frames: Vector
) -> None:
    """Run stages over n frames that stand in the room of the first; what is kept moves on."""
    _, rows, pairs, places, weights = tables
    for s in range(begin, end):
        inner, past, keep, at, first = rows[s]
        wide = past + CHUNK
        for p in range(inner):
            line, memory = at + p * wide, frames if s == 0 else kept
            here = 0 if s == 0 else keep + p * past
            _copy(room, line, memory, here, past)
            _copy(memory, here, room, line + n, past)
        for pair in range(first, rows[s + 1, FIRST_AT]):
            low, high, to = pairs[pair, 0], pairs[pair, 1], pairs[pair, 2]
            if high - low == 1:
                _copy(room, to, room, places[low], n)
            else:
                sum_into(room, pairs[pair, 2:], n, places, weights, low, high)


@inlined
def _within(value: float) -> float:
    """Return a value as the rows hold it."""
    value = min(max(value, -LOUD), LOUD)
    return value if abs(value) > FAINT else 0.0


@kernel
def rise(room: Line, block: Sound, lane: int, tables: Tables, kept: Kept) -> None:
    """Fill the rows of `raised` with a lane of up to CHUNK frames, UP frames late.

    block: (frames, lanes). What is kept moves on.
    """
    factor, rows = tables[0], tables[1]
    was, frames, past, last = kept
    rising = _rising(factor)
    for i in range(SPAN):
        # As they came, where they were passed over or are of "plain".
        frames[lane, i] = _within(frames[lane, i])
    if was[lane] != factor:
        # Only the frames are of any quality; what stands in front of the stages is made of them.
        was[lane] = factor
        past[lane] = 0.0
        last[lane, 0] = 0.0
        known = frames[lane].copy()
        frames[lane] = 0.0
        line = room[rows[0, ROOM_AT] + SPAN :]
        copy_into(line[:SPAN], known)
        _through(room, tables, 0, rising, SPAN, past[lane], frames[lane])
        last[lane, 0] = raised(room, tables, factor - 1, SPAN)[SPAN - 1]
    n = len(block)
    line = room[rows[0, ROOM_AT] + SPAN :]
    for i in range(n):
        line[i] = _within(block[i, lane])
    _through(room, tables, 0, rising, n, past[lane], frames[lane])
    raised(room, tables, -1, n)[0] = last[lane, 0]
    last[lane, 0] = raised(room, tables, factor - 1, n)[n - 1]


@kernel
def fall(room: Line, n: int, lane: int, tables: Tables, kept: Kept) -> Line:
    """Return what stands in the rows of `taken` at the rate itself, (n,), DOWN frames later; what
    is kept moves on."""
    rows = tables[1]
    last = len(rows) - 1
    frames = np.empty(0)
    _through(room, tables, _rising(tables[0]), last, n, kept[2][lane], frames)
    at = rows[last, ROOM_AT]
    return room[at : at + n]


@inlined
def held(block: Sound, lane: int, kept: Kept) -> Vector:
    """Return a lane as it is, UP frames late: what is shaped without more values; what is kept
    moves on."""
    was, frames, past, last = kept
    n = len(block)
    if was[lane] != 1.0:
        was[lane] = 1.0
        past[lane] = 0.0
        last[lane, 0] = 0.0
    line = np.empty(SPAN + n)
    _copy(line, 0, frames[lane], 0, SPAN)
    for i in range(n):
        line[SPAN + i] = block[i, lane]
    _copy(frames[lane], 0, line, n, SPAN)
    return line[SPAN - UP : SPAN - UP + n]


@inlined
def late(cut: Vector, lane: int, kept: Kept) -> Vector:
    """Return what is taken from `held`, DOWN frames later; what is kept moves on."""
    past, n = kept[2], len(cut)
    line = np.empty(DOWN + n)
    _copy(line, 0, past[lane], 0, DOWN)
    _copy(line, DOWN, cut, 0, n)
    _copy(past[lane], 0, line, n, DOWN)
    return line[:n]


@kernel
def idle(block: Sound, level: float, lane: int, tables: Tables, kept: Kept) -> bool:
    """Say whether a bend that begins at a level leaves a lane of a block alone while nothing is on
    its way; then what is kept has moved on."""
    was, frames, past, _ = kept
    line = block[:, lane].copy()
    if greatest(line) > level or greatest(frames[lane]) > level:
        return False
    if was[lane] != 0.0:
        if was[lane] != tables[0]:
            return False
        falling = tables[1][_rising(tables[0]), KEPT_AT]
        if greatest(past[lane, falling:]) > 0.0:
            return False
        was[lane] = 0.0
    if len(line) < SPAN:
        copy_into(frames[lane, : SPAN - len(line)], frames[lane, len(line) :])
        copy_into(frames[lane, SPAN - len(line) :], line)
    else:
        copy_into(frames[lane], line[len(line) - SPAN :])
    return True


def _reach(quality: str) -> float:
    """Return the greatest sum of the weights that a value between the frames depends on."""
    pulse = np.zeros((2 * SPAN, 1))
    pulse[0] = 1
    for stage in stages(quality)[0]:
        values = np.concatenate([np.zeros(stage.past * stage.inner), pulse.ravel()])
        at = stage.inner * (np.arange(len(pulse)) + stage.past)[:, None]
        pulse = np.stack([values[at + places] @ weights for places, weights in stage.rows], axis=1)
    return float(np.abs(pulse).sum(axis=0).max())


BOUND = 1.05 * max(_reach(quality) for quality in FACTORS)
"""No value between the frames exceeds the frames around it by more than this factor."""
