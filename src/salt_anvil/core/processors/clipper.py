"""clipper: cuts off what is over a ceiling, round or hard, with the fold-back under control."""

from collections.abc import Callable
from typing import Literal

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import biquad
from salt_anvil.core.dsp import clip as c
from salt_anvil.core.dsp import lookahead_limiter as w
from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp.between import AFTER
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.dsp.delay import delayed
from salt_anvil.core.dsp.dynamics import rate_of
from salt_anvil.core.dsp.stereo import to_mid_side
from salt_anvil.core.processors import wall as walls
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
from salt_anvil.core.processors.drawing import Shaper
from salt_anvil.core.processors.fields import Quality, makeup, quality, share
from salt_anvil.core.processors.parts import (
    check_range,
    gained,
    in_range,
    range_sections,
)
from salt_anvil.core.state import State

DRIVE, CEILING, SHAPE, OUTPUT, WALL = range(5)
HOLD_MS, RELEASE_MS, CLEAR_DB = 3.0, 10.0, -0.05
"""Look-ahead and release of what holds the ceiling, and how far below it aims, for what its own
moves add; common practice, no source."""
DC_HZ = 5.0


class ClipperParams(Params):
    """Parameters of the clipper."""

    drive_db: float = number(
        0,
        -12,
        36,
        label="Drive",
        unit="dB",
        scale="db",
        marks=(-12, 0, 12, 24, 36),
        doc="Gain into the ceiling.",
    )
    ceiling_db: float = number(
        0,
        -36,
        0,
        label="Ceiling",
        unit="dB",
        scale="db",
        marks=(-36, -24, -12, -6, 0),
        doc="What is over it is cut off.",
    )
    shape: float = share(
        0.5, label="Shape", doc="0 bends from far below the ceiling, 1 cuts it off flat."
    )
    output_db: float = makeup("Output", "Gain behind the ceiling.")
    range_low_hz: float | None = number(
        None,
        20,
        20000,
        label="Range from",
        unit="Hz",
        scale="log",
        step=1,
        change="switch",
        marks=(20, 200, 2000, 20000),
        doc="Low end of what is clipped; open: the lowest.",
    )
    range_high_hz: float | None = number(
        None,
        20,
        20000,
        label="Range to",
        unit="Hz",
        scale="log",
        step=1,
        change="switch",
        marks=(20, 200, 2000, 20000),
        doc="High end of what is clipped; open: the highest.",
    )
    quality: Quality = quality("high")
    stereo: Literal["left-right", "mid", "side", "mid-side"] = choice(
        "left-right", label="Stereo", doc="What is clipped: left and right, middle, sides, or both."
    )
    outside: Literal["kept", "removed"] = choice(
        "kept", label="Outside", doc="What lies outside the range goes round, or is taken away."
    )
    hold_ceiling: bool = choice(
        False,
        label="Hold ceiling",
        change="structural",
        doc="Turns down what rises over the ceiling again, between the samples too, when the"
        " clipped wave is band-limited; looks 3 ms ahead, and twice.",
    )
    dc_block: bool = choice(False, label="No offset", doc="Takes a constant offset away first.")


REPORTED = ("reduction_db", "touched", "overshoot_db")
"""What a clipper tells of a cell."""


