"""What several processors share: cells of reports, gains, ranges."""

import math
from functools import lru_cache
from typing import TypeVar

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import biquad, listening, quadrature, sharing
from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp import waveshaper as s
from salt_anvil.core.dsp.blend import JoinMeasurement, kept_db
from salt_anvil.core.dsp.control_ramp import Ramp, Vector
from salt_anvil.core.dsp.delay import no_wait
from salt_anvil.core.dsp.dynamics import cell_maxima, change_maxima, gain_into
from salt_anvil.core.dsp.stereo import doubled
from salt_anvil.core.errors import SettingError
from salt_anvil.core.processors.base import Params, Report
from salt_anvil.core.processors.fields import Quality
from salt_anvil.core.state import State

P = TypeVar("P", bound=Params)
NOTHING_SHARED = np.empty((0, 2))
LAGS = (12, 72)
"""Frames by which two poles each let a sound's envelope, and the offset by it, lag behind it."""
RATES = (-math.expm1(-2 / LAGS[0]), -math.expm1(-2 / LAGS[1]))
QUIET = 1e-15
"""Amplitude under which levels are not told: -300 dB."""
OFFSET_HZ = 5.0
"""Below it, what a bend adds is an offset; common practice, no source."""


def with_past(block: Sound, past: Sound) -> Sound:
    """Return the past with the block behind it; the past moves on."""
    whole = np.concatenate([past, block])
    past[:] = whole[len(block) :]
    return whole


