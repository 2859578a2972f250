"""curve: level in against level out, drawn point by point."""

from itertools import pairwise

import numpy as np
from pydantic import field_validator

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp import dynamics as d
from salt_anvil.core.dsp import listening
from salt_anvil.core.dsp import transfer_curve as s
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
    points,
)
from salt_anvil.core.processors.drawing import LevelCurve
from salt_anvil.core.processors.fields import Detector, detector, link, lookahead, makeup, rms_time
from salt_anvil.core.processors.parts import change_report, gained
from salt_anvil.core.state import State

MAKEUP = s.CONTROLS


class CurveParams(Params):
    """Parameters of the curve."""

    points: s.Points = points(
        ((-80, -80), (-24, -24), (0, -12)),
        s.LOWEST_DB,
        s.HIGHEST_DB,
        2,
        16,
        label="Points",
        doc="Level in and level out, by increasing level in, to a tenth of a dB; beyond the ends"
        " the curve goes on straight.",
    )
    attack_ms: float = number(
        10,
        0.05,
        200,
        label="Attack",
        unit="ms",
        scale="log",
        step=0.01,
        marks=(0.1, 1, 10, 100),
        doc="Time to 63 % of the way when it gets louder.",
    )
    release_ms: float = number(
        120,
        5,
        4000,
        label="Release",
        unit="ms",
        scale="log",
        marks=(5, 20, 100, 500, 2000),
        doc="Time to 63 % of the way when it gets quieter.",
    )
    makeup_db: float = makeup("Make-up", "Gain after the curve.")
    lookahead_ms: float = lookahead("The gain moves this much before the sound.")
    link: float = link()
    rms_ms: float = rms_time()
    detector: Detector = detector()
    smooth: bool = choice(
        False,
        label="Smooth",
        change="glide",
        doc="A monotone cubic through the points: round, and never beyond them.",
    )

    @field_validator("points")
    @classmethod
    def _in_order(cls, value: s.Points) -> s.Points:
        low, high = s.LOWEST_DB, s.HIGHEST_DB
        rounded = tuple((round(float(x), 1), float(y)) for x, y in value)
        if not 2 <= len(rounded) <= 16:
            raise ValueError(f"points has {len(rounded)}; 2 to 16 are allowed")
        for level, out in rounded:
            if not (low <= level <= high and low <= out <= high):
                raise ValueError(f"points holds ({level:g}, {out:g}); allowed: {low:g} to {high:g}")
        if any(b[0] <= a[0] for a, b in pairwise(rounded)):
            raise ValueError("points do not increase in their input by 0.1 dB or more")
        return rounded


class Curve(Processor[CurveParams]):
    """Any static curve with attack and release."""

    kind = "curve"
    title = "Curve"
    doc = "A curve of level in against level out, drawn by hand: compressor, expander, both."
    Params = CurveParams
    drawn_as = LevelCurve
    pictures = ("points", "hits")
    releases_between_hits = True
    has_sidechain = True

    def latency(self, params: CurveParams, rate: int) -> int:
        return round(params.lookahead_ms * rate / 1000) + listening.LATENCY

    def hears_waveform(self, params: CurveParams) -> bool:
        return params.detector == "peak"

    def makeup_db(self, params: CurveParams, context: Context) -> float:
        return params.makeup_db

    def controls(self, params: CurveParams, context: Context) -> Vector:
        rate = context.rate
        vector = np.zeros(s.CONTROLS + 1)
        vector[d.ATTACK] = d.rate_of(params.attack_ms, rate)
        vector[d.RELEASE] = d.rate_of(params.release_ms, rate)
        vector[d.RMS] = d.rate_of(params.rms_ms, rate)
        vector[d.LINK] = params.link
        vector[s.BASE : s.CONTROLS] = s.columns(params.points, params.smooth)
        vector[MAKEUP] = params.makeup_db
        return vector

    def prepare(self, params: CurveParams, context: Context) -> State:
        channels = context.channels
        detector = np.zeros((s.STATES, channels))
        detector[s.HEARD] = s.LOWEST_DB
        state = State(
            detector=detector,
            past=np.zeros((self.latency(params, context.rate), channels)),
            taken=np.zeros(channels),
            given=np.zeros(channels),
            heard=np.full(channels, -300.0),
        )
        state.nest("key_", listening.memory(context.rate, channels))
        return state

    def step(self, setup: Setup[CurveParams]) -> Step:
        params, context, ramp, state, told = setup
        peaks = params.detector == "peak"
        detector = d.PEAK if peaks else d.MEAN_SQUARE
        key_state, past = state.nested("key_"), state["past"]
        value, step = ramp.value, ramp.step
        moving = bool(step[:, s.BASE : s.CONTROLS].any())

        def run(block: Sound, key: Sound, start: int) -> tuple[Sound, Report]:
            change, heard = np.empty_like(block), np.empty_like(block)
            listened = listening.heard(key, peaks, key_state)
            of = (value, step, detector, moving, state["detector"])
            s.curve_into(change, heard, listened, start, *of)
            out = gained(block, ramp, MAKEUP, start, -change, past)
            if not told:
                return out, NOTHING
            late = start - len(past)
            level = heard if context.observe else None
            return out, change_report(change, level, late, state)

        return run

    def drawing(self, params: CurveParams, context: Context) -> LevelCurve:
        levels, out = s.tabulate(params.points, params.smooth)
        bare = [(float(x), float(y)) for x, y in zip(levels[::5], out[::5], strict=True)]
        return LevelCurve(bare=bare, curve=[(x, y + params.makeup_db) for x, y in bare])
