"""width: how far apart left and right are; what both add up to stays as it is."""

from functools import lru_cache

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import biquad
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.crossover import BUTTERWORTH
from salt_anvil.core.dsp.stereo import from_mid_side, to_mid_side
from salt_anvil.core.processors.base import Context, Params, Processor, Report, Setup, Step, number
from salt_anvil.core.processors.fields import share
from salt_anvil.core.processors.parts import in_range
from salt_anvil.core.state import State

SPREAD_FROM_HZ = 250.0
SPREAD_HZ = (350.0, 700.0, 1300.0, 2600.0, 5200.0, 9500.0)
"""Middles of the all-passes behind `spread`; common practice, no source."""
SPREAD_Q = 0.9
MOST_SPREAD = 0.7


class WidthParams(Params):
    """Parameters of width."""

    width: float = number(
        1,
        0,
        2,
        label="Width",
        unit="",
        step=0.01,
        marks=(0, 0.5, 1, 1.5, 2),
        doc="0 is mono, 1 as it was, 2 twice the sides.",
    )
    spread: float = share(
        0,
        label="Spread",
        doc="Lays the middle out over the sides, every range of frequencies elsewhere.",
    )
    balance: float = number(
        0,
        -1,
        1,
        label="Balance",
        unit="",
        step=0.01,
        marks=(-1, -0.5, 0, 0.5, 1),
        doc="Turns one side down.",
    )
    mono_below_hz: float | None = number(
        None,
        20,
        500,
        label="Mono below",
        unit="Hz",
        scale="log",
        step=1,
        change="switch",
        marks=(20, 50, 100, 200, 500),
        doc="No sides below this; open: sides throughout.",
    )


class Width(Processor[WidthParams]):
    """Width of the sides; all it does leaves the mono sum alone (balance apart)."""

    kind = "width"
    title = "Width"
    doc = "Narrower or wider, mono below a frequency, spread; the mono sum stays."
    Params = WidthParams
    pictures = ("sides", "correlation")
    glyph = "sides"

    def controls(self, params: WidthParams, context: Context) -> Vector:
        return np.array([params.width, params.spread, params.balance])

    def prepare(self, params: WidthParams, context: Context) -> State:
        return State(
            spread=np.zeros((len(SPREAD_HZ) + 1, 1, 2)),
            corner=np.zeros((2, 1, 2)),
        )

    def step(self, setup: Setup[WidthParams]) -> Step:
        params, context, ramp, state, _ = setup
        rate, mono_below = context.rate, params.mono_below_hz

        def run(block: Sound, _: Sound, start: int) -> tuple[Sound, Report]:
            report = Report(start // GRID, {})
            if context.channels == 1:
                return block.copy(), report
            halves = to_mid_side(block)
            middle, side = halves[:, :1].copy(), halves[:, 1:].copy()
            laid = in_range(middle, _spread(rate), state["spread"])
            wide, spread, balance = (ramp.frames(i, start, len(block)) for i in range(3))
            side = side * wide + MOST_SPREAD * spread * laid
            if mono_below is not None:
                side = in_range(side, _corner(mono_below, rate), state["corner"])
            out = from_mid_side(np.concatenate([middle, side], axis=1))
            if balance.any():
                out *= np.minimum(np.concatenate([1 - balance, 1 + balance], axis=1), 1)
            return out, report

        return run


@lru_cache(maxsize=16)
def _spread(rate: int) -> Sound:
    passes = [biquad.all_pass(hz, rate, SPREAD_Q) for hz in SPREAD_HZ]
    return np.array([biquad.high_pass(SPREAD_FROM_HZ, rate), *passes])


@lru_cache(maxsize=64)
def _corner(hz: float, rate: int) -> Sound:
    return np.array([biquad.high_pass(hz, rate, q) for q in BUTTERWORTH[48]])
