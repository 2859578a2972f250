"""trim: gain, polarity, DC and a delay that the user asks for."""

import math

import numpy as np

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.dsp.delay import ORDER, all_pass_into, earlier, split_delay
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
from salt_anvil.core.processors.parts import in_range
from salt_anvil.core.state import State

DC_CORNER_HZ = 5.0


class TrimParams(Params):
    """Parameters of trim."""

    gain_db: float = number(
        0,
        -60,
        24,
        label="Gain",
        unit="dB",
        scale="db",
        marks=(-60, -36, -24, -12, 0, 12, 24),
        doc="Level of everything that passes.",
    )
    invert: bool = choice(False, label="Invert", doc="Turns the polarity round.")
    dc_block: bool = choice(
        False,
        label="Block DC",
        doc=f"Takes away a steady offset (first order, {DC_CORNER_HZ:g} Hz).",
    )
    delay_ms: float = number(
        0,
        0,
        100,
        label="Delay",
        unit="ms",
        step=0.01,
        change="switch",
        marks=(0, 25, 50, 75, 100),
        doc="Moves the sound later, by fractions of a frame too; not made good elsewhere.",
    )


class Trim(Processor[TrimParams]):
    """Gain, polarity, DC block, delay."""

    kind = "trim"
    title = "Trim"
    doc = "Gain, polarity, an offset taken away, a delay."
    Params = TrimParams

    def controls(self, params: TrimParams, context: Context) -> Vector:
        return np.array([to_gain(params.gain_db)])

    def prepare(self, params: TrimParams, context: Context) -> State:
        longest = round(0.1 * context.rate)
        return State(
            past=np.zeros((longest, context.channels)),
            dc=np.zeros((1, context.channels, 2)),
            fraction=np.zeros((context.channels, ORDER)),
        )

    def step(self, setup: Setup[TrimParams]) -> Step:
        params, context, ramp, state, _ = setup
        whole, rest = split_delay(params.delay_ms * context.rate / 1000)
        sign, dc = -1.0 if params.invert else 1.0, _dc_block(context.rate)

        def run(block: Sound, _: Sound, start: int) -> tuple[Sound, Report]:
            out = earlier(block, whole, state["past"])
            if len(rest):
                late = np.empty_like(out)
                all_pass_into(late, out, rest, state["fraction"])
                out = late
            blocked = in_range(out, dc, state["dc"])
            if params.dc_block:
                out = blocked
            return out * (sign * ramp.frames(0, start, len(block))), NOTHING

        return run

    def makeup_db(self, params: TrimParams, context: Context) -> float:
        return params.gain_db


def _dc_block(rate: int) -> Sound:
    """Return one section: zero at 0 Hz, pole at the corner, no gain at half the rate."""
    pole = math.exp(-2 * math.pi * DC_CORNER_HZ / rate)
    return np.array([[0.5 * (1 + pole), -0.5 * (1 + pole), 0.0, -pole, 0.0]])
