"""saturator: a bend that adds even or odd harmonics, as loud as before if wanted."""

from typing import Literal

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import biquad
from salt_anvil.core.dsp import equaliser as t
from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp import waveshaper as s
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.dsp.control_ramp import Ramp, Vector, lag_state, lagging
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.dsp.delay import delayed, no_wait
from salt_anvil.core.dsp.dynamics import gain_into, rate_of
from salt_anvil.core.dsp.k_weighting import k_weighting
from salt_anvil.core.dsp.stereo import from_mid_side, to_mid_side
from salt_anvil.core.processors.bands import (
    Emphases,
    Emphasis,
    as_bands,
    bands_state,
    carry_bands,
    columns,
    response,
    same_shapes,
    shapes,
    toned,
)
from salt_anvil.core.processors.base import (
    Context,
    Params,
    Processor,
    Report,
    Setup,
    Step,
    bands,
    choice,
    number,
)
from salt_anvil.core.processors.drawing import Harmonics, Responses, Shaper
from salt_anvil.core.processors.fields import (
    Quality,
    Stereo,
    given_back,
    link,
    makeup,
    quality,
    share,
    stereo,
)
from salt_anvil.core.processors.parts import bent, gained, keeping, offset_state
from salt_anvil.core.state import State

DRIVE, ODD, LEAN, OUTPUT, LINK, MATCH, EMPHASIS = range(7)
MOST_BANDS = 3
MATCH_MS = 1000.0
"""Time of the mean squares that the loudness make-up compares."""
MOST_DB = 24.0
SHOWN_DB = -12.0
"""Level of the sine whose harmonics are drawn."""


class SaturatorParams(Params):
    """Parameters of the saturator."""

    drive_db: float = number(
        6,
        -12,
        36,
        label="Drive",
        unit="dB",
        scale="db",
        marks=(-12, 0, 12, 24, 36),
        doc="Gain into the bend, taken back behind it.",
    )
    harmonics: float = share(
        0.5, label="Harmonics", doc="0 adds even harmonics alone, 1 odd ones alone."
    )
    asymmetry: float = number(
        0,
        -1,
        1,
        label="Asymmetry",
        unit="",
        step=0.01,
        marks=(-1, -0.5, 0, 0.5, 1),
        doc="Moves the middle of the odd bend, so that one side bends sooner.",
    )
    lean_db: float = number(
        0,
        0,
        12,
        label="Lean",
        unit="dB",
        marks=(0, 3, 6, 9, 12),
        doc="In by so much, out by so much: more bend at the same level.",
    )
    output_db: float = makeup("Output", "Gain at the end.")
    link: float = link("1: the loudness make-up is one gain for both channels; 0: each for itself.")
    quality: Quality = quality("high")
    makeup: Literal["off", "loudness"] = choice(
        "off",
        label="Make-up",
        change="glide",
        doc="Loudness: as loud as what came in, K-weighted: measured over the whole song, and until"
        " then followed over about a second. Output comes on top.",
    )
    given_back_db: float | None = given_back(MOST_DB, {"makeup": ["loudness"]})
    undo_emphasis: bool = choice(
        True,
        label="Undo emphasis",
        doc="Takes the emphasis back behind the bend, so that it only decides what is bent.",
    )
    emphasis: Emphases = bands(
        (),
        Emphasis,
        MOST_BANDS,
        label="Emphasis",
        doc="Up to three bands before the drive, which decide what is bent.",
    )
    stereo: Stereo = stereo("Bends left and right, or middle and sides.")


class SaturatorDrawing(Shaper, Harmonics, Responses):
    """Its bend, what it adds to a sine, and the emphasis around it."""


def _toned(
    sound: Sound,
    emphasis: t.Shapes,
    value: Vector,
    step: Vector,
    memory: State,
    rate: int,
    start: int,
) -> Sound:
    if not len(emphasis):
        return sound
    return toned(sound, sound, emphasis, value, step, memory, rate, start, moving=False)[0]


