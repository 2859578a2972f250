"""room: a small, dense, short ambience, alone; how much of it is heard is the stage's mix."""

import math

import numpy as np

from salt_anvil.core.audio import BLOCK, GRID, Sound
from salt_anvil.core.dsp import equaliser as t
from salt_anvil.core.dsp import feedback_delay_network as r
from salt_anvil.core.dsp.control_ramp import ControlRamp, Vector
from salt_anvil.core.dsp.delay import earlier
from salt_anvil.core.processors.base import Context, Params, Processor, Report, Setup, Step, number
from salt_anvil.core.processors.drawing import Drawing
from salt_anvil.core.state import State

CUT = t.sections(t.LOW_CUT)
LOSS_DB = 60.0
"""What the decay time is counted to (ISO 3382)."""
SHOWN = 140
NO_DAMPING_HZ = 20000.0


class RoomParams(Params):
    """Parameters of the room."""

    size: float = number(
        1,
        0.3,
        r.MOST_SIZE,
        label="Size",
        unit="",
        step=0.01,
        marks=(0.3, 1, 1.5, 2),
        doc="How far the walls are: how soon the first echoes come, and how long one goes round.",
    )
    decay_s: float = number(
        0.4,
        0.1,
        3,
        label="Decay",
        unit="s",
        scale="log",
        step=0.01,
        marks=(0.1, 0.3, 1, 3),
        doc="Time in which it falls by 60 dB.",
    )
    damp_hz: float = number(
        6000,
        500,
        NO_DAMPING_HZ,
        label="Damping",
        unit="Hz",
        scale="log",
        step=10,
        marks=(500, 2000, 8000, 20000),
        doc="Above this the walls swallow more; at 20 kHz they do not.",
    )
    low_cut_hz: float = number(
        120,
        20,
        1000,
        label="Low cut",
        unit="Hz",
        scale="log",
        step=1,
        marks=(20, 50, 100, 200, 500, 1000),
        doc="Lows that do not go into the room.",
    )
    predelay_ms: float = number(
        0,
        0,
        r.MOST_PREDELAY_MS,
        label="Pre-delay",
        unit="ms",
        change="switch",
        marks=(0, 20, 40, 60, 80, 100),
        doc="Time before the room answers.",
    )


class RoomDrawing(Drawing):
    """The highest level in dB of the answer to a click, in each of SHOWN stretches."""

    answer_db: list[float]
    seconds: float


class Room(Processor[RoomParams]):
    """Room of eight delay lines behind five stages of diffusion."""

    kind = "room"
    title = "Room"
    doc = "A small, dense, short ambience, to be blended in, gated or ducked."
    Params = RoomParams
    drawn_as = RoomDrawing
    pictures = ("decay",)
    glyph = "decay"

    def controls(self, params: RoomParams, context: Context) -> Vector:
        rate = context.rate
        fall = LOSS_DB / (params.decay_s * rate)
        # A one-pole low pass, which at the end of the range is none.
        kept = 1 - (params.damp_hz / NO_DAMPING_HZ) ** 2
        pole = kept * math.exp(-2 * math.pi * min(params.damp_hz, 0.45 * rate) / rate)
        corner = t.corners([params.low_cut_hz], rate)
        return np.concatenate([[fall, 1 - pole], r.lengths(params.size, rate), corner])

    def prepare(self, params: RoomParams, context: Context) -> State:
        rate, channels = context.rate, context.channels
        held = r.rings(rate)
        return State(
            past=np.zeros((round(r.MOST_PREDELAY_MS * rate / 1000), channels)),
            cut=np.zeros((1, t.SECTIONS, channels, 2)),
            stages=np.zeros((r.STAGES * r.LINES, max(held[:-1])), np.float32),
            lines=np.zeros((r.LINES, held[-1]), np.float32),
            damped=np.zeros(r.LINES, np.float32),
            at=np.array([np.zeros(r.STAGES + 1), held]),
        )

    def step(self, setup: Setup[RoomParams]) -> Step:
        params, context, ramp, state, _ = setup
        value, step = (np.ascontiguousarray(a[:, r.CONTROLS :]) for a in (ramp.value, ramp.step))
        wait = round(params.predelay_ms * context.rate / 1000)

        def run(block: Sound, _: Sound, start: int) -> tuple[Sound, Report]:
            clean = t.filtered(block, start, value, step, CUT, state["cut"])
            out = np.empty_like(block)
            r.room_into(
                out,
                clean,
                start,
                ramp.value,
                ramp.step,
                state["stages"],
                state["lines"],
                state["damped"],
                state["at"],
            )
            # Behind the room, so that another pre-delay does not break off what goes in.
            return earlier(out, wait, state["past"]), Report(start // GRID, {})

        return run

    def drawing(self, params: RoomParams, context: Context) -> RoomDrawing:
        rate = context.rate
        seconds = params.predelay_ms / 1000 + 1.15 * params.decay_s
        context = Context(rate, 2, context.bpm)
        ramp = ControlRamp(self.controls(params, context)).over(0, BLOCK)
        respond = self.step(Setup(params, context, ramp, self.prepare(params, context)))
        unheard = np.zeros((0, 2))
        click = np.zeros((BLOCK, 2))
        click[0] = 1.0
        found = []
        for start in range(0, round(seconds * rate), BLOCK):
            out, _ = respond(click, unheard, start)
            found.append(np.abs(out).max(axis=1))
            click[0] = 0.0
        answer = np.concatenate(found)
        edges = np.linspace(0, round(seconds * rate), SHOWN + 1).astype(int)[:-1]
        tops = np.maximum.reduceat(answer[: round(seconds * rate)], edges)
        level = 20 * np.log10(np.maximum(tops / max(tops.max(), 1e-12), 1e-6))
        return RoomDrawing(answer_db=level.tolist(), seconds=seconds)
