"""expander: makes the distance between quiet and loud greater, downwards or upwards."""

from typing import Literal

import numpy as np

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp import dynamics as d
from salt_anvil.core.dsp import expander_curve as e
from salt_anvil.core.dsp import listening
from salt_anvil.core.dsp.control_ramp import Vector
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
from salt_anvil.core.processors.drawing import LevelCurve
from salt_anvil.core.processors.fields import Detector, detector, knee, link, lookahead, rms_time
from salt_anvil.core.processors.parts import change_report
from salt_anvil.core.state import State


class ExpanderParams(Params):
    """Parameters of the expander."""

    threshold_db: float = number(
        -36,
        -80,
        0,
        label="Threshold",
        unit="dB",
        scale="db",
        marks=(-80, -60, -40, -20, 0),
        doc="Below it (or above it) the distances grow.",
    )
    ratio: float = number(
        2,
        1,
        20,
        label="Ratio",
        unit=": 1",
        scale="log",
        marks=(1, 2, 4, 8, 20),
        doc="Output dB for every input dB beyond the threshold.",
    )
    range_db: float = number(
        24,
        0,
        60,
        label="Range",
        unit="dB",
        marks=(0, 12, 24, 36, 48, 60),
        doc="The gain never changes by more than this.",
    )
    knee_db: float = knee()
    attack_ms: float = number(
        5,
        0.05,
        200,
        label="Attack",
        unit="ms",
        scale="log",
        step=0.01,
        marks=(0.1, 1, 10, 100),
        doc="Time to 63 % of the way when it gets louder.",
    )
    hold_ms: float = number(
        10,
        0,
        500,
        label="Hold",
        unit="ms",
        marks=(0, 100, 200, 300, 400, 500),
        doc="Time that the gain stands before it follows a quieter sound.",
    )
    release_ms: float = number(
        150,
        5,
        4000,
        label="Release",
        unit="ms",
        scale="log",
        marks=(5, 20, 100, 500, 2000),
        doc="Time to 63 % of the way when it gets quieter.",
    )
    lookahead_ms: float = lookahead("The gain moves this much before the sound.")
    link: float = link()
    rms_ms: float = rms_time()
    direction: Literal["down", "up"] = choice(
        "down", label="Direction", doc="Turns the quiet down, or the loud up."
    )
    detector: Detector = detector()


class Expander(Processor[ExpanderParams]):
    """Expander with a soft knee and a range, in both directions."""

    kind = "expander"
    title = "Expander"
    doc = "Widens dynamics: quiet sound goes down, or loud sound up, by a ratio within a range."
    Params = ExpanderParams
    drawn_as = LevelCurve
    pictures = ("curve", "hits")
    has_sidechain = True
    level_line = "threshold_db"

    def latency(self, params: ExpanderParams, rate: int) -> int:
        return round(params.lookahead_ms * rate / 1000) + listening.LATENCY

    def hears_waveform(self, params: ExpanderParams) -> bool:
        return params.detector == "peak"

    def controls(self, params: ExpanderParams, context: Context) -> Vector:
        rate = context.rate
        vector = np.zeros(d.CONTROLS)
        vector[d.THRESHOLD] = params.threshold_db
        vector[d.SLOPE] = params.ratio - 1
        vector[d.KNEE] = params.knee_db
        vector[d.MOST] = params.range_db
        vector[d.ATTACK] = d.rate_of(params.attack_ms, rate)
        vector[d.RELEASE] = d.rate_of(params.release_ms, rate)
        vector[d.HOLD] = params.hold_ms * rate / 1000
        vector[d.RMS] = d.rate_of(params.rms_ms, rate)
        vector[d.LINK] = params.link
        return vector

    def prepare(self, params: ExpanderParams, context: Context) -> State:
        channels = context.channels
        state = State(
            detector=np.zeros((d.STATES, channels)),
            past=np.zeros((self.latency(params, context.rate), channels)),
            taken=np.zeros(channels),
            given=np.zeros(channels),
            heard=np.full(channels, -300.0),
        )
        state.nest("key_", listening.memory(context.rate, channels))
        return state

    def step(self, setup: Setup[ExpanderParams]) -> Step:
        params, context, ramp, state, told = setup
        peaks, way = params.detector == "peak", e.UP if params.direction == "up" else e.DOWN
        flags = np.array([d.PEAK if peaks else d.MEAN_SQUARE, way], np.int64)
        key_state, past, still = state.nested("key_"), state["past"], np.zeros(len(ramp.value))

        def run(block: Sound, key: Sound, start: int) -> tuple[Sound, Report]:
            change, heard, out = (np.empty_like(block) for _ in range(3))
            listened = listening.heard(key, peaks, key_state)
            e.expand_into(
                change, heard, listened, start, ramp.value, ramp.step, flags, state["detector"]
            )
            d.gain_into(out, block, -change, start, still, still, past)
            if not told:
                return out, NOTHING
            late = start - len(past)
            level = heard if context.observe else None
            return out, change_report(change, level, late, state)

        return run

    def drawing(self, params: ExpanderParams, context: Context) -> LevelCurve:
        levels = [-80 + 0.5 * i for i in range(161)]
        way = e.UP if params.direction == "up" else e.DOWN
        p = params
        curve = [
            (x, x + e.expansion(x, p.threshold_db, p.ratio - 1, p.knee_db, p.range_db, way))
            for x in levels
        ]
        return LevelCurve(curve=curve, bare=curve)
