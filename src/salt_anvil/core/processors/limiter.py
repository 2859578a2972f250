"""limiter: a ceiling that nothing passes, reached before the peak comes."""

from collections.abc import Callable
from typing import Literal

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import clip as c
from salt_anvil.core.dsp import dynamics as d
from salt_anvil.core.dsp import lookahead_limiter as w
from salt_anvil.core.dsp import oversample as o
from salt_anvil.core.dsp import sharing
from salt_anvil.core.dsp.between import AFTER
from salt_anvil.core.dsp.control_ramp import Ramp, Vector
from salt_anvil.core.dsp.delay import delayed
from salt_anvil.core.dsp.sharing import shared_of
from salt_anvil.core.processors import wall as walls
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
from salt_anvil.core.processors.fields import LinkBy, link, link_by, link_edge, link_hits, share
from salt_anvil.core.processors.parts import (
    NOTHING_SHARED,
    cells_of,
    check_range,
    gained,
    in_range,
    level_cells,
    range_sections,
)
from salt_anvil.core.state import State

LONGEST_MS = 50.0
"""Period of the lowest note whose peaks are waited for: 20 Hz."""
HOLD_MS = 8.0
"""Time that the invisible character waits: half a period of 60 Hz."""
BODY_MS = 150.0
"""Time in which the heavy character's slow body grows."""
SHORT = 0.25
"""Share of the look-ahead in which the quick character gives way."""
QUICK = 0.25
"""Release of isolated peaks, as a share of the release."""
LASTING = 4.0
"""Time for which a reduction has to last, in releases, to count as sustained."""
SHAPE = 0.5
"""Of the soft clip: it bends from half the ceiling on."""
QUALITY = "high"
DRIVE, CEILING, ROUND, TRIM = range(w.CONTROLS, w.CONTROLS + 4)


class LimiterParams(Params):
    """Parameters of the limiter."""

    drive_db: float = number(
        0,
        0,
        24,
        label="Drive",
        unit="dB",
        marks=(0, 6, 12, 18, 24),
        doc="Gain into the wall.",
    )
    ceiling_db: float = number(
        -1,
        -24,
        0,
        label="Ceiling",
        unit="dB",
        scale="db",
        marks=(-24, -18, -12, -6, 0),
        doc="The level that is not passed.",
    )
    release_ms: float = number(
        60,
        1,
        1000,
        label="Release",
        unit="ms",
        scale="log",
        marks=(1, 10, 100, 1000),
        doc="Time in which 63 % of the reduction is gone.",
    )
    lookahead_ms: float = number(
        5,
        0.5,
        20,
        label="Look-ahead",
        unit="ms",
        step=0.1,
        change="structural",
        marks=(0.5, 5, 10, 15, 20),
        doc="Time in which the gain gives way before a peak; longer is cleaner.",
    )
    round: float = share(
        0, label="Round", doc="Soft clipping ahead of the wall, from 6 dB under the ceiling."
    )
    trim_db: float = number(
        0,
        -12,
        0,
        label="Trim",
        unit="dB",
        scale="db",
        marks=(-12, -9, -6, -3, 0),
        doc="Gain behind the wall.",
    )
    link: float = link()
    link_hits: float = link_hits()
    link_low_hz: float | None = link_edge("low")
    link_high_hz: float | None = link_edge("high")
    character: Literal["invisible", "quick", "heavy"] = choice(
        "invisible",
        label="Character",
        doc="Invisible: gives way over the whole look-ahead and waits before it returns. Quick:"
        " late, short, loud. Heavy: lows push the whole, peaks on top return at once.",
    )
    release_mode: Literal["fixed", "adaptive"] = choice(
        "fixed",
        label="Release by",
        doc="Fixed, or up to four times faster behind isolated peaks.",
    )
    link_by: LinkBy = link_by()
    hold_lows: bool = choice(
        True,
        label="Hold lows",
        doc="Waits for the next peak of a low note before it lets go, so that it stays clean.",
    )
    true_peak: bool = choice(
        True,
        label="True peak",
        doc="Also holds what rises between the samples.",
    )
    second_wall: Literal["auto", "on", "off"] = choice(
        "auto",
        label="Second wall",
        change="structural",
        when={"true_peak": ["true"]},
        doc="Behind the first, for what its own moving gain raises between the samples of very"
        " bright sound. Auto: where it has less than 5 ms to give way (quick, a short look-ahead)."
        f" {walls.second_frames(48000) / 48:.0f} ms later.",
    )


