"""ducker: a hit in the key sets off one envelope, whatever its strength."""

from typing import Literal

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import duck_envelope as d
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.dsp.dynamics import gain_into, rate_of
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
from salt_anvil.core.processors.drawing import Drawing, Line
from salt_anvil.core.processors.fields import lookahead
from salt_anvil.core.processors.parts import level_cells, shared_cells, wide
from salt_anvil.core.state import State

DETECT_MS = 3.0
"""Time in which the detector falls by 63 %; common practice, no source."""


class DuckerParams(Params):
    """Parameters of the ducker."""

    threshold_db: float = number(
        -24,
        -80,
        0,
        label="Threshold",
        unit="dB",
        scale="db",
        marks=(-80, -60, -40, -20, 0),
        doc="A hit is what rises above this level.",
    )
    depth_db: float = number(
        12,
        0,
        60,
        label="Depth",
        unit="dB",
        marks=(0, 12, 24, 36, 48, 60),
        doc="How much every hit takes away, loud or soft.",
    )
    attack_ms: float = number(
        1,
        0,
        50,
        label="Attack",
        unit="ms",
        step=0.1,
        marks=(0, 10, 20, 30, 40, 50),
        doc="Time on the way down, straight in dB.",
    )
    hold_ms: float = number(
        0,
        0,
        1000,
        label="Hold",
        unit="ms",
        step=1,
        marks=(0, 250, 500, 750, 1000),
        doc="Time at the bottom.",
    )
    decay_ms: float = number(
        120,
        5,
        4000,
        label="Decay",
        unit="ms",
        scale="log",
        marks=(5, 20, 100, 500, 2000),
        doc="Time until it is all back; 20 to 25 ms only make way for the hit itself.",
    )
    retrigger_ms: float = number(
        60,
        0,
        1000,
        label="Retrigger",
        unit="ms",
        step=1,
        marks=(0, 250, 500, 750, 1000),
        doc="No other hit counts for so long.",
    )
    lookahead_ms: float = lookahead("The envelope begins this much before the hit.")
    shape: Literal["straight", "curved"] = choice(
        "curved", label="Shape", doc="The way back: straight in dB, or slowing down at its end."
    )


class DuckerDrawing(Drawing):
    """The gain in dB over the milliseconds after a hit."""

    envelope: Line


class Ducker(Processor[DuckerParams]):
    """Envelope ducker."""

    kind = "ducker"
    title = "Ducker"
    doc = "Every hit in its key takes the same bite out of the sound and lets it come back."
    Params = DuckerParams
    drawn_as = DuckerDrawing
    pictures = ("envelope", "hits")
    has_sidechain = True
    level_line = "threshold_db"

    def latency(self, params: DuckerParams, rate: int) -> int:
        return round(params.lookahead_ms * rate / 1000)

    def controls(self, params: DuckerParams, context: Context) -> Vector:
        frames = context.rate / 1000
        vector = np.zeros(d.CONTROLS + 1)
        vector[d.THRESHOLD] = to_gain(params.threshold_db)
        vector[d.RETRIGGER] = params.retrigger_ms * frames
        # A cut within one frame would click: at least a tenth of a millisecond.
        vector[d.ATTACK] = max(params.attack_ms, 0.1) * frames
        vector[d.HOLD] = params.hold_ms * frames
        vector[d.DECAY] = params.decay_ms * frames
        vector[d.FALL] = rate_of(DETECT_MS, context.rate)
        vector[d.CONTROLS] = params.depth_db
        return vector

    def prepare(self, params: DuckerParams, context: Context) -> State:
        channels = context.channels
        envelope = np.zeros(d.STATES)
        envelope[d.ARMED], envelope[d.SINCE] = 1.0, 1e9
        return State(
            envelope=envelope,
            past=np.zeros((self.latency(params, context.rate), channels)),
            taken=np.zeros(channels),
            opened=np.zeros(channels),
            heard=np.zeros(channels),
        )

    def step(self, setup: Setup[DuckerParams]) -> Step:
        params, context, ramp, state, told = setup
        curved, past, still = params.shape == "curved", state["past"], np.zeros(len(ramp.value))

        def run(block: Sound, key: Sound, start: int) -> tuple[Sound, Report]:
            envelope, hits = np.empty(len(block)), np.empty((len(block), 1))
            d.duck_into(
                envelope, hits, key, start, ramp.value, ramp.step, curved, state["envelope"]
            )
            taken = envelope[:, None] * ramp.frames(d.CONTROLS, start, len(block))
            out = np.empty_like(block)
            gain_into(out, block, wide(taken, block), start, still, still, past)
            if not told:
                return out, NOTHING
            late = start - len(past)
            cells = {
                "reduction_db": shared_cells(taken, block, late, state["taken"]),
                "opened": shared_cells(hits, block, late, state["opened"]),
            }
            if context.observe:
                cells["level_db"] = level_cells(np.abs(key), late, state["heard"])
            return out, Report(late // GRID, cells)

        return run

    def drawing(self, params: DuckerParams, context: Context) -> DuckerDrawing:
        steps = 80
        attack, hold, decay = max(params.attack_ms, 0.1), params.hold_ms, params.decay_ms
        whole = attack + hold + decay
        points = []
        for index in range(steps + 1):
            t = whole * index / steps
            back = min(max((t - attack - hold) / decay, 0.0), 1.0)
            now = (1 - back) ** 2 if params.shape == "curved" else 1 - back
            points.append((t, -params.depth_db * (t / attack if t < attack else now)))
        return DuckerDrawing(envelope=points)
