"""gate: lets through what is loud enough, and closes behind it."""

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import listening
from salt_anvil.core.dsp import noise_gate as g
from salt_anvil.core.dsp.control_ramp import Ramp, Vector
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.dsp.delay import scaled
from salt_anvil.core.dsp.dynamics import rate_of
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
from salt_anvil.core.processors.drawing import LevelCurve
from salt_anvil.core.processors.fields import link, lookahead
from salt_anvil.core.processors.parts import cells_of, level_cells
from salt_anvil.core.state import State

DETECT_MS = 3.0
"""Time in which the detector falls by 63 %; common practice, no source."""


class GateParams(Params):
    """Parameters of the gate."""

    threshold_db: float = number(
        -40,
        -80,
        0,
        label="Threshold",
        unit="dB",
        scale="db",
        marks=(-80, -60, -40, -20, 0),
        doc="Level at which the gate opens.",
    )
    hysteresis_db: float = number(
        4,
        0,
        24,
        label="Hysteresis",
        unit="dB",
        marks=(0, 4, 8, 12, 24),
        doc="The gate closes this much below the threshold; 0 chatters on a hovering level.",
    )
    depth_db: float = number(
        80,
        0,
        100,
        label="Depth",
        unit="dB",
        marks=(0, 20, 40, 60, 80, 100),
        doc="How much the closed gate takes away.",
    )
    attack_ms: float = number(
        1,
        0.02,
        100,
        label="Attack",
        unit="ms",
        scale="log",
        step=0.01,
        marks=(0.02, 0.1, 1, 10, 100),
        doc="Time to 63 % of the opening; a slow one loses the first edge.",
    )
    hold_ms: float = number(
        20,
        0,
        2000,
        label="Hold",
        unit="ms",
        marks=(0, 500, 1000, 1500, 2000),
        step=0.5,
        doc="Time that it stays open behind the sound; 1 to 2 ms take a quick release's ticks.",
    )
    release_ms: float = number(
        120,
        1,
        4000,
        label="Release",
        unit="ms",
        scale="log",
        marks=(1, 10, 100, 1000, 4000),
        doc="Time in which it has closed by 63 % of its depth in dB.",
    )
    lookahead_ms: float = lookahead("Opens this much before the sound, so that no edge is lost.")
    link: float = link("1: the louder channel opens both; 0: each for itself.")


class GateDrawing(LevelCurve):
    """Its curve, open, and the levels at which it opens and closes."""

    opens_db: float
    closes_db: float


def _quiet(ramp: Ramp) -> float:
    """Return the amplitude under which it does not matter what the detector hears: below both
    thresholds, and nothing of it is added to another channel."""
    closes, link = ramp.level(g.CLOSE_AT), ramp.level(g.LINK)
    return closes if closes is not None and link in (0.0, 1.0) else 0.0


class Gate(Processor[GateParams]):
    """Gate with two thresholds, hold and look-ahead."""

    kind = "gate"
    title = "Gate"
    doc = "Closes on what is quieter than a threshold: bleed, noise, tails."
    Params = GateParams
    drawn_as = GateDrawing
    pictures = ("gate",)
    has_sidechain = True
    level_line = "threshold_db"

    def latency(self, params: GateParams, rate: int) -> int:
        return round(params.lookahead_ms * rate / 1000) + listening.LATENCY

    def controls(self, params: GateParams, context: Context) -> Vector:
        rate = context.rate
        vector = np.zeros(g.CONTROLS)
        vector[g.OPEN_AT] = to_gain(params.threshold_db)
        vector[g.CLOSE_AT] = to_gain(params.threshold_db - params.hysteresis_db)
        vector[g.FLOOR] = to_gain(-params.depth_db)
        vector[g.ATTACK] = rate_of(params.attack_ms, rate)
        vector[g.RELEASE] = g.fall_rate(params.depth_db, params.release_ms, rate)
        vector[g.HOLD] = params.hold_ms * rate / 1000
        vector[g.LINK] = params.link
        vector[g.FALL] = rate_of(DETECT_MS, rate)
        return vector

    def prepare(self, params: GateParams, context: Context) -> State:
        channels = context.channels
        detector = np.zeros((g.STATES, channels))
        detector[g.GAIN] = to_gain(-params.depth_db)
        state = State(
            detector=detector,
            past=np.zeros((self.latency(params, context.rate), channels)),
            least=np.full(channels, -1.0),
            phase=np.zeros(channels),
            opened=np.zeros(channels),
            heard=np.zeros(channels),
        )
        state.nest("key_", listening.memory(context.rate, channels))
        return state

    def step(self, setup: Setup[GateParams]) -> Step:
        _, context, ramp, state, told = setup
        key_state, past = state.nested("key_"), state["past"]
        least = 0.0 if told else _quiet(ramp)

        def run(block: Sound, key: Sound, start: int) -> tuple[Sound, Report]:
            gain = np.empty_like(block)
            drawn = told and context.observe
            level, phases, opened = np.empty((3, len(block) if drawn else 0, context.channels))
            listened = listening.heard(key, True, key_state, least)
            g.gate_into(
                gain,
                level,
                phases,
                opened,
                listened,
                start,
                ramp.value,
                ramp.step,
                state["detector"],
            )
            out = scaled(block, gain, past)
            if not told:
                return out, NOTHING
            late = start - len(past)
            # Of a cell, the least gain is the most reduction.
            least_gain = -cells_of(-gain, late, state["least"], -1.0)
            cells = {"reduction_db": -20 * np.log10(np.maximum(least_gain, 1e-6))}
            if drawn:
                cells["phase"] = cells_of(phases, late, state["phase"], 0.0)
                cells["opened"] = cells_of(opened, late, state["opened"], 0.0)
                cells["level_db"] = level_cells(level, late, state["heard"])
            return out, Report(late // GRID, cells)

        return run

    def drawing(self, params: GateParams, context: Context) -> GateDrawing:
        levels = [-80 + 0.5 * i for i in range(161)]
        opens, closes = params.threshold_db, params.threshold_db - params.hysteresis_db
        curve = [(x, x if x >= opens else x - params.depth_db) for x in levels]
        return GateDrawing(curve=curve, bare=curve, opens_db=opens, closes_db=closes)
