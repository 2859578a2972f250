"""deesser: turns down a range of the spectrum where it sticks out."""

from functools import reduce
from typing import Literal

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import dynamics as d
from salt_anvil.core.dsp import sibilance as e
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.delay import keep, no_wait
from salt_anvil.core.dsp.stereo import from_mid_side, to_mid_side
from salt_anvil.core.processors.base import (
    NOTHING,
    Context,
    Params,
    Processor,
    Report,
    Setup,
    Step,
    choice,
    number,
)
from salt_anvil.core.processors.drawing import Drawing
from salt_anvil.core.processors.fields import Stereo, knee, link, stereo
from salt_anvil.core.processors.parts import cells_of, with_past
from salt_anvil.core.state import State

RANGE_MS, WHOLE_MS = 2.0, 10.0
"""Times of the mean squares of the range and of the whole; common practice, no source."""


class DeesserParams(Params):
    """Parameters of the de-esser."""

    frequency_hz: float = number(
        6500,
        1000,
        16000,
        label="Frequency",
        unit="Hz",
        scale="log",
        step=10,
        change="switch",
        marks=(1000, 2000, 4000, 8000, 16000),
        doc="Lower end of the range, or its middle.",
    )
    width_oct: float = number(
        1,
        0.2,
        3,
        label="Width",
        unit="oct",
        step=0.05,
        change="switch",
        marks=(0.2, 1, 2, 3),
        when={"shape": ["band"]},
        doc="Width of the range.",
    )
    threshold_db: float = number(
        -12,
        -60,
        0,
        label="Threshold",
        unit="dB",
        scale="db",
        marks=(-60, -48, -36, -24, -12, 0),
        doc="Level of the range above which it is turned down.",
    )
    ratio: float = number(
        4,
        1,
        20,
        label="Ratio",
        unit=": 1",
        scale="log",
        marks=(1, 2, 4, 8, 20),
        doc="Input dB above the threshold for one dB more out.",
    )
    max_reduction_db: float = number(
        12,
        0,
        36,
        label="Most reduction",
        unit="dB",
        marks=(0, 6, 12, 24, 36),
        doc="It never takes more than this.",
    )
    knee_db: float = knee()
    attack_ms: float = number(
        1,
        0.05,
        50,
        label="Attack",
        unit="ms",
        scale="log",
        step=0.01,
        marks=(0.1, 1, 10),
        doc="Time to 63 % of a new, greater reduction.",
    )
    release_ms: float = number(
        40,
        5,
        500,
        label="Release",
        unit="ms",
        scale="log",
        marks=(5, 20, 100, 500),
        doc="Time in which 63 % of the reduction is gone.",
    )
    second_hz: float | None = number(
        None,
        1000,
        16000,
        label="Second range",
        unit="Hz",
        scale="log",
        step=10,
        change="switch",
        marks=(1000, 2000, 4000, 8000, 16000),
        doc="Middle of another range with the same settings; open: none.",
    )
    second_width_oct: float = number(
        0.7,
        0.2,
        3,
        label="Second width",
        unit="oct",
        step=0.05,
        change="switch",
        marks=(0.2, 1, 2, 3),
        doc="Width of the second range.",
    )
    link: float = link()
    shape: Literal["above", "band"] = choice(
        "above", label="Shape", doc="Everything above the frequency, or a band around it."
    )
    slope: Literal["12", "24", "48"] = choice(
        "24",
        label="Slope",
        doc="How steeply the range ends, in dB per octave; gently below 4 kHz, as it is drawn.",
    )
    action: Literal["split", "wide"] = choice(
        "split", label="Action", doc="Split turns down the range alone, wide the whole sound."
    )
    stereo: Stereo = stereo()
    relative: bool = choice(
        True,
        label="Relative",
        change="glide",
        doc="The threshold is against the level of the whole, so that quiet words count too.",
    )


class DeesserDrawing(Drawing):
    """The ranges' responses in dB at frequencies in Hz, and where the first begins and ends."""

    hz: list[float]
    ranges: list[list[float]]
    low_hz: float
    high_hz: float | None


