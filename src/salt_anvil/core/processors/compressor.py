"""compressor: level control by a static curve and two time constants."""

from collections.abc import Callable
from functools import lru_cache
from typing import Any, Literal

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import dynamics as d
from salt_anvil.core.dsp import listening
from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.dsp.control_ramp import Ramp, Vector
from salt_anvil.core.dsp.decibel import to_gain
from salt_anvil.core.dsp.delay import delayed
from salt_anvil.core.dsp.note import Note, note_ms
from salt_anvil.core.dsp.sharing import shared_of
from salt_anvil.core.dsp.stereo import from_mid_side, to_mid_side
from salt_anvil.core.errors import SettingError
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
from salt_anvil.core.processors.drawing import LevelCurve
from salt_anvil.core.processors.fields import (
    Detector,
    LinkBy,
    Quality,
    Stereo,
    detector,
    given_back,
    knee,
    link,
    link_by,
    link_edge,
    link_hits,
    lookahead,
    makeup,
    rms_time,
    share,
    stereo,
)
from salt_anvil.core.processors.parts import (
    NOTHING_SHARED,
    bent,
    cells_of,
    check_range,
    gained,
    in_range,
    keeping,
    linking_state,
    offset_state,
    range_sections,
)
from salt_anvil.core.state import State

MAKEUP, COLOUR, BALANCE = d.CONTROLS, d.CONTROLS + 1, d.CONTROLS + 2
CONTROLS = d.CONTROLS + 3
COLOUR_DB = 18.0
"""Drive of the output stage at full colour; common practice, no source."""
QUALITY: Quality = "good"
SURE_DB = 0.01
RESTORE_MS = 25.0
MOST_BACK_DB = 60.0
SLOW_RISE, SLOW_FALL = 4.0, 10.0
"""Programme-dependent release: the slow part's times as multiples of the release."""


class CompressorParams(Params):
    """Parameters of the compressor."""

    threshold_db: float = number(
        -18,
        -60,
        0,
        label="Threshold",
        unit="dB",
        scale="db",
        marks=(-60, -48, -36, -24, -12, 0),
        doc="Level above which the gain is turned down.",
    )
    ratio: float = number(
        4,
        1,
        100,
        label="Ratio",
        unit=": 1",
        scale="log",
        marks=(1, 2, 4, 8, 20, 100),
        doc="Input dB above the threshold for one dB more out; 100 acts as infinite.",
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
        doc="Time to 63 % of a new, greater reduction.",
    )
    release_ms: float = number(
        120,
        5,
        4000,
        label="Release",
        unit="ms",
        scale="log",
        marks=(5, 20, 100, 500, 2000),
        when={"release_mode": ["time", "auto"]},
        doc="Time in which 63 % of the reduction is gone.",
    )
    release_note: Note = choice(
        "1/8",
        label="Release note",
        change="glide",
        when={"release_mode": ["tempo"]},
        doc="Release as a note value; a point dots it, t makes it a triplet.",
    )
    knee_db: float = knee()
    hold_ms: float = number(
        0,
        0,
        500,
        label="Hold",
        unit="ms",
        marks=(0, 100, 200, 300, 400, 500),
        doc="Time that a reduction stands before it is released.",
    )
    makeup_db: float = makeup("Make-up", "Gain after the reduction.")
    max_reduction_db: float = number(
        60,
        0,
        60,
        label="Most reduction",
        unit="dB",
        marks=(0, 12, 24, 36, 48, 60),
        doc="The curve never asks for more than this.",
    )
    restore: float = share(
        0,
        label="Restore",
        doc=f"Share of the transients given back (what goes within {RESTORE_MS:g} ms of a hit).",
    )
    colour: float = share(
        0, label="Colour", doc="How much of the output stage's bend is heard; at 0 there is none."
    )
    colour_balance: float = share(
        0.5, label="Colour balance", doc="0 adds even harmonics alone, 1 odd ones alone."
    )
    link: float = link()
    link_hits: float = link_hits()
    link_low_hz: float | None = link_edge("low")
    link_high_hz: float | None = link_edge("high")
    lookahead_ms: float = lookahead(
        "Reduction begins this much before the sound that asks for it.",
        when={"topology": ["feed-forward"]},
    )
    rms_ms: float = rms_time()
    release_bpm: float | None = number(
        None,
        20,
        300,
        label="Tempo",
        unit="bpm",
        when={"release_mode": ["tempo"]},
        marks=(20, 60, 90, 120, 180, 300),
        scale="log",
        doc="Tempo for the note value; left open, it is the session's.",
    )
    release_mode: Literal["time", "tempo", "auto"] = choice(
        "time",
        label="Release by",
        doc="A time, a note value, or by the programme: peaks fast, sustained reduction slowly.",
    )
    detector: Detector = detector()
    ballistics: Literal["decoupled", "branching"] = choice(
        "decoupled",
        label="Ballistics",
        doc="Decoupled: release runs first, attack smooths it. Branching: one or the other.",
    )
    topology: Literal["feed-forward", "feed-back"] = choice(
        "feed-forward", label="Topology", doc="Listens to its input, or to its own output."
    )
    stereo: Stereo = stereo()
    link_by: LinkBy = link_by()
    auto_makeup: bool = choice(
        False,
        label="Keep loudness",
        change="glide",
        doc="As loud as what came in: measured over the whole song, and until then half of what the"
        " curve takes from a full-scale level. Make-up comes on top.",
    )
    given_back_db: float | None = given_back(MOST_BACK_DB, {"auto_makeup": ["true"]})


