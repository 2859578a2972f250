"""tone: up to twelve bands of cut, shelf, bell and notch, some moved by level."""

from functools import lru_cache, partial
from typing import Literal

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.dsp import equaliser as t
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.dsp.linear_phase import (
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
    Context,
    Params,
    Passage,
    Processor,
    Report,
    bands,
    choice,
)
from salt_anvil.core.processors.drawing import Responses
from salt_anvil.core.processors.parts import cells_of, wide
from salt_anvil.core.state import State

MOST = 12


class ToneParams(Params):
    """Parameters of tone."""

    bands: Bands = bands(
        (), Band, MOST, label="Bands", doc="Up to twelve bands, one after another."
    )
    phase: Literal["minimum", "linear"] = choice(
        "minimum",
        label="Phase",
        change="structural",
        doc="Linear: no frequency later than another, all of them late, 40 ms to 1.3 s, the lower"
        " and narrower the bands the more; what moves by level stays minimum.",
    )


class Tone(Processor[ToneParams]):
    """Equaliser in state-variable sections, or with linear phase as one symmetrical filter."""

    kind = "tone"
    title = "Tone"
    doc = "Bands of cut, shelf, bell and notch; each may move by the level of its range."
    Params = ToneParams
    drawn_as = Responses
    pictures = ("tone",)
    glyph = "response"
    has_sidechain = True

    def latency(self, params: ToneParams, rate: int) -> int:
        return _half(_standing(params), rate)[0] if params.phase == "linear" else 0

    def switches(self, before: ToneParams, after: ToneParams) -> bool:
        if not same_shapes(before.bands, after.bands):
            return True
        return after.phase == "linear" and _standing(before) != _standing(after)

    def carry(self, before: ToneParams, after: ToneParams, state: State) -> bool:
        if same_shapes(before.bands, after.bands):
            return False
        inner = State({name: state[name] for name in ("memory", "ears", "rows")})
        carry_bands(_stepwise(before), _stepwise(after), inner)
        return True

    def stands(self, params: ToneParams, name: str) -> str | None:
        if params.phase == "linear" and name.startswith("bands."):
            return "with linear phase the bands stand still"
        return None

    def controls(self, params: ToneParams, context: Context) -> Vector:
        return columns(_stepwise(params), context.rate, MOST)

    def prepare(self, params: ToneParams, context: Context) -> State:
        channels = context.channels
        late = self.latency(params, context.rate)
        state = bands_state(MOST, channels)
        if params.phase == "linear":
            state.update(filter_state(late, channels))
        state["heard"] = np.zeros((late, channels))
        for name in ("taken", "given"):
            state[name] = np.zeros(channels)
        for index in range(MOST):
            state[f"move{index}"] = np.zeros(channels)
        return state

    def process(self, given: Passage[ToneParams]) -> tuple[Sound, Report]:
        block, key, params, context, ramp, state, start = given
        rate, late = context.rate, self.latency(params, context.rate)
        sound, heard = block, key
        if params.phase == "linear":
            heard = _shift(key, state["heard"])
            sound = _linear(block, _standing(params), rate, state)
        out, moves = toned(
            sound, heard, _stepwise(params), ramp.value, ramp.step, state, rate, start
        )
        cells = self._reported(moves, block, params, context, state, start - late)
        return out, Report((start - late) // GRID, cells)

    def _reported(
        self,
        moves: Sound,
        block: Sound,
        params: ToneParams,
        context: Context,
        state: State,
        start: int,
    ) -> dict[str, Sound]:
        """Return what the bands that move took and gave, and in pictures each for itself."""
        down = -moves.min(axis=0, initial=0.0)[:, None]
        up = moves.max(axis=0, initial=0.0)[:, None]
        # The report is in the input's time; the movement is told from where it acts.
        cells = {
            "reduction_db": cells_of(wide(down, block), start, state["taken"], 0.0),
            "boost_db": cells_of(wide(up, block), start, state["given"], 0.0),
        }
        if context.observe:
            for index, move in enumerate(moves):
                size = wide(np.abs(move)[:, None], block)
                cells[f"move{index}"] = cells_of(size, start, state[f"move{index}"], 0.0)
        return cells

    def drawing(self, params: ToneParams, context: Context) -> Responses:
        if params.phase == "linear":
            return _drawn(params.bands, context.rate)
        return response(params.bands, context.rate)


def _standing(params: ToneParams) -> Bands:
    """Return the bands that go into the symmetrical filter."""
    return tuple(b for b in params.bands if not b.moves and b.on)


def _stepwise(params: ToneParams) -> Bands:
    """Return all bands as the sections run them; those in the symmetrical filter are off."""
    if params.phase == "minimum":
        return params.bands
    return tuple(b if b.moves else b.model_copy(update={"on": False}) for b in params.bands)


def _shift(sound: Sound, past: Sound) -> Sound:
    whole = np.concatenate([past, sound])
    past[:] = whole[len(sound) :]
    return whole[: len(sound)]


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


def _amplitude(band: Band, hz: Vector, rate: int) -> Vector:
    """Return the analogue prototype's magnitude, with a sign where it passes through nothing."""
    rows = columns([band], rate, 1)
    found = np.abs(t.response(rows, shapes([band])[0], hz, rate, analogue=True))
    if band.type == "notch":
        found *= np.sign(hz - band.hz) if band.hz < TURNED_HZ else np.sign(band.hz - hz)
    return np.asarray(found)


def _product(standing: Bands, name: str, hz: Vector, rate: int) -> Vector:
    """Return what the bands of a channel come to, (1, len(hz))."""
    found = np.ones((1, len(hz)))
    for band in _of(standing, name):
        found *= _amplitude(band, hz, rate)
    return found


def _of(some: Bands, name: str) -> Bands:
    return tuple(b for b in some if b.channel in ("both", name))


@lru_cache(maxsize=256)
def _half(standing: Bands, rate: int) -> tuple[int, bool]:
    """Return the latency of these bands in frames, and whether they are as near as they should."""
    if not standing:
        return round(HALVES_MS[0] * rate / 1000), True
    names = dict.fromkeys(["both", *(b.channel for b in standing)])
    found = shortest(
        lambda hz: np.concatenate([_product(standing, name, hz, rate) for name in names]), rate
    )
    return found.half, found.enough


@lru_cache(maxsize=8)
def _parts(standing: Bands, rate: int, channels: int) -> Parts:
    """Return the symmetrical filters from every channel to every channel.

    Each band is 1 + (h - 1) times what it works on, so that the product keeps their order.
    """

    def amplitude(hz: Vector) -> Vector:
        whole = np.repeat(np.eye(channels)[:, :, None], len(hz), axis=2)
        for band in standing:
            h = _amplitude(band, hz, rate)
            onto = _ONTO[band.channel] if channels == 2 else np.eye(1) * (band.channel != "side")
            one = np.eye(channels)[:, :, None] + onto[:, :, None] * (h - 1)
            whole = np.einsum("ijf,jkf->ikf", one, whole)
        return np.asarray(whole.reshape(channels * channels, -1))

    return parts_of(of_length(amplitude, _half(standing, rate)[0], rate).side, channels)


def _linear(block: Sound, standing: Bands, rate: int, state: State) -> Sound:
    """Return a block through the symmetrical filters, half their length late."""
    if standing:
        return filtered(block, _parts(standing, rate, block.shape[1]), state)
    half, past = _half(standing, rate)[0], state["past"]
    whole = np.concatenate([past, block])
    past[:] = whole[len(block) :]
    state["turn"][0] = -1
    first = len(past) - half
    return np.ascontiguousarray(whole[first : first + len(block)])


@lru_cache(maxsize=16)
def _drawn(every: Bands, rate: int) -> Responses:
    """Return what to draw with linear phase: what the symmetrical filters do, and what moves."""
    found = response(every, rate)
    hz = np.array(found.hz)
    standing = tuple(b for b in every if b.on and not b.moves)
    half, enough = _half(standing, rate)
    each = [
        _decibels(_amplitude(b, hz, rate)) if b in standing else np.array(found.each[i])
        for i, b in enumerate(every)
    ]
    totals = {}
    for name in found.totals:
        side = of_length(partial(_product, standing, name, rate=rate), half, rate).side[0]
        total = _decibels(reached(side, hz, rate))
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


def _decibels(amplitude: Vector) -> Vector:
    return np.asarray(20 * np.log10(np.maximum(np.abs(amplitude), 1e-9)))