def cells_of(values: Sound, start: int, carry: Sound, rest: float) -> Sound:
    """Return the maxima of the 64-frame cells that end inside this block."""
    cells = np.empty((len(values) // GRID + 1, values.shape[1]))
    return cells[: cell_maxima(values, start, carry, rest, cells)]


def shared_cells(values: Sound, block: Sound, start: int, carry: Sound) -> Sound:
    """Return the maxima of what is the same for all channels, (frames, 1), for each of them."""
    return wide(cells_of(values, start, carry[:1], 0.0), block)


def level_cells(amplitudes: Sound, start: int, carry: Sound) -> Sound:
    """Return the levels in dB of such cells; carry: the amplitude of the unfinished one."""
    return np.asarray(20 * np.log10(np.maximum(cells_of(amplitudes, start, carry, 0.0), QUIET)))


def change_cells(change: Sound, start: int, state: State) -> dict[str, Sound]:
    """Return what a change of gain in dB, (frames, channels), takes and gives, as reports tell it.

    state: what of it lies in the unfinished cells, "taken" and "given"; changed.
    """
    less, more = np.empty((2, len(change) // GRID + 1, change.shape[1]))
    done = change_maxima(change, start, state["taken"], state["given"], less, more)
    return {"reduction_db": less[:done], "boost_db": more[:done]}


def change_report(change: Sound, level: Sound | None, start: int, state: State) -> Report:
    """Return the report of a change of gain in dB, and of the level that asked for it where it is
    drawn; state: as in `change_cells`, with "heard"."""
    cells = change_cells(change, start, state)
    if level is not None:
        cells["level_db"] = cells_of(level, start, state["heard"], -300.0)
    return Report(start // GRID, cells)


def wide(values: Sound, block: Sound) -> Sound:
    """Return what is the same for all channels, (frames, 1), with a column for each."""
    # Of one channel it would be a view that cannot be written, another type to the kernels.
    channels = block.shape[1]
    return values if values.shape[1] == channels else doubled(values)


def gained(
    sound: Sound,
    ramp: Ramp,
    index: int,
    start: int,
    reduction: Sound | None = None,
    past: Sound | None = None,
) -> Sound:
    """Return the sound less a reduction, with a control's gain in dB; itself where both are 0.

    past: as late as that is long, and it is moved on; for a reduction alone.
    """
    level = ramp.level(index)
    if reduction is None and level is not None:
        return sound * amplitude(level) if level else sound
    if ramp.bent(index):
        line = wide(ramp.frames(index, start, len(sound)), sound)
        reduction = -line if reduction is None else reduction - line
        gain = step = np.zeros(len(ramp.value))
    else:
        gain, step = ramp.column(index)
    out = np.empty_like(sound)
    less = np.zeros_like(sound) if reduction is None else reduction
    gain_into(out, sound, less, start, gain, step, no_wait(sound) if past is None else past)
    return out


def linking_state(rate: int) -> State:
    """Return what is remembered of what two channels tell each other."""
    state = listening.memory(rate, 2)
    state.update(range=np.zeros((2, 2, 2)), shared=np.zeros((sharing.STATES, 2)))
    return state


@lru_cache(maxsize=1024)
def amplitude(level: float) -> float:
    """Return the gain of a level in dB, as `gain_into` has it to the bit."""
    out, still = np.empty((1, 1)), np.zeros(1)
    one = np.ones((1, 1))
    gain_into(out, one, np.zeros((1, 1)), 0, np.array([level]), still, no_wait(one))
    return float(out[0, 0])


def check_range(low_name: str, low: float | None, high_name: str, high: float | None) -> None:
    """Raise SettingError where a range is upside down."""
    if low is not None and high is not None and low >= high:
        raise SettingError(
            f"{low_name} is {low:g} and {high_name} {high:g}; the low end has to be below the"
            " high one"
        )


@lru_cache(maxsize=256)
def range_sections(low: float | None, high: float | None, rate: int) -> Sound:
    """Return the filters of a range, 12 dB an octave at each end that is set, (0 to 2, 5)."""
    found = []
    if low is not None:
        found.append(biquad.high_pass(low, rate))
    if high is not None:
        found.append(biquad.low_pass(high, rate))
    return np.array(found).reshape(-1, 5)


def keeping(
    params: P, measured: JoinMeasurement | None, mix: float, most_db: float, level: str
) -> P:
    """Return settings with the gain that keeps the loudness; level: the gain that comes on top.

    None: as they are for measuring, with neither gain.
    """
    given = {"given_back_db": 0.0, level: 0.0}
    if measured is not None:
        given = {"given_back_db": kept_db(measured, mix, most_db)}
    return params.model_copy(update=given)


def in_range(sound: Sound, sections: Sound, memory: Sound) -> Sound:
    """Return what passes the sections; the sound itself where there are none."""
    if not len(sections):
        return sound
    out = np.empty_like(sound)
    biquad.filter_into(out, sound, sections, memory)
    return out


def offset_state(channels: int) -> State:
    """Return what `bent` remembers of the offset, cold."""
    return State(
        rest=np.zeros((channels, 2)),
        waves=np.zeros((channels, quadrature.SECTIONS + 2, 4)),
        even=np.zeros((o.LATENCY - o.UP, channels)),
        offset=np.zeros((o.LATENCY - sum(LAGS), channels)),
    )


def bent(
    sound: Sound,
    start: int,
    odd: tuple[Vector, Vector],
    lean: tuple[Vector, Vector],
    rate: int,
    quality: Quality,
    state: State,
) -> Sound:
    """Return what a bend takes, o.LATENCY frames late, without the offset of its even part.

    odd, lean: value and step per grid point. state: that of the shaping, with `offset_state` under
    "offset_"; changed. The offset follows the envelope of the sound, so that none is heard as a
    thump where a note begins or ends; what is left of it falls to nothing below OFFSET_HZ. Taking
    it from the even part alone leaves low notes where they are.
    """
    mine = state.nested("offset_")
    cut, evens = s.bend_block(
        sound, start, odd[0], odd[1], lean[0], lean[1], *o.given(quality, state)
    )
    s.take_offset(
        cut,
        evens,
        sound,
        start,
        *odd,
        *lean,
        RATES,
        quadrature.all_passes(rate),
        biquad.high_pass(OFFSET_HZ, rate),
        mine["waves"],
        mine["rest"],
        mine["even"],
        mine["offset"],
    )
    return np.asarray(cut)
