"""tone: up to twelve bands of cut, shelf, bell and notch, some moved by level."""

from functools import lru_cache
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import BLOCK, GRID, Sound, by_blocks
from salt_anvil.core.dsp import equaliser as t
from salt_anvil.core.dsp.control_ramp import Vector
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
        doc="Linear: no frequency later than another, all 160 ms late; what moves by level stays"
        " minimum.",
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
        return t.linear_half(rate) if params.phase == "linear" else 0

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

    def controls(self, params: ToneParams, context: Context) -> Vector:
        return columns(_stepwise(params), context.rate, MOST)

    def prepare(self, params: ToneParams, context: Context) -> State:
        channels = context.channels
        late = self.latency(params, context.rate)
        state = bands_state(MOST, channels)
        state["past"] = np.zeros((2 * late, channels))
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
            sound = _linear(block, _standing(params), rate, state["past"])
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


@lru_cache(maxsize=32)
def _matrix(standing: Bands, rate: int, channels: int) -> Vector:
    """Return the symmetrical filters from every channel to every channel, (out, in, taps).

    Each band is 1 + (h - 1) times what it works on, so that the product keeps their order.
    """
    bins = 1 << (4 * t.linear_half(rate)).bit_length()
    hz = np.linspace(0, rate / 2, bins + 1)
    whole = np.repeat(np.eye(channels)[:, :, None], len(hz), axis=2)
    for band in standing:
        rows = columns([band], rate, 1)
        h = np.abs(t.response(rows, shapes([band])[0], np.minimum(hz, 0.4999 * rate), rate))
        onto = _ONTO[band.channel] if channels == 2 else np.eye(1) * (band.channel != "side")
        one = np.eye(channels)[:, :, None] + onto[:, :, None] * (h - 1)
        whole = np.einsum("ijf,jkf->ikf", one, whole)
    flat = whole.reshape(channels * channels, -1)
    taps = t.linear_taps(flat, rate).reshape(channels, channels, -1)
    taps.setflags(write=False)
    return taps


@lru_cache(maxsize=32)
def _spectra(
    standing: Bands, rate: int, channels: int, size: int
) -> dict[tuple[int, int], NDArray[np.complex128]]:
    """Return the spectra of the filters that do anything, by channel out and in."""
    from scipy import fft  # takes a third of a second to import

    taps = _matrix(standing, rate, channels)
    pairs = [(o, i) for o in range(channels) for i in range(channels) if taps[o, i].any()]
    return {pair: fft.rfft(taps[pair], size) for pair in pairs}


def _linear(block: Sound, standing: Bands, rate: int, past: Sound) -> Sound:
    """Return a block through the symmetrical filters, half their length late; past moves on."""
    if len(block) > BLOCK:
        return np.concatenate([_linear(part, standing, rate, past) for part in by_blocks(block)])
    whole = np.concatenate([past, block])
    reach, half = len(past), len(past) // 2
    past[:] = whole[len(block) :]
    if not standing:
        return np.ascontiguousarray(whole[half : half + len(block)])
    from scipy import fft  # as above

    channels = block.shape[1]
    size = fft.next_fast_len(len(whole), real=True)
    spectra = _spectra(standing, rate, channels, size)
    sound = [fft.rfft(whole[:, i], size) for i in range(channels)]
    out = np.empty_like(block)
    for o in range(channels):
        parts = [sound[i] * spectra[o, i] for i in range(channels) if (o, i) in spectra]
        out[:, o] = fft.irfft(sum(parts[1:], parts[0]), size)[reach : len(whole)]
    return out
