"""transient: more or less attack, more or less sustain, whatever the level."""

from typing import Any, Literal

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import transient_split as t
from salt_anvil.core.dsp.control_ramp import Ramp, Vector
from salt_anvil.core.dsp.delay import no_wait
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
from salt_anvil.core.processors.fields import link
from salt_anvil.core.processors.parts import (
    cells_of,
    change_cells,
    check_range,
    in_range,
    range_sections,
)
from salt_anvil.core.state import State

RISE_MS, FALL_MS, CALM_MS = 0.3, 15.0, 0.5
"""Times of the level that is listened to, and of the gain; common practice, no source."""
HOLD_MS = 12.5
"""A peak is held for half a period of 40 Hz, so that lower tones only are taken for hits."""
PEAKS_FALL_MS = 3000.0
LOWEST, HIGHEST = 20, 20000
SIDES = ("attack", "sustain")


def _edge(side: str, end: str) -> Any:
    whole = "the lowest" if end == "low" else "the highest"
    return number(
        None,
        LOWEST,
        HIGHEST,
        label=f"{side.capitalize()} {'from' if end == 'low' else 'to'}",
        unit="Hz",
        scale="log",
        step=1,
        change="switch",
        marks=(20, 200, 2000, 20000),
        doc=f"{'Low' if end == 'low' else 'High'} end of the range for the {side}; open: {whole}.",
    )


class TransientParams(Params):
    """Parameters of the transient shaper. The ranges are pairs of edges, each with a control."""

    attack_db: float = number(
        0,
        -24,
        24,
        label="Attack",
        unit="dB",
        marks=(-24, -12, 0, 12, 24),
        doc="Gain of the first moment of a hit.",
    )
    sustain_db: float = number(
        0,
        -24,
        24,
        label="Sustain",
        unit="dB",
        marks=(-24, -12, 0, 12, 24),
        doc="Gain of what follows until the next hit.",
    )
    attack_ms: float = number(
        20,
        1,
        200,
        label="Attack length",
        unit="ms",
        scale="log",
        marks=(1, 10, 100),
        doc="How long a moment counts as attack.",
    )
    sustain_ms: float = number(
        300,
        20,
        3000,
        label="Sustain length",
        unit="ms",
        scale="log",
        marks=(20, 200, 2000),
        doc="How slowly a decay may be and still count as sustain: the longer, the more does.",
    )
    attack_low_hz: float | None = _edge("attack", "low")
    attack_high_hz: float | None = _edge("attack", "high")
    sustain_low_hz: float | None = _edge("sustain", "low")
    sustain_high_hz: float | None = _edge("sustain", "high")
    link: float = link()
    range_acts: Literal["detector", "signal"] = choice(
        "detector", label="Range", doc="The range only decides, or is also all that is changed."
    )
    keep_peaks: bool = choice(
        False,
        label="Keep peaks",
        change="structural",
        doc="Leaves the peaks as high as they were, by a slow gain that looks 8 ms ahead.",
    )


class TransientDrawing(Drawing):
    """The level of a hit over milliseconds, as it comes in and shaped."""

    hit: Line
    shaped: Line


