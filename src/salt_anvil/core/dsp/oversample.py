"""Shaping without fold-back: up in half-band stages, antiderivative shaping, down in stages.

What a shaper takes away, x - f(x), is formed at 2, 4 or 8 times the rate and taken from the delayed
input, so that what is not shaped passes bit for bit. First-order antiderivative form: Parker,
Zavalishin and Le Bivic, DAFx-16. It looks half a step back and loses a little treble; the first
filter on the way down has an even length, which makes a whole step of it, and gives the treble
back.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, Literal

import numpy as np
from numba import njit
from numpy.typing import NDArray

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.fir import sum_into
from salt_anvil.core.state import State

FACTORS = {"plain": 1, "good": 2, "high": 4, "best": 8}
UP = DOWN = 30
"""Frames of delay on the way up and on the way down, the same for every quality."""
LATENCY = UP + DOWN
Bend = Callable[[Sound, Sound, int], None]
"""Fills the last columns of (lanes, ahead + factor * frames) with what it takes from lines of
values, (lanes, 1 + factor * frames), the one before them in front; in antiderivative form, half a
step late, for factors over 1."""
BETA = 11.0
"""Kaiser window for 108 dB (Kaiser 1974: 0.1102 * (A - 8.7)); stages together stay over 100."""
SHARP, SOFT = 48, 16
"""Taps of a half-band between the values: next to the rate itself, flat to 20 kHz and -100 dB from
28 kHz on at 48 kHz; and above it, where what lies between is gone already."""


@dataclass(frozen=True)
class Stage:
    """A filter from `factor` values a frame to twice or half as many, `delay` values late.

    weights: of a half-band, those between its middle and its zeros; behind the shaper, all.
    past: values that it wants in front of a block.
    """

    form: Literal["delay", "double", "halve", "unshape"]
    factor: int
    delay: int
    weights: Vector
    past: int


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


def _delay(frames: int) -> Stage:
    return Stage("delay", 1, frames, np.ones(1), frames)


def _double(factor: int, taps: int, frames: int) -> Stage:
    delay = factor * frames
    return Stage("double", factor, delay, _between(taps), delay + taps // 2 - 1)


def _halve(factor: int, taps: int, frames: int) -> Stage:
    delay = factor * frames
    return Stage("halve", factor, delay, 0.5 * _between(taps), delay + taps - 1)


def _unshape(factor: int, taps: int, frames: int) -> Stage:
    delay = factor * frames
    return Stage("unshape", factor, delay, _even(taps, factor), delay + taps // 2 - 1)


@lru_cache(maxsize=4)
def stages(quality: str) -> tuple[list[Stage], list[Stage]]:
    """Return the filters of a quality on the way up and on the way down."""
    if quality == "plain":
        return [_delay(UP)], [_delay(DOWN)]
    if quality == "good":
        return [_double(1, SHARP, UP)], [_unshape(2, 2 * SHARP, DOWN)]
    if quality == "high":
        up = [_double(1, SHARP, UP - 4), _double(2, SOFT, 4)]
        return up, [_unshape(4, 2 * SOFT, 4), _halve(2, SHARP, DOWN - 4)]
    up = [_double(1, SHARP, UP - 6), _double(2, SOFT, 4), _double(4, SOFT, 2)]
    down = [_unshape(8, 2 * SOFT, 2), _halve(4, SOFT, 4), _halve(2, SHARP, DOWN - 6)]
    return up, down


def _places(way: int) -> dict[int, tuple[int, int]]:
    """Return, by a stage's factor, where what it keeps begins and ends, the most of any quality."""
    most: dict[int, int] = {}
    for quality in FACTORS:
        for stage in stages(quality)[way]:
            most[stage.factor] = max(most.get(stage.factor, 0), stage.past)
    found, at = {}, 0
    for factor in sorted(most):
        found[factor] = (at, at + most[factor])
        at += most[factor]
    return found


PLACES = (_places(0), _places(1))
"""Columns of what is kept in front of the stages, on the way up and on the way down."""
FIRST = PLACES[0][1][1]
"""Frames that are kept in front of a block."""
KEPT = tuple(max(end for _, end in places.values()) for places in PLACES)
SPAN = KEPT[0] + 1
"""Frames on which, at most, the newest value and all that is kept on the way up depend."""


@njit(cache=True, nogil=True, error_model="numpy")
def double_into(out: Sound, lines: Sound, past: int, delay: int, weights: Vector) -> None:
    """Fill the last columns of out, (lanes, ahead + 2 n), from lines (lanes, past + n)."""
    n = lines.shape[1] - past
    ahead, between = out.shape[1] - 2 * n, np.empty(n)
    first = past - delay - len(weights) // 2 + 1
    for lane in range(len(lines)):
        sum_into(between, lines[lane, first : first + n + len(weights) - 1], weights)
        line, found = lines[lane, past - delay : past - delay + n], out[lane, ahead:]
        for i in range(n):
            found[2 * i] = line[i]
            found[2 * i + 1] = between[i]


