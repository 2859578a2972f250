"""enhancer: new harmonics of a range of the sound, added to it."""

import math
from collections.abc import Callable
from typing import Literal

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import equaliser as t
from salt_anvil.core.dsp import harmonic_generator as e
from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp.control_ramp import Ramp, Vector
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.dsp.delay import delayed
from salt_anvil.core.processors.base import (
    Context,
    Params,
    Processor,
    Report,
    Setup,
    Step,
    choice,
    number,
)
from salt_anvil.core.processors.drawing import Harmonics
from salt_anvil.core.processors.fields import Quality, quality
from salt_anvil.core.processors.parts import check_range
from salt_anvil.core.state import State

AMOUNT = e.CONTROLS
CORNERS = e.CONTROLS + 1
RANGE = t.sections(t.LOW_CUT, t.LOW_CUT, t.HIGH_CUT, t.HIGH_CUT)
"""Linkwitz-Riley filters, so that what all-passes of the corners leave beside it is the rest."""
WHOLE = t.sections(t.ALL_PASS, t.ALL_PASS)
CLEAN = t.sections(t.LOW_CUT)
NONE_DB = -60
"""The lowest amount adds nothing."""
BEYOND = 1.5
"""How far beyond its range the source is taken to reach."""
FALL_DB_S = 120.0
"""How fast the envelope falls; common practice, no source."""


class EnhancerParams(Params):
    """Parameters of the enhancer."""

    low_hz: float = number(
        40,
        25,
        16000,
        label="Range from",
        unit="Hz",
        scale="log",
        step=1,
        marks=(25, 100, 1000, 10000),
        doc="Low end of what gets harmonics.",
    )
    high_hz: float = number(
        90,
        25,
        16000,
        label="Range to",
        unit="Hz",
        scale="log",
        step=1,
        marks=(25, 100, 1000, 10000),
        doc="High end of what gets harmonics.",
    )
    amount_db: float = number(
        -12,
        NONE_DB,
        12,
        label="Amount",
        unit="dB",
        scale="db",
        marks=(-60, -36, -24, -12, 0, 12),
        doc="Level of the first harmonic added, against the range itself; -60 adds none.",
    )
    drive_db: float = number(
        6,
        0,
        24,
        label="Drive",
        unit="dB",
        scale="db",
        marks=(0, 6, 12, 18, 24),
        doc="How many higher harmonics come along; 0 dB adds the first of its kind alone.",
    )
    order: Literal["even", "odd", "both"] = choice(
        "both",
        label="Order",
        change="glide",
        doc="Even adds the 2nd, 4th, 6th harmonic, odd the 3rd, 5th, 7th.",
    )
    quality: Quality = quality("good")
    keep_source: bool = choice(
        True,
        label="Keep the source",
        doc="Off: the range itself is taken away, and only its harmonics stay.",
    )


class Enhancer(Processor[EnhancerParams]):
    """Enhancer by Chebyshev polynomials: the same harmonics for quiet sound as for loud."""

    kind = "enhancer"
    title = "Enhancer"
    doc = "Adds harmonics of a range: a bass that small loudspeakers carry, air on top."
    Params = EnhancerParams
    drawn_as = Harmonics
    pictures = ("source", "harmonics")
    glyph = "harmonics"

    def latency(self, params: EnhancerParams, rate: int) -> int:
        return o.LATENCY

    def controls(self, params: EnhancerParams, context: Context) -> Vector:
        check_range("low_hz", params.low_hz, "high_hz", params.high_hz)
        amount = to_gain(params.amount_db) if params.amount_db > NONE_DB else 0.0
        # Both ends of the range take from its middle; that is made up.
        lift = (1 + (params.low_hz / params.high_hz) ** 2) ** 2
        shaper = e.polynomial(params.order, _density(params))
        low, high = params.low_hz, params.high_hz
        corners = t.corners([low, low, high, high, low, high, low], context.rate)
        return np.concatenate([shaper, [lift * amount], corners])

    def prepare(self, params: EnhancerParams, context: Context) -> State:
        channels = context.channels
        state = State(
            past=np.zeros((o.LATENCY, channels)),
            height=np.zeros((8, channels)),
            peaks=np.zeros((e.CELLS, channels)),
            heights=np.zeros((o.UP - 1, channels)),
            range=np.zeros((4, t.SECTIONS, channels, 2)),
            whole=np.zeros((2, t.SECTIONS, channels, 2)),
            clean=np.zeros((1, t.SECTIONS, channels, 2)),
        )
        state.update(o.shaping_state(channels))
        return state

    def step(self, setup: Setup[EnhancerParams]) -> Step:
        params, context, ramp, state, _ = setup
        band, clean_up = _through(setup, RANGE, "range", 0), _through(setup, CLEAN, "clean", 6)
        whole = None if params.keep_source else _through(setup, WHOLE, "whole", 4)
        amount, d_amount = ramp.column(AMOUNT)
        adds = bool(amount.any() or d_amount.any())

        def run(block: Sound, _: Sound, start: int) -> tuple[Sound, Report]:
            report = Report((start - o.LATENCY) // GRID, {})
            source = band(block, start)
            dry = delayed(block if whole is None else whole(block, start) - source, state["past"])
            made = self._harmonics(source, params, context.rate, ramp, state, start)
            clean = clean_up(made, start)
            if not adds:
                return dry, report
            return dry + ramp.frames(AMOUNT, start, len(block)) * clean, report

        return run

    def _harmonics(
        self, source: Sound, params: EnhancerParams, rate: int, ramp: Ramp, state: State, start: int
    ) -> Sound:
        heights = np.empty_like(source)
        cells = math.ceil(0.5 * rate / params.low_hz / GRID)
        fall = 10 ** (-FALL_DB_S / 20 / rate)
        power = -math.expm1(-params.low_hz / rate)
        least, most = (
            math.sin(min(2 * math.pi * hz / rate, math.pi / 2)) ** -2
            for hz in (params.high_hz * BEYOND, params.low_hz / BEYOND)
        )
        e.envelope_into(
            heights, source, start, cells, fall, power, least, most, state["peaks"], state["height"]
        )
        late = np.concatenate([state["heights"], heights])
        state["heights"][:] = late[len(source) :]
        shaping = o.given(params.quality, state)
        return e.harmonics_block(source, start, late, ramp.value, ramp.step, *shaping)

    def drawing(self, params: EnhancerParams, context: Context) -> Harmonics:
        amount = params.amount_db if params.amount_db > NONE_DB else -120.0
        levels = [0.0 if params.keep_source else -120.0]
        for n in range(2, 10):
            mine = params.order == "both" or (params.order == "even") == (n % 2 == 0)
            weight = _density(params) ** ((n - 2) // 2) if mine and n <= e.DEGREE else 0.0
            levels.append(max(amount + 20 * np.log10(weight), -120.0) if weight else -120.0)
        return Harmonics(harmonics_db=levels, shown_db=0.0)


def _through(
    setup: Setup[EnhancerParams], shapes: t.Shapes, name: str, at: int
) -> Callable[[Sound, int], Sound]:
    """Return what takes sound through the sections whose controls begin at section `at`."""
    mine = slice(CORNERS + at * t.COLUMNS, CORNERS + (at + len(shapes)) * t.COLUMNS)
    value, step = (np.ascontiguousarray(a[:, mine]) for a in (setup.ramp.value, setup.ramp.step))
    memory = setup.state[name]
    return lambda sound, start: t.filtered(sound, start, value, step, shapes, memory)


def _density(params: EnhancerParams) -> float:
    """Return the level of each harmonic against the one two below it."""
    return 1 - 10 ** (-params.drive_db / 20)