class Clipper(Processor[ClipperParams]):
    """Clipper that takes what it cuts from the delayed input, with antiderivative shaping."""

    kind = "clipper"
    title = "Clipper"
    doc = "Cuts off what is over a ceiling: peaks down without gain that moves."
    Params = ClipperParams
    drawn_as = Shaper
    bends = True
    pictures = ("shaper", "cut")
    marked = "peaks"
    level_line = "ceiling_db"
    level_behind = "drive_db"

    def _ahead(self, params: ClipperParams, rate: int) -> int:
        return round(HOLD_MS * rate / 1000) if params.hold_ceiling else 0

    def latency(self, params: ClipperParams, rate: int) -> int:
        held = self._ahead(params, rate) + AFTER + walls.second_frames(rate)
        return o.LATENCY + (held if params.hold_ceiling else 0)

    def makeup_db(self, params: ClipperParams, context: Context) -> float:
        return params.drive_db + params.output_db

    def controls(self, params: ClipperParams, context: Context) -> Vector:
        check_range("range_low_hz", params.range_low_hz, "range_high_hz", params.range_high_hz)
        vector = np.zeros(WALL + w.CONTROLS)
        vector[DRIVE], vector[CEILING] = params.drive_db, to_gain(params.ceiling_db)
        vector[SHAPE], vector[OUTPUT] = params.shape, params.output_db
        vector[WALL + w.TARGET] = params.ceiling_db + w.AIM_DB + CLEAR_DB
        vector[WALL + w.LINK] = 1.0
        vector[WALL + w.RELEASE] = rate_of(RELEASE_MS, context.rate)
        return vector

    def prepare(self, params: ClipperParams, context: Context) -> State:
        channels = context.channels
        state = State(offset=np.zeros((1, channels, 2)), band=np.zeros((2, channels, 2)))
        state.update(c.clipper_state(channels))
        if params.hold_ceiling:
            ahead = self._ahead(params, context.rate)
            state.nest("hold_", walls.wall_state(ahead, channels))
            state.nest("second_", walls.second_state(context.rate, channels))
            state["clipped"] = np.zeros((ahead + AFTER, channels))
        return state

    def step(self, setup: Setup[ClipperParams]) -> Step:
        params, context, ramp, state, told = setup
        sides = params.stereo != "left-right" and context.channels == 2
        spared = {"mid": 1, "side": 0}.get(params.stereo, -1) if sides else -1
        sections = range_sections(params.range_low_hz, params.range_high_hz, context.rate)
        (ceiling, d_ceiling), (shape, _) = ramp.column(CEILING), ramp.column(SHAPE)
        without_dc = biquad.high_pass(DC_HZ, context.rate)[None]
        shaping = o.given(params.quality, state)
        hold = self._holding(setup) if params.hold_ceiling else None

        def run(block: Sound, _: Sound, start: int) -> tuple[Sound, Report]:
            sound = in_range(block, without_dc, state["offset"]) if params.dc_block else block
            driven = gained(sound, ramp, DRIVE, start)
            if sides:
                driven = to_mid_side(driven)
            band = in_range(driven, sections, state["band"])
            dry = band if params.outside == "removed" else driven
            out, cells = c.clip_block(
                dry,
                band,
                start,
                ceiling,
                d_ceiling,
                shape,
                sides,
                spared,
                state["past"],
                state["share"],
                state["reported"],
                *shaping,
            )
            reported = dict(zip(REPORTED, cells, strict=True)) if told else {}
            report = Report((start - o.LATENCY) // GRID, reported)
            more = None
            if hold is not None:
                out, more = hold(out, start)
            return gained(out, ramp, OUTPUT, start, more), report

        return run

    def _holding(self, setup: Setup[ClipperParams]) -> Callable[[Sound, int], tuple[Sound, Sound]]:
        """Return what holds a clipped sound under the ceiling: the sound as late as the walls are,
        and what is still to be taken from it, in dB."""
        ramp, state = setup.ramp, setup.state
        wall, memory, second = slice(WALL, WALL + w.CONTROLS), state.nested("hold_"), "second_"
        value, step = ramp.value[:, wall].copy(), ramp.step[:, wall].copy()

        def hold(out: Sound, start: int) -> tuple[Sound, Sound]:
            peaks = walls.peaks_of(out, value, memory)
            reduction = walls.reduction_of(peaks, value, step, memory, start)
            held = delayed(out, state["clipped"])
            return walls.second_wall(held, reduction, value, step, state.nested(second), start)

        return hold

    def drawing(self, params: ClipperParams, context: Context) -> Shaper:
        top = to_gain(params.ceiling_db)
        width = 2 * top * (1 - params.shape)
        drive, output = to_gain(params.drive_db), to_gain(params.output_db)
        shaper = []
        for i in range(-60, 61):
            x = drive * i / 50
            shaper.append((i / 50, output * (x - c.taken(x, top, width))))
        return Shaper(shaper=shaper)
