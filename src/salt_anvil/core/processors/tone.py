"""tone: up to twelve bands of cut, shelf, bell and notch, some moved by level."""

from functools import lru_cache, partial
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import equaliser as t
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.long_filter import (
    HALVES_MS,
    Parts,
    filter_state,
    filtered,
    of_length,
    parts_of,
    reached,
    shortest,
)
from salt_anvil.core.processors.bands import (
    Band,
    Bands,
    bands_state,
    carry_bands,
    columns,
    response,
    same_shapes,
    shapes,
    toned,
)
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
)
from salt_anvil.core.processors.drawing import Responses
from salt_anvil.core.processors.parts import shared_cells, with_past
from salt_anvil.core.state import State

MOST = 12


Phase = Literal["minimum", "intermediate", "linear"]
Response = NDArray[np.complex128]


class ToneParams(Params):
    """Parameters of tone."""

    bands: Bands = bands(
        (), Band, MOST, label="Bands", doc="Up to twelve bands, one after another."
    )
    phase: Phase = choice(
        "minimum",
        label="Phase",
        change="structural",
        doc="Linear: no frequency later than another, all of them late, 40 ms to 1.3 s, the lower"
        " and narrower the bands the more. Intermediate: half of the way, so that far less is heard"
        " before a hit. What moves by level stays minimum.",
    )


