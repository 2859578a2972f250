"""clipper: cuts off what is over a ceiling, round or hard, with the fold-back under control."""

from typing import Any, Literal

import numpy as np

from salt_anvil.core.dsp import biquad
from salt_anvil.core.dsp import clipping as c
from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.dsp.delay import delayed
from salt_anvil.core.dsp.gate import GRID, Sound
from salt_anvil.core.dsp.ramp import Ramp, Vector
from salt_anvil.core.dsp.state import State
from salt_anvil.core.dsp.stereo import from_mid_side, to_mid_side
from salt_anvil.core.processors.base import Context, Params, Processor, Report, choice, number
from salt_anvil.core.processors.parts import (
    check_range,
    gained,
    in_range,
    range_sections,
)

DRIVE, CEILING, SHAPE, OUTPUT = range(4)
DC_HZ = 5.0


class ClipperParams(Params):
    """Parameters of the clipper."""

    drive_db: float = number(
        0, -12, 36, label="Drive", unit="dB", scale="db", marks=(-12, 0, 12, 24, 36),
        doc="Gain into the ceiling.",
    )  # fmt: skip
    ceiling_db: float = number(
        0, -36, 0, label="Ceiling", unit="dB", scale="db", marks=(-36, -24, -12, -6, 0),
        doc="What is over it is cut off.",
    )  # fmt: skip
    shape: float = number(
        0.5, 0, 1, label="Shape", unit="", step=0.01, marks=(0, 0.25, 0.5, 0.75, 1),
        doc="0 bends from far below the ceiling, 1 cuts it off flat.",
    )  # fmt: skip
    output_db: float = number(
        0, -24, 24, label="Output", unit="dB", scale="db", marks=(-24, -12, 0, 12, 24),
        doc="Gain behind the ceiling.",
    )  # fmt: skip
    range_low_hz: float | None = number(
        None, 20, 20000, label="Range from", unit="Hz", scale="log", step=1, change="switch",
        marks=(20, 200, 2000, 20000), doc="Low end of what is clipped; open: the lowest.",
    )  # fmt: skip
    range_high_hz: float | None = number(
        None, 20, 20000, label="Range to", unit="Hz", scale="log", step=1, change="switch",
        marks=(20, 200, 2000, 20000), doc="High end of what is clipped; open: the highest.",
    )  # fmt: skip
    quality: Literal["plain", "good", "high", "best"] = choice(
        "high", label="Quality",
        doc="Against fold-back: at the rate itself, or at 2, 4 or 8 times the rate.",
    )  # fmt: skip
    stereo: Literal["left-right", "mid", "side", "mid-side"] = choice(
        "left-right", label="Stereo", doc="What is clipped: left and right, middle, sides, or both."
    )
    outside: Literal["kept", "removed"] = choice(
        "kept", label="Outside", doc="What lies outside the range goes round, or is taken away."
    )
    hold_ceiling: bool = choice(
        False, label="Hold ceiling",
        doc="Takes off what rises over the ceiling again when the clipped wave is band-limited.",
    )  # fmt: skip
    dc_block: bool = choice(False, label="No offset", doc="Takes a constant offset away first.")