class Saturator(Processor[SaturatorParams]):
    """Saturator with closed antiderivatives; the drive is taken back behind the bend."""

    kind = "saturator"
    title = "Saturator"
    doc = "Bends the wave: even or odd harmonics, soft peaks, density."
    Params = SaturatorParams
    drawn_as = SaturatorDrawing
    bends = True
    pictures = ("shaper", "bend")
    glyph = "shaper"

    def latency(self, params: SaturatorParams, rate: int) -> int:
        return o.LATENCY

    def makeup_db(self, params: SaturatorParams, context: Context) -> float:
        kept = params.given_back_db if params.makeup == "loudness" else None
        return params.output_db + (kept or 0.0)

    def measures_loudness(self, params: SaturatorParams) -> bool:
        return params.makeup == "loudness" and params.given_back_db is None

    def settled(
        self, params: SaturatorParams, measured: JoinMeasurement | None, mix: float
    ) -> SaturatorParams:
        return keeping(params, measured, mix, MOST_DB, "output_db")

    def controls(self, params: SaturatorParams, context: Context) -> Vector:
        drive = params.drive_db + params.lean_db
        # Followed until it is measured.
        follows = self.measures_loudness(params)
        output = self.makeup_db(params, context)
        single = [drive, params.harmonics, params.asymmetry, output, params.link, follows]
        emphasis = columns(as_bands(params.emphasis), context.rate, MOST_BANDS)
        return np.concatenate([single, emphasis])

    def switches(self, before: SaturatorParams, after: SaturatorParams) -> bool:
        same = same_shapes(as_bands(before.emphasis), as_bands(after.emphasis))
        return not same or super().switches(before, after)

    def carry(self, before: SaturatorParams, after: SaturatorParams, state: State) -> bool:
        old, new = as_bands(before.emphasis), as_bands(after.emphasis)
        if same_shapes(old, new):
            return False
        for name in ("emphasis_", "undo_"):
            carry_bands(old, new, state.nested(name))
        state["controls"][:] = np.nan
        return True

    def prepare(self, params: SaturatorParams, context: Context) -> State:
        channels = context.channels
        state = State(
            past=np.zeros((o.LATENCY, channels)),
            bare=np.zeros((o.LATENCY, channels)),
            weighted=np.zeros((2, channels, 2)),
            weighted_out=np.zeros((2, channels, 2)),
            powers=np.zeros((2, channels)),
            match=np.zeros((2, channels)),
            controls=lag_state(o.LATENCY, len(self.controls(params, context))),
        )
        state.update(o.shaping_state(channels))
        state.nest("offset_", offset_state(channels))
        for name in ("emphasis_", "undo_"):
            state.nest(name, bands_state(MOST_BANDS, channels))
        return state

    def step(self, setup: Setup[SaturatorParams]) -> Step:
        params, context, ramp, state, _ = setup
        rate, emphasis = context.rate, shapes(as_bands(params.emphasis))
        sides = params.stereo == "mid-side" and context.channels == 2
        value, step = ramp.value[:, EMPHASIS:], ramp.step[:, EMPHASIS:]
        leans, undoes = state.nested("emphasis_"), state.nested("undo_")
        odd, lean = ramp.column(ODD), ramp.column(LEAN)
        matches = bool(ramp.value[:, MATCH].any() or ramp.step[:, MATCH].any())

        def run(block: Sound, _: Sound, start: int) -> tuple[Sound, Report]:
            leaning = _toned(block, emphasis, value, step, leans, rate, start)
            driven = gained(leaning, ramp, DRIVE, start)
            if sides:
                driven = to_mid_side(driven)
            cut = bent(driven, start, odd, lean, rate, params.quality, state)
            if sides:
                cut = from_mid_side(cut)
            # Taken back from the sound that it was given to, however it moves meanwhile.
            late, then = lagging(ramp, o.LATENCY, start, len(block), state["controls"])
            level = gained(cut, late.negative(), DRIVE, then)
            bare, dry = delayed(block, state["bare"]), delayed(leaning, state["past"])
            back = level
            if len(emphasis):
                undone = t.undone(late.value[:, EMPHASIS:]), t.undone(late.step[:, EMPHASIS:])
                back = _toned(level, emphasis, *undone, undoes, rate, then)
            if params.undo_emphasis:
                dry, level = bare, back
            out = dry - level
            if matches:
                out = self._matched(out, bare, rate, ramp, state, start)
            out = gained(out, ramp, OUTPUT, start)
            return out, Report((start - o.LATENCY) // GRID, {})

        return run

    def _matched(
        self, out: Sound, dry: Sound, rate: int, ramp: Ramp, state: State, start: int
    ) -> Sound:
        sections = k_weighting(rate)
        heard = []
        for sound, name in ((dry, "weighted"), (out, "weighted_out")):
            weighted = np.empty_like(sound)
            biquad.filter_into(weighted, sound, sections, state[name])
            heard.append(weighted)
        gains = np.empty_like(out)
        s.match_into(
            gains,
            heard[0],
            heard[1],
            start,
            ramp.column(LINK)[0],
            *ramp.column(MATCH),
            rate_of(MATCH_MS, rate),
            MOST_DB,
            state["powers"],
            state["match"],
        )
        matched = np.empty_like(out)
        still = np.zeros(len(ramp.value))
        gain_into(matched, out, -gains, start, still, still, no_wait(out))
        return matched

    def drawing(self, params: SaturatorParams, context: Context) -> SaturatorDrawing:
        gain, output = to_gain(params.drive_db + params.lean_db), to_gain(params.output_db)
        shaper = []
        for i in range(-60, 61):
            x = i / 50
            taken = s.bend(gain * x, params.harmonics, params.asymmetry) / gain
            shaper.append((x, output * (x - taken)))
        turn = np.cos(2 * np.pi * np.arange(256) / 256) * to_gain(SHOWN_DB)
        bent = [v - s.bend(gain * v, params.harmonics, params.asymmetry) / gain for v in turn]
        parts = np.abs(np.fft.rfft(bent))[1:10] / 128
        return SaturatorDrawing(
            shaper=shaper,
            harmonics_db=[float(v) for v in 20 * np.log10(np.maximum(parts / parts[0], 1e-6))],
            shown_db=SHOWN_DB,
            **vars(response(as_bands(params.emphasis), context.rate)),
        )