class Limiter(Processor[LimiterParams]):
    """Look-ahead limiter on true peaks, 16 points a frame."""

    kind = "limiter"
    title = "Limiter"
    doc = "Holds peaks under a ceiling, also between the samples, with gain that gives way early."
    Params = LimiterParams
    pictures = ("ceiling",)
    holds = "peaks"
    releases_between_hits = True
    level_line = "ceiling_db"
    level_behind = "drive_db"

    def _ahead(self, params: LimiterParams, rate: int) -> int:
        return round(params.lookahead_ms * rate / 1000)

    def latency(self, params: LimiterParams, rate: int) -> int:
        rounds = o.LATENCY if params.round > 0 else 0
        return self._ahead(params, rate) + AFTER + rounds + self._behind(params, rate)

    def _behind(self, params: LimiterParams, rate: int) -> int:
        """Return the frames by which the second wall is later than the first."""
        short = _way(params) * params.lookahead_ms < walls.SECOND_MS
        second = params.second_wall == "on" or (params.second_wall == "auto" and short)
        return walls.second_frames(rate) if second and params.true_peak else 0

    def controls(self, params: LimiterParams, context: Context) -> Vector:
        check_range("link_low_hz", params.link_low_hz, "link_high_hz", params.link_high_hz)
        rate, release = context.rate, params.release_ms
        vector = np.zeros(w.CONTROLS + 4)
        vector[w.TARGET] = params.ceiling_db + (w.AIM_DB if params.true_peak else 0.0)
        vector[w.LINK] = params.link
        vector[w.LINK_HITS] = params.link_hits
        vector[w.RELEASE] = d.rate_of(release, rate)
        vector[w.QUICK] = d.rate_of(QUICK * release, rate)
        vector[w.LASTING] = d.rate_of(LASTING * release, rate)
        vector[w.HOLD] = HOLD_MS * rate / 1000 if params.character == "invisible" else 0.0
        vector[w.BODY_RISE] = d.rate_of(BODY_MS, rate) if params.character == "heavy" else 0.0
        vector[DRIVE] = params.drive_db
        vector[CEILING] = params.ceiling_db
        vector[ROUND] = params.round
        vector[TRIM] = params.trim_db
        return vector

    def makeup_db(self, params: LimiterParams, context: Context) -> float:
        return params.drive_db + params.trim_db

    def prepare(self, params: LimiterParams, context: Context) -> State:
        channels = context.channels
        ahead = self._ahead(params, context.rate)
        behind = self._behind(params, context.rate)
        state = walls.wall_state(ahead, channels)
        state.update(
            past=np.zeros((ahead + AFTER, channels)),
            seen=np.zeros((ahead + behind, channels)),
            taken=np.zeros(channels),
            heard=np.zeros(channels),
        )
        if behind:
            state.nest("second_", walls.second_state(context.rate, channels))
            state["first"] = np.zeros((behind, channels))
        if channels == 2:
            state["link_range"] = np.zeros((2, 2, 2))
            state["link_late"] = np.zeros((AFTER, 2))
            state["link_shared"] = np.zeros((sharing.STATES, 2))
        if params.round > 0:
            state["unbent"] = np.zeros((o.LATENCY, channels))
            state.update(o.shaping_state(channels))
        return state

    def step(self, setup: Setup[LimiterParams]) -> Step:
        params, context, ramp, state, told = setup
        value = np.ascontiguousarray(ramp.value[:, : w.CONTROLS])
        step = np.ascontiguousarray(ramp.step[:, : w.CONTROLS])
        behind = o.LATENCY if "unbent" in state else 0
        way, adaptive = _way(params), params.release_mode == "adaptive"
        longest = LONGEST_MS * context.rate / 1000 if params.hold_lows else 0.0
        past, share = state["past"], self._sharing(setup)
        second = state.nested("second_") if "second_past" in state else None

        def run(block: Sound, _: Sound, start: int) -> tuple[Sound, Report]:
            driven = gained(block, ramp, DRIVE, start)
            if behind:
                driven = _rounded(driven, ramp, state, start)
            peaks = walls.peaks_of(driven, value, state, between=params.true_peak)
            reduction = walls.reduction_of(
                peaks,
                value,
                step,
                state,
                start,
                share=way,
                adaptive=adaptive,
                longest=longest,
                shared=share(driven, peaks),
            )
            taken, late = reduction, start - len(past) - behind
            if second is None:
                out = gained(driven, ramp, TRIM, start, reduction, past)
            else:
                once, reduction = walls.second_wall(
                    delayed(driven, past), reduction, value, step, second, start, longest
                )
                taken = reduction + delayed(taken, state["first"])
                late -= len(second["past"])
                out = gained(once, ramp, TRIM, start, reduction)
            if not told:
                return out, NOTHING
            cells = {"reduction_db": cells_of(taken, late, state["taken"], 0.0)}
            if context.observe:
                seen = delayed(peaks, state["seen"])
                cells["level_db"] = level_cells(seen, late, state["heard"])
            return out, Report(late // GRID, cells)

        return run

    def _sharing(self, setup: Setup[LimiterParams]) -> Callable[[Sound, Sound], Sound]:
        """Return what gives what the channels tell each other: of 0 frames where that is their
        peaks."""
        params, context, state = setup.params, setup.context, setup.state
        if context.channels < 2 or params.link_by == "whole":
            return lambda driven, peaks: NOTHING_SHARED
        sections = range_sections(params.link_low_hz, params.link_high_hz, context.rate)

        def share(driven: Sound, peaks: Sound) -> Sound:
            if len(sections):
                band = in_range(driven, sections, state["link_range"])
                peaks = np.abs(delayed(band, state["link_late"]))
            return shared_of(peaks, context.rate, state["link_shared"])

        return share


def _way(params: LimiterParams) -> float:
    """Return the share of the look-ahead in which the gain gives way."""
    return SHORT if params.character == "quick" else 1.0


def _rounded(driven: Sound, ramp: Ramp, state: State, start: int) -> Sound:
    """Return the sound with its peaks bent towards the ceiling, o.LATENCY frames late."""
    # The ceiling glides in dB; the bend wants amplitudes, straight within a cell.
    begin = 10 ** (ramp.value[:, CEILING] / 20)
    end = 10 ** ((ramp.value[:, CEILING] + GRID * ramp.step[:, CEILING]) / 20)
    step, shape = (end - begin) / GRID, np.full(len(begin), SHAPE)
    cut = c.cut_block(driven, start, begin, step, shape, *o.given(QUALITY, state))
    share = ramp.frames(ROUND, start, len(driven))
    out: Sound = delayed(driven, state["unbent"]) - share * cut
    return out