class CompressorDrawing(LevelCurve):
    """Its curve, and what is chosen for it."""

    release_ms: float
    makeup_db: float


class Compressor(Processor[CompressorParams]):
    """Compressor after Giannoulis, Massberg and Reiss (2012), with a solved feed-back form."""

    kind = "compressor"
    title = "Compressor"
    doc = "Turns down what is louder than a threshold, by a ratio, with attack and release."
    Params = CompressorParams
    drawn_as = CompressorDrawing
    pictures = ("curve", "hits")
    holds = "level"
    releases_between_hits = True
    has_sidechain = True
    level_line = "threshold_db"

    def latency(self, params: CompressorParams, rate: int) -> int:
        colour = o.LATENCY if params.colour > 0 else 0
        return _wait(params, rate) + colour

    def release_ms(self, params: CompressorParams, context: Context) -> float:
        """Return the release time in force.

        Raises:
            SettingError: a note value without any tempo.
        """
        if params.release_mode != "tempo":
            return params.release_ms
        bpm = params.release_bpm or context.bpm
        if bpm is None:
            raise SettingError(
                "release_mode “tempo” needs a tempo: that of the session, or release_bpm"
            )
        return note_ms(params.release_note, bpm)

    def makeup_db(self, params: CompressorParams, context: Context) -> float:
        if not params.auto_makeup:
            return params.makeup_db
        if params.given_back_db is not None:
            return params.makeup_db + params.given_back_db
        return params.makeup_db + 0.5 * self._curve(params, 0.0)

    def measures_loudness(self, params: CompressorParams) -> bool:
        return params.auto_makeup and params.given_back_db is None

    def settled(
        self, params: CompressorParams, measured: JoinMeasurement | None, mix: float
    ) -> CompressorParams:
        return keeping(params, measured, mix, MOST_BACK_DB, "makeup_db")

    def check_outside_key(self, params: CompressorParams) -> None:
        if params.topology == "feed-back":
            raise SettingError("feed-back hears its own output and cannot take an outside key")

    def hears_waveform(self, params: CompressorParams) -> bool:
        return params.detector == "peak" and params.topology == "feed-forward"

    def _curve(self, params: CompressorParams, level_db: float) -> float:
        slope = _slope(params.ratio)
        return float(
            d.curve_reduction(
                level_db, params.threshold_db, slope, params.knee_db, params.max_reduction_db
            )
        )

    def controls(self, params: CompressorParams, context: Context) -> Vector:
        if params.topology == "feed-back" and params.lookahead_ms > 0:
            raise SettingError(
                f"lookahead_ms is {params.lookahead_ms:g}; feed-back hears its own output and"
                " cannot look ahead (allowed: 0)"
            )
        check_range("link_low_hz", params.link_low_hz, "link_high_hz", params.link_high_hz)
        rate = context.rate
        release = self.release_ms(params, context)
        vector = np.zeros(CONTROLS)
        vector[COLOUR], vector[BALANCE] = params.colour, params.colour_balance
        vector[d.THRESHOLD] = params.threshold_db
        vector[d.SLOPE] = _slope(params.ratio)
        vector[d.KNEE] = params.knee_db
        vector[d.ATTACK] = d.rate_of(params.attack_ms, rate)
        vector[d.RELEASE] = d.rate_of(release, rate)
        vector[d.HOLD] = params.hold_ms * rate / 1000
        vector[d.RMS] = d.rate_of(params.rms_ms, rate)
        vector[d.MOST] = params.max_reduction_db
        vector[d.LINK] = params.link
        vector[d.LINK_HITS] = params.link_hits
        vector[d.RESTORE] = params.restore
        vector[d.RESTORE_RATE] = d.rate_of(RESTORE_MS, rate)
        vector[d.SLOW_RISE] = d.rate_of(SLOW_RISE * release, rate)
        vector[d.SLOW_FALL] = d.rate_of(SLOW_FALL * release, rate)
        vector[MAKEUP] = self.makeup_db(params, context)
        return vector

    def prepare(self, params: CompressorParams, context: Context) -> State:
        channels = context.channels
        state = State(
            detector=np.zeros((d.STATES, channels)),
            past=np.zeros((_wait(params, context.rate), channels)),
            cell=np.zeros(channels),
            heard=np.full(channels, -300.0),
        )
        state.nest("key_", listening.memory(context.rate, channels))
        if channels == 2:
            state.nest("link_", linking_state(context.rate))
        if params.colour > 0:
            state["late"] = np.zeros((o.LATENCY, channels))
            state.nest("offset_", offset_state(channels))
            state.update(o.shaping_state(channels))
        return state

    def step(self, setup: Setup[CompressorParams]) -> Step:
        params, context, ramp, state, told = setup
        sides = params.stereo == "mid-side" and context.channels == 2
        # A level that is drawn is told exactly, however quiet; so is one that is linked in part.
        whole = params.link_by == "whole" and ramp.value[0, d.LINK] in (0.0, 1.0)
        least = 0.0 if context.observe or not whole else _from(ramp)
        peaks, flags = params.detector == "peak", _flags(params)
        key_state, detector, past = state.nested("key_"), state["detector"], state["past"]
        share = self._sharing(setup)

        def run(block: Sound, key: Sound, start: int) -> tuple[Sound, Report]:
            reduction = np.empty_like(block)
            heard = np.empty_like(block) if context.observe else np.empty((0, context.channels))
            listened = to_mid_side(key) if sides else key
            shared = share(listened)
            listened = listening.heard(listened, peaks, key_state, least)
            d.reduce_into(
                reduction, heard, listened, shared, start, ramp.value, ramp.step, flags, detector
            )
            if sides:
                middle_side = to_mid_side(delayed(block, past))
                out = from_mid_side(gained(middle_side, ramp, MAKEUP, start, reduction))
            else:
                out = gained(block, ramp, MAKEUP, start, reduction, past)
            if "late" in state:
                out = _coloured(out, ramp, context.rate, state, start)
            if not told:
                return out, NOTHING
            late = start - len(past)
            cells = {"reduction_db": cells_of(reduction, late, state["cell"], 0.0)}
            if context.observe:
                # In the time of the sound that is turned down, like the reduction itself.
                cells["level_db"] = cells_of(heard, late, state["heard"], -300.0)
            return out, Report(late // GRID, cells)

        return run

    def _sharing(self, setup: Setup[CompressorParams]) -> Callable[[Sound], Sound]:
        """Return what gives what the channels tell each other: of 0 frames where that is their
        levels."""
        params, context, ramp, state, _ = setup
        if context.channels < 2 or params.link_by == "whole":
            return lambda key: NOTHING_SHARED
        sections = range_sections(params.link_low_hz, params.link_high_hz, context.rate)
        mine, peaks = state.nested("link_"), params.detector == "peak"
        rms = 0.0 if peaks else float(ramp.value[0, d.RMS])

        def share(key: Sound) -> Sound:
            heard = listening.heard(in_range(key, sections, mine["range"]), peaks, mine)
            return shared_of(heard, context.rate, mine["shared"], rms)

        return share

    def drawing(self, params: CompressorParams, context: Context) -> CompressorDrawing:
        levels = [-60 + 0.5 * i for i in range(121)]
        makeup = self.makeup_db(params, context)
        return CompressorDrawing(
            curve=[(x, x - self._curve(params, x) + makeup) for x in levels],
            bare=[(x, x - self._curve(params, x)) for x in levels],
            release_ms=self.release_ms(params, context),
            makeup_db=makeup,
        )


def _coloured(sound: Sound, ramp: Ramp, rate: int, state: State, start: int) -> Sound:
    """Return the sound with what the output stage bends, o.LATENCY frames late."""
    odd = ramp.column(BALANCE)
    still, gain = np.zeros(len(ramp.value)), to_gain(COLOUR_DB)
    level = bent(gain * sound, start, odd, (still, still), rate, QUALITY, state)
    share = ramp.frames(COLOUR, start, len(sound))
    out: Sound = delayed(sound, state["late"]) - (share / gain) * level
    return out


def _from(ramp: Ramp) -> float:
    """Return the amplitude up to which the curve asks for nothing."""
    if not ramp.still:
        return 0.0
    return to_gain(float(ramp.value[0, d.THRESHOLD] - ramp.value[0, d.KNEE] / 2) - SURE_DB)


def _wait(params: CompressorParams, rate: int) -> int:
    """Return the frames from the sound to the gain that it asks for."""
    return round(params.lookahead_ms * rate / 1000) + listening.LATENCY


def _slope(ratio: float) -> float:
    return 1.0 if ratio >= 100 else 1.0 - 1.0 / ratio


def _flags(params: CompressorParams) -> np.ndarray[Any, np.dtype[np.int64]]:
    return _flags_of(params.detector, params.ballistics, params.topology, params.release_mode)


@lru_cache(maxsize=64)
def _flags_of(
    detector: str, ballistics: str, topology: str, release_mode: str
) -> np.ndarray[Any, np.dtype[np.int64]]:
    return np.array(
        [
            d.MEAN_SQUARE if detector == "rms" else d.PEAK,
            d.BRANCHING if ballistics == "branching" else d.DECOUPLED,
            d.BACK if topology == "feed-back" else d.FORWARD,
            release_mode == "auto",
        ],
        np.int64,
    )