class Deesser(Processor[DeesserParams]):
    """De-esser that cuts its range out with linear phase: what it leaves alone is the input."""

    kind = "deesser"
    title = "De-esser"
    doc = "Turns down a range where it sticks out of the sound: s, sh, whistles, fret noise."
    Params = DeesserParams
    drawn_as = DeesserDrawing
    pictures = ("range",)
    marked = "stretches"
    has_sidechain = True
    level_line = "threshold_db"

    def latency(self, params: DeesserParams, rate: int) -> int:
        return e.half_length(rate)

    def hears_waveform(self, params: DeesserParams) -> bool:
        return False

    def controls(self, params: DeesserParams, context: Context) -> Vector:
        rate = context.rate
        vector = np.zeros(e.CONTROLS)
        vector[d.THRESHOLD] = params.threshold_db
        vector[d.SLOPE] = 1 - 1 / params.ratio
        vector[d.KNEE] = params.knee_db
        vector[d.MOST] = params.max_reduction_db
        vector[d.ATTACK] = d.rate_of(params.attack_ms, rate)
        vector[d.RELEASE] = d.rate_of(params.release_ms, rate)
        vector[d.RMS] = d.rate_of(RANGE_MS, rate)
        vector[d.LINK] = params.link
        vector[e.RELATIVE] = params.relative
        vector[e.WHOLE] = d.rate_of(WHOLE_MS, rate)
        return vector

    def prepare(self, params: DeesserParams, context: Context) -> State:
        channels = context.channels
        past = np.zeros((2 * e.half_length(context.rate), channels))
        state = State(past=past, taken=np.zeros(channels), heard=np.full(channels, -300.0))
        state["key"] = past.copy()
        for index in range(2):
            state[f"detector{index}"] = np.zeros((d.STATES, channels))
            state[f"power{index}"] = np.zeros(channels)
        return state

    def step(self, setup: Setup[DeesserParams]) -> Step:
        params, context, ramp, state, told = setup
        sides = params.stereo == "mid-side" and context.channels == 2
        half, still = e.half_length(context.rate), np.zeros(len(ramp.value))
        ranges = [
            (taps, state[f"detector{index}"], state[f"power{index}"])
            for index, taps in enumerate(_ranges(params, context.rate))
        ]

        def run(block: Sound, key: Sound, start: int) -> tuple[Sound, Report]:
            own = key is block
            sound = listened = _joined(block, state["past"], sides)
            if own:
                keep(block, state["key"])
            else:
                listened = _joined(key, state["key"], sides)
            late = sound[half : half + len(block)]
            heard_late = np.ascontiguousarray(listened[half : half + len(block)])
            out, found = late.copy(), []
            for taps, detector, power in ranges:
                band, taken, heard = (np.empty_like(block) for _ in range(3))
                e.range_into(band, listened, taps)
                e.ess_into(
                    taken, heard, band, heard_late, start, ramp.value, ramp.step, detector, power
                )
                found.append((taken, heard))
                if params.action == "split":
                    mine = band
                    if not own:
                        mine = np.empty_like(block)
                        e.range_into(mine, sound, taps)
                    less = np.empty_like(block)
                    d.gain_into(less, mine, taken, start, still, still, no_wait(mine))
                    e.take_into(out, less, mine)
            reduction, loudest = (reduce(np.maximum, told_) for told_ in zip(*found, strict=True))
            if params.action == "wide":
                full = np.ascontiguousarray(late)
                d.gain_into(out, full, reduction, start, still, still, no_wait(full))
            if sides:
                out = from_mid_side(out)
            if not told:
                return out, NOTHING
            behind = start - half
            cells = {"reduction_db": cells_of(reduction, behind, state["taken"], 0.0)}
            if context.observe:
                cells["level_db"] = cells_of(loudest, behind, state["heard"], -300.0)
            return out, Report(behind // GRID, cells)

        return run

    def drawing(self, params: DeesserParams, context: Context) -> DeesserDrawing:
        hz = np.geomspace(200, min(20000, 0.49 * context.rate), 160)
        shapes = [e.response_db(t, hz, context.rate) for t in _ranges(params, context.rate)]
        low, high = params.frequency_hz, None
        if params.shape == "band":
            high = params.frequency_hz * 2 ** (params.width_oct / 2)
            low = params.frequency_hz * 2 ** (-params.width_oct / 2)
        return DeesserDrawing(
            hz=hz.tolist(),
            ranges=[shape.tolist() for shape in shapes],
            low_hz=low,
            high_hz=high,
        )


def _ranges(params: DeesserParams, rate: int) -> Vector:
    top = 0.49 * rate
    width = params.width_oct if params.shape == "band" else None
    second = None
    if params.second_hz is not None:
        second = (min(params.second_hz, top), params.second_width_oct)
    return e.ranges(rate, int(params.slope), (min(params.frequency_hz, top), width), second)


def _joined(block: Sound, past: Sound, sides: bool) -> Sound:
    """Return `with_past`, as middle and side or not."""
    whole = with_past(block, past)
    return to_mid_side(whole) if sides else whole
