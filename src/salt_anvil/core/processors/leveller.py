"""leveller: brings a performance to one level, slowly, without touching its dynamics."""

import numpy as np

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp import slow_leveller as v
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.delay import no_wait
from salt_anvil.core.dsp.dynamics import gain_into, rate_of
from salt_anvil.core.processors.base import (
    NOTHING,
    Context,
    Params,
    Processor,
    Report,
    Setup,
    Step,
    number,
)
from salt_anvil.core.processors.parts import change_report, wide
from salt_anvil.core.state import State


class LevellerParams(Params):
    """Parameters of the leveller."""

    target_db: float = number(
        -20,
        -40,
        -6,
        label="Target",
        unit="dB",
        scale="db",
        marks=(-40, -30, -20, -12, -6),
        doc="Mean level that it aims at (RMS, full-scale square wave: 0 dB).",
    )
    rise_db_s: float = number(
        2,
        0.1,
        40,
        label="Rise",
        unit="dB/s",
        scale="log",
        marks=(0.1, 1, 10, 40),
        doc="How fast the gain goes up.",
    )
    fall_db_s: float = number(
        6,
        0.1,
        40,
        label="Fall",
        unit="dB/s",
        scale="log",
        marks=(0.1, 1, 10, 40),
        doc="How fast the gain goes down.",
    )
    max_gain_db: float = number(
        12,
        0,
        30,
        label="Most gain",
        unit="dB",
        marks=(0, 6, 12, 18, 24, 30),
        doc="It never turns up by more than this.",
    )
    max_cut_db: float = number(
        12,
        0,
        30,
        label="Most cut",
        unit="dB",
        marks=(0, 6, 12, 18, 24, 30),
        doc="It never turns down by more than this.",
    )
    floor_db: float = number(
        -50,
        -80,
        -20,
        label="Floor",
        unit="dB",
        scale="db",
        marks=(-80, -65, -50, -35, -20),
        doc="Below this mean level, in pauses, the gain is left alone.",
    )
    mean_ms: float = number(
        400,
        50,
        3000,
        label="Mean over",
        unit="ms",
        scale="log",
        marks=(50, 200, 1000, 3000),
        doc="Time constant of the mean level.",
    )


class Leveller(Processor[LevellerParams]):
    """Slow automatic level; both channels get the same gain."""

    kind = "leveller"
    title = "Leveller"
    doc = "Walks the level towards a target, a few dB a second, and rests in the pauses."
    Params = LevellerParams
    has_sidechain = True

    def controls(self, params: LevellerParams, context: Context) -> Vector:
        vector = np.zeros(v.CONTROLS)
        vector[v.TARGET] = params.target_db
        vector[v.RISE] = params.rise_db_s / context.rate
        vector[v.FALL] = params.fall_db_s / context.rate
        vector[v.MOST] = params.max_gain_db
        vector[v.LEAST] = params.max_cut_db
        vector[v.FLOOR] = params.floor_db
        vector[v.MEAN] = rate_of(params.mean_ms, context.rate)
        return vector

    def prepare(self, params: LevellerParams, context: Context) -> State:
        return State(
            walk=np.zeros(v.STATES),
            taken=np.zeros(context.channels),
            given=np.zeros(context.channels),
            heard=np.full(context.channels, -300.0),
        )

    def step(self, setup: Setup[LevellerParams]) -> Step:
        _, context, ramp, state, told = setup
        still = np.zeros(len(ramp.value))

        def run(block: Sound, key: Sound, start: int) -> tuple[Sound, Report]:
            gain, heard = np.empty(len(block)), np.empty(len(block))
            v.level_into(gain, heard, key, start, ramp.value, ramp.step, state["walk"])
            change = wide(gain[:, None], block)
            out = np.empty_like(block)
            gain_into(out, block, -change, start, still, still, no_wait(block))
            if not told:
                return out, NOTHING
            level = wide(heard[:, None], block) if context.observe else None
            return out, change_report(change, level, start, state)

        return run
