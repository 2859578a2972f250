"""tamer: turns places that ring down, each as far as it stands over its flanks."""

import math

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import resonance_cut as r
from salt_anvil.core.dsp.blend import JoinMeasurement, kept_db
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.equaliser import warped
from salt_anvil.core.dsp.k_weighting import k_weighting
from salt_anvil.core.processors.base import (
    NOTHING,
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
from salt_anvil.core.processors.drawing import Drawing
from salt_anvil.core.processors.fields import Stereo, given_back, link, share, stereo
from salt_anvil.core.processors.parts import check_range, in_range, shared_cells
from salt_anvil.core.state import State

MOST = 12
MOST_BACK_DB = 12.0
RELEASES = 4.0
"""The release is so many times the speed."""
ABOVE_SCAN_DB = 3.0
"""A place takes at most so much more than it stood over its surroundings."""

REGIONS = (
    (60.0, "rumble"), (180.0, "boom"), (350.0, "mud"), (700.0, "box"), (1500.0, "honk"),
    (2500.0, "hard"), (5000.0, "harsh"), (9000.0, "sharp"), (np.inf, "fizz"),
)  # fmt: skip
"""Up to which frequency how the trade calls it; common practice, no source."""


class Place(Params):
    """One place that rings, as a scan found it or a hand set it."""

    hz: float = number(
        1000, 40, 16000, label="Frequency", unit="Hz", scale="log", step=1,
        marks=(40, 100, 1000, 10000), doc="Middle of the place.",
    )  # fmt: skip
    width_oct: float = number(
        0.3, 0.03, 1.5, label="Width", unit="oct", scale="log", step=0.01,
        marks=(0.03, 0.1, 0.3, 1), doc="How wide the place is, between its half-gain points.",
    )  # fmt: skip
    depth_db: float = number(
        6, 0, 18, label="Depth", unit="dB", step=0.5, marks=(0, 6, 12, 18),
        doc="The most that is taken here.",
    )  # fmt: skip
    over_db: float = number(
        6, 0, 20, label="Over", unit="dB", marks=(0, 6, 12, 20),
        doc="How far the place stands over its surroundings on the whole; a scan measures it.",
    )  # fmt: skip
    time_share: float = share(
        1, label="Share of time", doc="For which share of the time it was there when scanned."
    )
    on: bool = choice(True, label="On", change="glide", doc="Whether anything is taken here.")


Places = tuple[Place, ...]


class TamerParams(Params):
    """Parameters of the tamer."""

    places: Places = bands(
        (), Place, MOST, label="Places", doc="What rings; a scan of a passage fills the list."
    )
    amount: float = share(0.8, label="Amount", doc="How much is taken of what is too much.")
    speed_ms: float = number(
        40, 5, 1000, label="Speed", unit="ms", scale="log", marks=(5, 15, 60, 200, 1000),
        doc="Time to 63 % of a new cut; it goes four times as slowly. Narrow places take longer.",
    )  # fmt: skip
    low_hz: float = number(
        80, 20, 16000, label="From", unit="Hz", scale="log", step=1, marks=(20, 100, 1000, 10000),
        doc="Places below this are left alone, and not looked for.",
    )  # fmt: skip
    high_hz: float = number(
        12000, 40, 20000, label="To", unit="Hz", scale="log", step=1, marks=(100, 1000, 10000),
        doc="Places above this are left alone, and not looked for.",
    )  # fmt: skip
    most_db: float = number(
        12, 0, 18, label="Most, each", unit="dB", marks=(0, 6, 12, 18),
        doc="No place takes more than this.",
    )  # fmt: skip
    link: float = link("1: both channels are cut alike, so the image stands; 0: each for itself.")
    stereo: Stereo = stereo()
    loudness: bool = choice(
        True, label="Keep loudness", change="glide",
        doc="Gives back what the cuts take of the loudness: measured over the whole song, and"
        " until then followed.",
    )  # fmt: skip
    given_back_db: float | None = given_back(MOST_BACK_DB)


class TamerDrawing(Drawing):
    """What every place takes at most, in dB at frequencies in Hz, and all of them together.

    regions: how the trade calls each place; bounds: up to which Hz each region is called so.
    """

    hz: list[float]
    each: list[list[float]]
    total: list[float]
    regions: list[str]
    bounds: list[tuple[float, str]]


class Tamer(Processor[TamerParams]):
    """Bells of minimum phase, moved each 64 frames by the excess of their place over its flanks."""

    kind = "tamer"
    title = "Tamer"
    doc = "Finds what rings in a passage, and turns it down while it does."
    Params = TamerParams
    drawn_as = TamerDrawing
    pictures = ("places",)
    marked = "stretches"
    measured_of_the_sound = ("places",)
    glyph = "response"
    has_sidechain = True

    def controls(self, params: TamerParams, context: Context) -> Vector:
        check_range("From", params.low_hz, "To", params.high_hz)
        rate = context.rate
        vector = np.zeros(r.COMMON + MOST * r.COLUMNS)
        vector[r.AMOUNT] = params.amount
        vector[r.MOST] = params.most_db
        vector[r.LINK] = params.link
        known = not params.loudness or params.given_back_db is not None
        vector[r.KNOWN] = known
        vector[r.GIVEN] = (params.given_back_db or 0.0) if params.loudness else 0.0
        for index, place in enumerate(params.places):
            row = vector[r.COMMON + index * r.COLUMNS :][: r.COLUMNS]
            q = q_of(place.width_oct)
            away = 2 ** r.flank_octaves(q)
            narrow_ms = 4000 * q / (math.pi * place.hz)
            time_ms = max(params.speed_ms, narrow_ms)
            row[r.WARPED] = warped(place.hz, rate)
            row[r.LOW], row[r.HIGH] = warped(place.hz / away, rate), warped(place.hz * away, rate)
            row[r.DAMPING] = 1 / q
            row[r.SLOPE] = _slope(q, place.over_db)
            row[r.CAP] = min(place.depth_db, place.over_db + ABOVE_SCAN_DB)
            row[r.ON] = place.on and params.low_hz <= place.hz <= params.high_hz
            row[r.ATTACK] = _a_cell(time_ms, rate)
            row[r.RELEASE] = _a_cell(RELEASES * time_ms, rate)
            row[r.POWER] = -math.expm1(-2000 / (time_ms * rate))
        return vector

    def switches(self, before: TamerParams, after: TamerParams) -> bool:
        same = [_identity(p) for p in before.places] == [_identity(p) for p in after.places]
        return before.stereo != after.stereo or not same

    def carry(self, before: TamerParams, after: TamerParams, state: State) -> bool:
        if before.stereo != after.stereo:
            return False
        names = ("memory", "ears", "powers", "cuts")
        old = {name: state[name].copy() for name in names}
        known = [_identity(p) for p in before.places]
        for name in names:
            state[name][:] = 0.0
        for index, place in enumerate(after.places):
            if _identity(place) in known:
                for name in names:
                    state[name][index] = old[name][known.index(_identity(place))]
        return True

    def prepare(self, params: TamerParams, context: Context) -> State:
        channels = context.channels
        state = State(
            memory=np.zeros((MOST, channels, 2)),
            ears=np.zeros((MOST, r.BANDS, channels, 2)),
            powers=np.zeros((MOST, r.BANDS, channels)),
            cuts=np.zeros((MOST, 2, channels)),
            follower=np.zeros(r.FOLLOWER),
            weighted_in=np.zeros((2, channels, 2)),
            weighted_out=np.zeros((2, channels, 2)),
            taken=np.zeros(channels),
        )
        for index in range(MOST):
            state[f"move{index}"] = np.zeros(channels)
        return state

    def step(self, setup: Setup[TamerParams]) -> Step:
        params, context, ramp, state, told = setup
        count, sides = len(params.places), params.stereo == "mid-side" and context.channels == 2
        mine = [state[name][:count] for name in ("memory", "ears", "powers", "cuts")]
        sections, cells_a_mean = k_weighting(context.rate), r.FOLLOW_S * context.rate / GRID

        def run(block: Sound, key: Sound, start: int) -> tuple[Sound, Report]:
            wet, taken = np.empty_like(block), np.zeros((count, len(block)))
            r.cut_into(wet, taken, block, key, start, ramp.value, ramp.step, sides, *mine)
            heard_in = in_range(block, sections, state["weighted_in"])
            heard_out = in_range(wet, sections, state["weighted_out"])
            out = np.empty_like(block)
            r.give_back_into(
                out,
                wet,
                heard_in,
                heard_out,
                start,
                ramp.value,
                ramp.step,
                cells_a_mean,
                state["follower"],
            )
            if not told:
                return out, NOTHING
            most = taken.max(axis=0, initial=0.0)[:, None]
            cells = {"reduction_db": shared_cells(most, block, start, state["taken"])}
            if context.observe:
                for index in range(count):
                    one, own = taken[index][:, None], state[f"move{index}"]
                    cells[f"move{index}"] = shared_cells(one, block, start, own)
            return out, Report(start // GRID, cells)

        return run

    def measures_loudness(self, params: TamerParams) -> bool:
        return params.loudness and params.given_back_db is None and bool(params.places)

    def settled(
        self, params: TamerParams, measured: JoinMeasurement | None, mix: float
    ) -> TamerParams:
        gain = kept_db(measured, mix, MOST_BACK_DB) if measured else 0.0
        return params.model_copy(update={"given_back_db": gain})

    def drawing(self, params: TamerParams, context: Context) -> TamerDrawing:
        hz = np.geomspace(20, min(20000, 0.49 * context.rate), 240)
        each = []
        for place in params.places:
            depth = min(place.depth_db, place.over_db + ABOVE_SCAN_DB, params.most_db)
            on = place.on and params.low_hz <= place.hz <= params.high_hz
            each.append(-r.bell_db(hz, place.hz, q_of(place.width_oct), depth * on * params.amount))
        total = np.sum(each, axis=0) if each else np.zeros(len(hz))
        return TamerDrawing(
            hz=hz.tolist(),
            each=[e.tolist() for e in each],
            total=total.tolist(),
            regions=[region_of(p.hz) for p in params.places],
            bounds=[(min(end, 20000.0), name) for end, name in REGIONS],
        )


def region_of(hz: float) -> str:
    """Return the trade's word for what is too much at a frequency."""
    return next(name for end, name in REGIONS if hz < end)


def q_of(width_oct: float) -> float:
    """Return the Q of a bell so many octaves wide (W3C Audio EQ Cookbook, analogue)."""
    return 1 / (2 * math.sinh(math.log(2) / 2 * width_oct))


def width_of(q: float) -> float:
    """Return how many octaves a bell of this Q is wide; the inverse of `q_of`."""
    return 2 / math.log(2) * math.asinh(1 / (2 * q))


def _slope(q: float, over_db: float) -> float:
    """Return the cut for each dB that the detector reads, so that what stands over is taken."""
    over = max(round(over_db, 2), 0.1)
    return over / r.expected_db(round(q, 3), over)


def _a_cell(time_ms: float, rate: int) -> float:
    return float(-np.expm1(-GRID * 1000 / (time_ms * rate)))


def _identity(place: Place) -> tuple[float, float]:
    return place.hz, place.width_oct