@njit(cache=True, nogil=True, error_model="numpy")
def halve_into(out: Sound, lines: Sound, past: int, delay: int, weights: Vector) -> None:
    """Fill the last columns of out, (lanes, ahead + n / 2), from lines (lanes, past + n)."""
    n = (lines.shape[1] - past) // 2
    taps = len(weights)
    ahead, sums, odd = out.shape[1] - n, np.empty(n), np.empty(n + taps - 1)
    for lane in range(len(lines)):
        line = lines[lane, past - delay - taps + 1 :]
        for i in range(n + taps - 1):
            odd[i] = line[2 * i]
        sum_into(sums, odd, weights)
        middle, found = lines[lane, past - delay :], out[lane, ahead:]
        for i in range(n):
            found[i] = 0.5 * middle[2 * i] + sums[i]


@njit(cache=True, nogil=True, error_model="numpy")
def unshape_into(out: Sound, lines: Sound, past: int, delay: int, weights: Vector) -> None:
    """Fill the last columns of out, (lanes, ahead + n / 2), from what a shaper left half a step
    late, lines (lanes, past + n)."""
    n = (lines.shape[1] - past) // 2
    taps = len(weights) // 2
    ahead, sums, other = out.shape[1] - n, np.empty(n), np.empty(n)
    evens, odds = weights[::2].copy(), weights[1::2].copy()
    even, odd = np.empty(n + taps - 1), np.empty(n + taps - 1)
    for lane in range(len(lines)):
        line = lines[lane, past - delay - taps + 1 :]
        for i in range(n + taps - 1):
            even[i], odd[i] = line[2 * i], line[2 * i + 1]
        sum_into(sums, even, evens)
        sum_into(other, odd, odds)
        found = out[lane, ahead:]
        for i in range(n):
            found[i] = sums[i] + other[i]


@njit(cache=True, nogil=True, error_model="numpy")
def delay_into(out: Sound, lines: Sound, past: int, delay: int, weights: Vector) -> None:
    """Fill the last columns of out, (lanes, ahead + n), from lines (lanes, past + n)."""
    n = lines.shape[1] - past
    out[:, out.shape[1] - n :] = lines[:, past - delay : past - delay + n]


FORMS = ("delay", "double", "halve", "unshape")


Rows = NDArray[np.int64]
Tables = tuple[int, Rows, Sound, Rows, Sound]
"""A quality as the kernels take it: its factor; rows of form, delay, begin, end, taps and weights
of the stages on the way up; the same on the way down."""
Kept = tuple[Vector, Sound, Sound, Sound]
"""What is remembered, as the kernels take it: factor, last value, what stands in front of the
stages on the way up and on the way down."""


@lru_cache(maxsize=4)
def tables(quality: str) -> Tables:
    """Return a quality as the kernels take it."""
    return FACTORS[quality], *_plan(quality, 0), *_plan(quality, 1)


def _plan(quality: str, way: int) -> tuple[Rows, Sound]:
    chain = stages(quality)[way]
    rows = [[FORMS.index(s.form), s.delay, *PLACES[way][s.factor], len(s.weights)] for s in chain]
    weights = np.zeros((len(chain), 2 * SHARP))
    for row, stage in zip(weights, chain, strict=True):
        row[: len(stage.weights)] = stage.weights
    return np.array(rows, np.int64), weights


def kept(state: State) -> Kept:
    """Return what a state remembers as the kernels take it."""
    return (state["shaping_factor"], state["shaping_last"], state["shaping_up"],
            state["shaping_down"])  # fmt: skip


@njit(cache=True, nogil=True, error_model="numpy")
def _through(
    lines: Sound, plan: NDArray[np.int64], weights: Sound, kept: Sound, last: Sound
) -> Sound:
    """Return what a chain makes of its input, (lanes, past + values), with `last` in front.

    kept: (lanes, columns), what stands in front of each stage's input, moved on.
    """
    for s in range(len(plan)):
        form, delay, begin, end, taps = plan[s]
        past = end - begin
        count = lines.shape[1] - past
        kept[:, begin:end] = lines[:, count:]
        ahead, values = 1, count
        if s + 1 < len(plan):
            ahead = plan[s + 1, 3] - plan[s + 1, 2]
        if form == 1:
            values = 2 * count
        elif form > 1:
            values = count // 2
        out = np.empty((len(lines), ahead + values))
        for lane in range(len(lines)):
            if s + 1 < len(plan):
                out[lane, :ahead] = kept[lane, plan[s + 1, 2] : plan[s + 1, 3]]
            else:
                out[lane, 0] = last[lane, 0]
        if form == 0:
            delay_into(out, lines, past, delay, weights[s, :taps])
        elif form == 1:
            double_into(out, lines, past, delay, weights[s, :taps])
        elif form == 2:
            halve_into(out, lines, past, delay, weights[s, :taps])
        else:
            unshape_into(out, lines, past, delay, weights[s, :taps])
        lines = out
    return lines