class Tone(Processor[ToneParams]):
    """Equaliser in state-variable sections, or as one long filter whose phase is chosen."""

    kind = "tone"
    title = "Tone"
    doc = "Bands of cut, shelf, bell and notch; each may move by the level of its range."
    Params = ToneParams
    drawn_as = Responses
    pictures = ("tone",)
    glyph = "response"
    has_sidechain = True

    def latency(self, params: ToneParams, rate: int) -> int:
        return _half(_standing(params), params.phase, rate)[0] if params.phase != "minimum" else 0

    def switches(self, before: ToneParams, after: ToneParams) -> bool:
        if not same_shapes(before.bands, after.bands):
            return True
        return after.phase != "minimum" and _standing(before) != _standing(after)

    def carry(self, before: ToneParams, after: ToneParams, state: State) -> bool:
        if same_shapes(before.bands, after.bands):
            return False
        inner = State({name: state[name] for name in ("memory", "ears", "rows")})
        carry_bands(_stepwise(before), _stepwise(after), inner)
        return True

    def stands(self, params: ToneParams, name: str) -> str | None:
        if params.phase != "minimum" and name.startswith("bands."):
            return f"with {params.phase} phase the bands stand still"
        return None

    def controls(self, params: ToneParams, context: Context) -> Vector:
        return columns(_stepwise(params), context.rate, MOST)

    def prepare(self, params: ToneParams, context: Context) -> State:
        channels = context.channels
        late = self.latency(params, context.rate)
        state = bands_state(MOST, channels)
        if params.phase != "minimum":
            state.update(filter_state(late, channels))
        state["heard"] = np.zeros((late, channels))
        for name in ("taken", "given", *(f"move{i}" for i in range(MOST))):
            state[name] = np.zeros(1)
        return state

    def step(self, setup: Setup[ToneParams]) -> Step:
        params, context, ramp, state, told = setup
        rate, late = context.rate, self.latency(params, context.rate)
        shape = shapes(_stepwise(params))
        value, step = ramp.value, ramp.step
        moving = bool(value[:, t.MOVE :: t.COLUMNS].any() or step[:, t.MOVE :: t.COLUMNS].any())
        unfinished = {"reduction_db": state["taken"], "boost_db": state["given"]}
        if context.observe:
            unfinished |= {f"move{i}": state[f"move{i}"] for i in range(len(shape))}
        over = False

        def run(block: Sound, key: Sound, start: int) -> tuple[Sound, Report]:
            nonlocal over
            sound, heard = block, key
            if params.phase != "minimum":
                heard = _shift(key, state["heard"])
                sound = _long(block, _standing(params), params.phase, rate, state)
            out, moves = toned(sound, heard, shape, value, step, state, rate, start, moving=moving)
            if not told:
                return out, NOTHING
            if over:
                count = (start - late + len(block)) // GRID - (start - late) // GRID
                nothing = np.zeros((count, block.shape[1]))
                return out, Report((start - late) // GRID, dict.fromkeys(unfinished, nothing))
            cells = _reported(moves, block, unfinished, start - late)
            # Nothing has moved, nor will it.
            over = not moving and not any(own.any() for own in unfinished.values())
            return out, Report((start - late) // GRID, cells)

        return run

    def drawing(self, params: ToneParams, context: Context) -> Responses:
        if params.phase != "minimum":
            return _drawn(params.bands, params.phase, context.rate)
        return response(params.bands, context.rate)


def _standing(params: ToneParams) -> Bands:
    """Return the bands that go into the long filter."""
    return tuple(b for b in params.bands if not b.moves and b.on)


def _stepwise(params: ToneParams) -> Bands:
    """Return all bands as the sections run them; those in the long filter are off."""
    if params.phase == "minimum":
        return params.bands
    return tuple(b if b.moves else b.model_copy(update={"on": False}) for b in params.bands)


def _shift(sound: Sound, past: Sound) -> Sound:
    return with_past(sound, past)[: len(sound)]


_MIDDLE = np.array([[0.5, 0.5], [0.5, 0.5]])
_ONTO = {
    "both": np.eye(2),
    "mid": _MIDDLE,
    "side": np.array([[0.5, -0.5], [-0.5, 0.5]]),
    "left": np.diag([1.0, 0.0]),
    "right": np.diag([0.0, 1.0]),
}


TURNED_HZ = 632.0
"""A notch without phase turns the polarity on one side; below this, on the lower."""


def _wished(band: Band, phase: Phase, hz: Vector, rate: int) -> Response:
    """Return the analogue prototype's magnitude with the phase that is chosen.

    Linear: none, but for a sign where it passes through nothing. Intermediate: half of the
    prototype's own, but all of a notch's: half a turn at its middle is a wave, a quarter is none.
    """
    of = partial(t.response, columns([band], rate, 1), shapes([band])[0], hz, rate, analogue=True)
    whole = of()
    found = np.abs(whole).astype(np.complex128)
    if phase == "intermediate":
        return whole if band.type == "notch" else np.asarray(of(power=0.5) * np.sqrt(found))
    if band.type == "notch":
        found *= np.sign(hz - band.hz) if band.hz < TURNED_HZ else np.sign(band.hz - hz)
    return found


def _product(standing: Bands, phase: Phase, name: str, hz: Vector, rate: int) -> Response:
    """Return what the bands of a channel come to, (1, len(hz))."""
    found = np.ones((1, len(hz)), np.complex128)
    for band in _of(standing, name):
        found *= _wished(band, phase, hz, rate)
    return found


def _of(some: Bands, name: str) -> Bands:
    return tuple(b for b in some if b.channel in ("both", name))


@lru_cache(maxsize=256)
def _half(standing: Bands, phase: Phase, rate: int) -> tuple[int, bool]:
    """Return the latency of these bands in frames, and whether they are as near as they should."""
    if not standing:
        return round(HALVES_MS[0] * rate / 1000), True
    names = dict.fromkeys(["both", *(b.channel for b in standing)])
    found = shortest(
        lambda hz: np.concatenate([_product(standing, phase, name, hz, rate) for name in names]),
        rate,
    )
    return found.half, found.enough


@lru_cache(maxsize=8)
def _parts(standing: Bands, phase: Phase, rate: int, channels: int) -> Parts:
    """Return the long filters from every channel to every channel.

    Each band is 1 + (h - 1) times what it works on, so that the product keeps their order.
    """

    def wished(hz: Vector) -> Response:
        whole = np.repeat(np.eye(channels, dtype=np.complex128)[:, :, None], len(hz), axis=2)
        for band in standing:
            h = _wished(band, phase, hz, rate)
            onto = _ONTO[band.channel] if channels == 2 else np.eye(1) * (band.channel != "side")
            one = np.eye(channels)[:, :, None] + onto[:, :, None] * (h - 1)
            whole = np.einsum("ijf,jkf->ikf", one, whole)
        return np.asarray(whole.reshape(channels * channels, -1))

    half = _half(standing, phase, rate)[0]
    return parts_of(of_length(wished, half, rate).taps, channels)


def _long(block: Sound, standing: Bands, phase: Phase, rate: int, state: State) -> Sound:
    """Return a block through the long filters, half their length late."""
    if standing:
        return filtered(block, _parts(standing, phase, rate, block.shape[1]), state)
    half, past = _half(standing, phase, rate)[0], state["past"]
    whole = with_past(block, past)
    state["turn"][0] = -1
    first = len(past) - half
    return np.ascontiguousarray(whole[first : first + len(block)])


@lru_cache(maxsize=16)
def _drawn(every: Bands, phase: Phase, rate: int) -> Responses:
    """Return what to draw with a phase that is chosen: what the long filters do, and what moves."""
    found = response(every, rate)
    hz = np.array(found.hz)
    standing = tuple(b for b in every if b.on and not b.moves)
    half, enough = _half(standing, phase, rate)
    each = [
        _decibels(_wished(b, phase, hz, rate)) if b in standing else np.array(found.each[i])
        for i, b in enumerate(every)
    ]
    totals = {}
    for name in found.totals:
        long = of_length(partial(_product, standing, phase, name, rate=rate), half, rate)
        total = _decibels(reached(long.taps[0], hz, rate))
        for levels, band in zip(each, every, strict=True):
            if band.moves and band in _of(every, name):
                total = total + levels
        totals[name] = total.tolist()
    return found.model_copy(
        update={
            "each": [levels.tolist() for levels in each],
            "totals": totals,
            "late_ms": 1000 * half / rate,
            "near": enough,
        }
    )


def _decibels(amplitude: Vector | Response) -> Vector:
    return np.asarray(20 * np.log10(np.maximum(np.abs(amplitude), 1e-9)))


def _reported(
    moves: Sound, block: Sound, unfinished: dict[str, Vector], start: int
) -> dict[str, Sound]:
    """Return what the bands that move took and gave, and in pictures each for itself.

    unfinished: what of each lies in a cell that has not ended, changed.
    """
    if not moves.size:
        moves = np.zeros((len(moves), len(block)))
    lines = [-moves.min(axis=0, initial=0.0), moves.max(axis=0, initial=0.0)]
    if len(unfinished) > len(lines):
        lines += [*np.abs(moves)]
    # The report is in the input's time; the movement is told from where it acts.
    return {
        name: shared_cells(line[:, None], block, start, own)
        for (name, own), line in zip(unfinished.items(), lines, strict=False)
    }