class Transient(Processor[TransientParams]):
    """Transient shaper on ratios of level followers."""

    kind = "transient"
    title = "Transient"
    doc = "Turns the attack of hits up or down, and their sustain, quiet and loud hits alike."
    Params = TransientParams
    drawn_as = TransientDrawing
    pictures = ("hit-shape", "shares")
    has_sidechain = True

    def latency(self, params: TransientParams, rate: int) -> int:
        return t.look_frames(rate) if params.keep_peaks else 0

    def controls(self, params: TransientParams, context: Context) -> Vector:
        for side in SIDES:
            low, high = _range(params, side)
            check_range(f"{side}_low_hz", low, f"{side}_high_hz", high)
        rate = context.rate
        vector = np.zeros(t.CONTROLS)
        vector[t.ATTACK_DB] = params.attack_db
        vector[t.SUSTAIN_DB] = params.sustain_db
        vector[t.SLOW_RISE] = rate_of(params.attack_ms, rate)
        vector[t.SLOW_FALL] = rate_of(params.sustain_ms, rate)
        vector[t.RISE] = rate_of(RISE_MS, rate)
        vector[t.FALL] = rate_of(FALL_MS, rate)
        vector[t.HOLD] = HOLD_MS * rate / 1000
        vector[t.CALM] = rate_of(CALM_MS, rate)
        vector[t.LINK] = params.link
        return vector

    def prepare(self, params: TransientParams, context: Context) -> State:
        channels = context.channels
        state = State(
            taken=np.zeros(channels),
            given=np.zeros(channels),
            heard=np.full(channels, -300.0),
        )
        for side in SIDES:
            state[f"{side}_detector"] = np.zeros((t.STATES, channels))
            state[f"{side}_key"] = np.zeros((2, channels, 2))
            state[f"{side}_band"] = np.zeros((2, channels, 2))
            state[f"{side}_cell"] = np.zeros(channels)
        if params.keep_peaks:
            state.update(t.peaks_state(context.rate, channels))
        return state

    def step(self, setup: Setup[TransientParams]) -> Step:
        params, context, ramp, state, told = setup
        observe, nothing = context.observe, np.empty((0, context.channels))
        fall = rate_of(PEAKS_FALL_MS, context.rate)
        sides = [
            (side, range_sections(*_range(params, side), context.rate), ramp.column(index))
            for side, index in (("attack", t.ATTACK_DB), ("sustain", t.SUSTAIN_DB))
        ]

        def run(block: Sound, key: Sound, start: int) -> tuple[Sound, Report]:
            out, gains, cells = block, [], {}
            for side, sections, column in sides:
                shares, gain = np.empty_like(block), np.empty_like(block)
                heard = np.empty_like(block) if observe and side == "attack" else nothing
                t.shares_into(
                    shares,
                    heard,
                    in_range(key, sections, state[f"{side}_key"]),
                    start,
                    ramp.value,
                    ramp.step,
                    side == "sustain",
                    state[f"{side}_detector"],
                )
                t.scale_into(gain, shares, start, *column)
                acts = params.range_acts == "signal" and len(sections) > 0
                out = _changed(out, gain, start, sections if acts else None, state[f"{side}_band"])
                gains.append(gain)
                if told and observe:
                    cells[f"{side}_share"] = cells_of(shares, start, state[f"{side}_cell"], 0.0)
                    if len(heard):
                        cells["level_db"] = cells_of(heard, start, state["heard"], -300.0)
            if params.keep_peaks:
                out = t.keep_peaks(out, block, start, fall, state)
            if not told:
                return out, NOTHING
            return out, Report(
                start // GRID, cells | change_cells(gains[0] + gains[1], start, state)
            )

        return run

    def hears_waveform(self, params: TransientParams) -> bool:
        return _range(params, "attack") == (None, None)

    def drawing(self, params: TransientParams, context: Context) -> TransientDrawing:
        """The level of one hit of our own, 5 ms up and falling by 60 dB in 400 ms, shaped."""
        rate, step = 8000, 16
        at = np.arange(int(0.6 * rate)) / rate
        level = np.minimum(at / 0.002, 1) * 10 ** (-3 * at / 0.4)
        hit = np.concatenate([np.zeros(80), level, np.zeros(80)])[:, None]
        bare = params.model_copy(
            update=dict.fromkeys([f"{s}_{e}_hz" for s in SIDES for e in ("low", "high")])
            | {"keep_peaks": False}
        )
        small = Context(rate, 1)
        vector = self.controls(bare, small)
        ramp = Ramp(
            np.repeat(vector[None], 1 + len(hit) // GRID, axis=0),
            np.zeros((1 + len(hit) // GRID, len(vector))),
        )
        shape = self.step(Setup(bare, small, ramp, self.prepare(bare, small)))
        out, _ = shape(hit, hit, 0)
        ms = (np.arange(len(hit)) - 80) / rate * 1000
        before, after = (
            [(float(a), float(b)) for a, b in zip(ms[::step], sound[::step, 0], strict=True)]
            for sound in (hit, out)
        )
        return TransientDrawing(hit=before, shaped=after)


def _range(params: TransientParams, side: str) -> tuple[float | None, float | None]:
    return getattr(params, f"{side}_low_hz"), getattr(params, f"{side}_high_hz")


def _changed(sound: Sound, gain: Sound, start: int, sections: Sound | None, memory: Sound) -> Sound:
    """Return the sound with a gain in dB, or with the gain on what passes the sections."""
    still = np.zeros(len(gain) // GRID + 2)
    out = np.empty_like(sound)
    if sections is None:
        gain_into(out, sound, -gain, start, still, still, no_wait(sound))
        return out
    band = in_range(sound, sections, memory)
    gain_into(out, band, -gain, start, still, still, no_wait(band))
    return np.asarray(sound + (out - band))