@njit(cache=True, nogil=True, error_model="numpy")
def rise(sound: Sound, tables: Tables, kept: Kept) -> Sound:
    """Return a block and the values between its frames, UP frames late, with the one before.

    sound: (frames, lanes); the shape is (lanes, 1 + factor * frames). What is kept moves on.
    """
    factor, plan, weights, _, _ = tables
    was, last, up, down = kept
    if was[0] != factor:
        # What the stages of another quality kept is of another time.
        up[:, FIRST:] = 0.0
        last[:] = 0.0
        down[:] = 0.0
        was[0] = factor
    frames, lanes = sound.shape
    past = plan[0, 3] - plan[0, 2]
    lines = np.empty((lanes, past + frames))
    for lane in range(lanes):
        lines[lane, :past] = up[lane, :past]
        for i in range(frames):
            lines[lane, past + i] = sound[i, lane]
    lines = _through(lines, plan, weights, up, last)
    last[:, 0] = lines[:, -1]
    return lines


@njit(cache=True, nogil=True, error_model="numpy")
def room(values: int, tables: Tables, kept: Kept) -> Sound:
    """Return an array for what a bend takes from so many values, with what stands in front."""
    begin, end = tables[3][0, 2], tables[3][0, 3]
    down = kept[3]
    cut = np.empty((len(down), end - begin + values))
    cut[:, : end - begin] = down[:, begin:end]
    return cut


@njit(cache=True, nogil=True, error_model="numpy")
def fall_lines(cut: Sound, tables: Tables, kept: Kept) -> Sound:
    """Return what was filled into `room` at the rate itself, (lanes, 1 + frames), the first column
    empty; what is kept moves on."""
    return _through(cut, tables[3], tables[4], kept[3], kept[1])


@njit(cache=True, nogil=True, error_model="numpy")
def fall(cut: Sound, tables: Tables, kept: Kept) -> Sound:
    """Return `fall_lines` as (frames, lanes)."""
    lines = fall_lines(cut, tables, kept)
    out = np.empty((lines.shape[1] - 1, len(lines)))
    for lane in range(len(lines)):
        for i in range(len(out)):
            out[i, lane] = lines[lane, 1 + i]
    return out


@njit(cache=True, nogil=True, error_model="numpy")
def greatest(values: Vector) -> float:
    """Return the greatest amplitude of a line, or 0; four at a time, so that none waits."""
    a = b = c = d = 0.0
    whole = len(values) // 4 * 4
    for i in range(0, whole, 4):
        a, b = max(a, abs(values[i])), max(b, abs(values[i + 1]))
        c, d = max(c, abs(values[i + 2])), max(d, abs(values[i + 3]))
    for i in range(whole, len(values)):
        a = max(a, abs(values[i]))
    return max(max(a, b), max(c, d))


@njit(cache=True, nogil=True, error_model="numpy")
def idle(sound: Sound, level: float, kept: Kept) -> bool:
    """Say whether a bend that begins at a level leaves a block alone, and nothing is on its way."""
    _, _, up, down = kept
    if greatest(sound.ravel()) > level or greatest(down.ravel()) > 0.0:
        return False
    most = 0.0
    for line in up:
        most = max(most, greatest(line[:FIRST]))
    return most <= level


@njit(cache=True, nogil=True, error_model="numpy")
def pass_by(sound: Sound, tables: Tables, kept: Kept) -> None:
    """Move on by a block that is not shaped, as `oversampled_difference` would."""
    rise(sound[max(len(sound) - SPAN, 0) :], tables, kept)


def shaping_state(lanes: int) -> State:
    """Return the cold state of `oversampled_difference`, to be held in a processor's own."""
    return State(
        shaping_factor=np.zeros(1),
        shaping_last=np.zeros((lanes, 1)),
        shaping_up=np.zeros((lanes, KEPT[0])),
        shaping_down=np.zeros((lanes, KEPT[1])),
    )


def given(
    quality: str, state: State
) -> tuple[int, Rows, Sound, Rows, Sound, Vector, Sound, Sound, Sound]:
    """Return `tables` and `kept` one by one, which costs a kernel less to take."""
    return *tables(quality), *kept(state)


def oversampled_difference(bend: Bend, sound: Sound, quality: str, state: State) -> Sound:
    """Return what a bend takes from a block, LATENCY frames late; the state moves on."""
    table, memory = tables(quality), kept(state)
    lines = rise(sound, table, memory)
    cut = room(lines.shape[1] - 1, table, memory)
    bend(lines, cut, FACTORS[quality])
    return fall(cut, table, memory)


def _reach() -> float:
    """Return the greatest sum of the weights that a value between the frames depends on."""
    whole = np.ones(1)
    for taps in (SHARP, SOFT, SOFT):
        one = np.zeros(2 * taps - 1)
        one[::2], one[taps - 1] = _between(taps), 1.0
        spread = np.zeros(2 * len(whole) - 1)
        spread[::2] = whole
        whole = np.convolve(spread, one)
    return max(float(np.abs(whole[phase::8]).sum()) for phase in range(8))


BOUND = 1.05 * _reach()
"""No value between the frames exceeds the frames around it by more than this factor."""