class Clipper(Processor[ClipperParams]):
    """Clipper that takes what it cuts from the delayed input, with antiderivative shaping."""

    kind = "clipper"
    title = "Clipper"
    doc = "Cuts off what is over a ceiling: peaks down without gain that moves."
    Params = ClipperParams
    level_line = "ceiling_db"
    level_behind = "drive_db"

    def latency(self, params: ClipperParams, rate: int) -> int:
        return o.LATENCY

    def makeup_db(self, params: ClipperParams, context: Context) -> float:
        return params.drive_db + params.output_db

    def controls(self, params: ClipperParams, context: Context) -> Vector:
        check_range("range_low_hz", params.range_low_hz, "range_high_hz", params.range_high_hz)
        return np.array([params.drive_db, to_gain(params.ceiling_db), params.shape,
                         params.output_db])  # fmt: skip

    def prepare(self, params: ClipperParams, context: Context) -> State:
        lanes = context.channels
        state = State(
            offset=np.zeros((1, lanes, 2)),
            band=np.zeros((2, lanes, 2)),
            past=np.zeros((o.LATENCY, lanes)),
            depth=np.zeros((o.DOWN, lanes)),
            told=np.zeros((3, lanes)),
        )
        state.update(o.shaping_state(lanes))
        return state

    def process(
        self,
        block: Sound,
        key: Sound,
        params: ClipperParams,
        context: Context,
        ramp: Ramp,
        state: State,
        start: int,
    ) -> tuple[Sound, Report]:
        sound = block
        if params.dc_block:
            sound = np.empty_like(block)
            one = biquad.high_pass(DC_HZ, context.rate)[None]
            biquad.filter_into(sound, block, one, state["offset"])
        driven = gained(sound, ramp, DRIVE, start)
        sides = params.stereo != "left-right" and context.channels == 2
        if sides:
            driven = to_mid_side(driven)
        sections = range_sections(params.range_low_hz, params.range_high_hz, context.rate)
        band = in_range(driven, sections, state["band"])
        dry = band if params.outside == "removed" else driven
        cut, depth = self._cut(band, params, ramp, state, start)
        if sides and params.stereo != "mid-side":
            spared = 1 if params.stereo == "mid" else 0
            cut[:, spared] = 0.0
            depth[o.DOWN :, spared] = 0.0
        out = delayed(dry, state["past"])
        out -= cut
        if sides:
            out = from_mid_side(out)
        late = start - o.LATENCY
        cells = np.empty((3, len(block) // GRID + 1, context.channels))
        ceiling, step = ramp.column(CEILING)
        state["depth"][:] = depth[len(block) :]
        cells = cells[:, : c.tell_into(
            cells, out, depth, start, late, ceiling, step, params.hold_ceiling, state["told"]
        )]  # fmt: skip
        told = {
            "reduction_db": -20 * np.log10(1 - cells[0]),
            "touched": cells[1],
            "overshoot_db": 20 * np.log10(np.maximum(cells[2], 1.0)),
        }
        return gained(out, ramp, OUTPUT, start), Report(late // GRID, told)

    def _cut(
        self, band: Sound, params: ClipperParams, ramp: Ramp, state: State, start: int
    ) -> tuple[Sound, Sound]:
        """Return what is taken away, o.LATENCY frames late, and the share of it, half as late.

        The last o.DOWN rows of the share are of frames to come.
        """
        depth = np.empty((o.DOWN + len(band), band.shape[1]))
        depth[: o.DOWN] = state["depth"]
        if o.idle(band, _knee(ramp) / o.BOUND, state):
            o.pass_by(band, params.quality, state)
            depth[o.DOWN :] = 0.0
            return np.zeros_like(band), depth
        ceiling, step = ramp.column(CEILING)
        shape, _ = ramp.column(SHAPE)

        def bend(lines: Sound, cut: Sound, factor: int) -> None:
            c.clip_lines(lines, cut, depth, factor, start, ceiling, step, shape)

        return o.taken_by(bend, band, params.quality, state), depth

    def picture(self, params: ClipperParams, context: Context) -> dict[str, Any]:
        top = to_gain(params.ceiling_db)
        width = 2 * top * (1 - params.shape)
        drive, output = to_gain(params.drive_db), to_gain(params.output_db)
        shaper = []
        for i in range(-60, 61):
            x = drive * i / 50
            shaper.append([i / 50, output * (x - c.taken(x, top, width))])
        return {"shaper": shaper}


def _knee(ramp: Ramp) -> float:
    """Return the lowest level at which the shape bends during a block."""
    if ramp.still:
        return float(ramp.value[0, CEILING] * max(ramp.value[0, SHAPE], 0.0))
    end = ramp.value[-1] + GRID * ramp.step[-1]
    top, shape = (min(ramp.value[:, i].min(), end[i]) for i in (CEILING, SHAPE))
    return float(top * max(shape, 0.0))
