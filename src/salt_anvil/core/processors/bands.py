"""Bands of tone as parameters: what one is, its controls, what of it cannot glide."""

from collections.abc import Sequence
from functools import lru_cache
from typing import Literal

import numpy as np

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp import equaliser as t
from salt_anvil.core.dsp.control_ramp import Vector
from salt_anvil.core.processors.base import Params, choice, number
from salt_anvil.core.processors.drawing import Responses
from salt_anvil.core.state import State

Type = Literal["low-cut", "high-cut", "low-shelf", "high-shelf", "bell", "notch"]
CUTS = ("low-cut", "high-cut")
GAINS = ("low-shelf", "high-shelf", "bell")
POWER_MS = 5.0
"""Time of the mean square that moves a band; common practice, no source."""


class Band(Params):
    """One band of tone."""

    type: Type = choice(
        "bell", label="Type", doc="What the band does: cut below or above, shelf, bell, notch."
    )
    hz: float = number(
        1000,
        10,
        22000,
        label="Frequency",
        unit="Hz",
        scale="log",
        step=1,
        marks=(20, 100, 1000, 10000),
        doc="Corner of a cut or shelf, middle of a bell or notch.",
    )
    gain_db: float = number(
        0,
        -24,
        24,
        label="Gain",
        unit="dB",
        scale="db",
        marks=(-24, -12, 0, 12, 24),
        when={"type": list(GAINS)},
        doc="What the band adds or takes.",
    )
    q: float = number(
        0.71,
        0.1,
        30,
        label="Q",
        unit="",
        scale="log",
        step=0.01,
        marks=(0.1, 0.71, 3, 10, 30),
        when={"type": [*GAINS, "notch"]},
        doc="How narrow; of a shelf: how steep (0.71 is flat).",
    )
    slope: Literal["6", "12", "18", "24", "30", "36", "42", "48"] = choice(
        "12",
        label="Slope",
        when={"type": list(CUTS)},
        doc="Of a cut, in dB per octave, as a Butterworth filter.",
    )
    channel: Literal["both", "mid", "side", "left", "right"] = choice(
        "both", label="Channel", doc="What the band works on; a mono sound has no sides."
    )
    on: bool = choice(True, label="On", change="glide", doc="Whether the band does anything.")
    move_db: float = number(
        0,
        -24,
        24,
        label="Moves by",
        unit="dB",
        scale="db",
        marks=(-24, -12, 0, 12, 24),
        when={"type": list(GAINS)},
        doc="Moves the gain by a dB for every dB that the range is over the threshold, up to this.",
    )
    threshold_db: float = number(
        -30,
        -80,
        0,
        label="Threshold",
        unit="dB",
        scale="db",
        marks=(-80, -60, -40, -20, 0),
        when={"type": list(GAINS)},
        doc="Level of the band's range (mean square) that moves it.",
    )
    attack_ms: float = number(
        10,
        0.5,
        200,
        label="Attack",
        unit="ms",
        scale="log",
        marks=(0.5, 5, 50, 200),
        when={"type": list(GAINS)},
        doc="Time to 63 % of the way when the range gets louder.",
    )
    release_ms: float = number(
        120,
        5,
        4000,
        label="Release",
        unit="ms",
        scale="log",
        marks=(5, 50, 500, 4000),
        when={"type": list(GAINS)},
        doc="Time to 63 % of the way back.",
    )

    @property
    def moves(self) -> bool:
        """Whether the level moves it."""
        return self.type in GAINS and self.move_db != 0.0 and self.on


class Emphasis(Params):
    """One band that decides what is bent; it has an inverse."""

    type: Literal["low-shelf", "high-shelf", "bell"] = choice(
        "bell", label="Type", doc="A shelf or a bell."
    )
    hz: float = number(
        1000,
        10,
        22000,
        label="Frequency",
        unit="Hz",
        scale="log",
        step=1,
        marks=(20, 100, 1000, 10000),
        doc="Corner of a shelf, middle of a bell.",
    )
    gain_db: float = number(
        6,
        -24,
        24,
        label="Gain",
        unit="dB",
        scale="db",
        marks=(-24, -12, 0, 12, 24),
        doc="How much more, or less, of the range goes into the bend.",
    )
    q: float = number(
        0.71,
        0.1,
        30,
        label="Q",
        unit="",
        scale="log",
        step=0.01,
        marks=(0.1, 0.71, 3, 10, 30),
        doc="How narrow; of a shelf: how steep (0.71 is flat).",
    )
    on: bool = choice(True, label="On", change="glide", doc="Whether the band does anything.")


Bands = tuple[Band, ...]
Emphases = tuple[Emphasis, ...]


@lru_cache(maxsize=64)
def as_bands(emphases: Emphases) -> Bands:
    """Return bands of emphasis as bands of tone, on both channels."""
    return tuple(Band(**e.model_dump()) for e in emphases)


def columns(bands: Sequence[Band], rate: int, most: int) -> Vector:
    """Return the controls of up to `most` bands, (most * COLUMNS,)."""
    vector = np.zeros((most, t.COLUMNS))
    vector[:, t.WARPED], vector[:, t.DAMPING] = t.warped(1000, rate), 1.0
    for row, band in zip(vector, bands, strict=False):
        row[t.WARPED] = t.warped(band.hz, rate)
        row[t.DAMPING] = 1 / band.q
        row[t.GAIN] = band.gain_db
        row[t.ON] = band.on
        row[t.MOVE] = band.move_db if band.type in GAINS else 0.0
        row[t.THRESHOLD] = band.threshold_db
        row[t.ATTACK] = _a_step(band.attack_ms, rate)
        row[t.RELEASE] = _a_step(band.release_ms, rate)
    return vector.ravel()


def _a_step(time_ms: float, rate: int) -> float:
    return float(-np.expm1(-t.STEP * 1000 / (time_ms * rate)))


def shapes(bands: Sequence[Band]) -> t.Shapes:
    """Return what does not glide of each band, (bands, 3)."""
    rows = [
        [
            t.TYPES.index(band.type),
            t.CHANNELS.index(band.channel),
            int(band.slope) // 6 if band.type in CUTS else 2,
        ]
        for band in bands
    ]
    return np.array(rows, np.int64).reshape(-1, 3)


def same_shapes(before: Sequence[Band], after: Sequence[Band]) -> bool:
    """Say whether bands glide from one list to the other."""
    return np.array_equal(shapes(before), shapes(after))


def bands_state(most: int, channels: int) -> State:
    """Return the cold state of up to `most` bands."""
    return State(
        memory=np.zeros((most, t.SECTIONS, channels, 2)),
        ears=np.zeros((most, channels, 2)),
        rows=np.zeros((most, t.ROWS)),
    )


def carry_bands(before: Sequence[Band], after: Sequence[Band], state: State) -> None:
    """Take the state of bands that stay along to their new places; others start cold."""
    old = state.clone()
    for array in state.values():
        array[:] = 0.0
    known = [_identity(band) for band in before]
    for index, band in enumerate(after):
        if _identity(band) in known:
            at = known.index(_identity(band))
            known[at] = ()
            for name, array in state.items():
                array[index] = old[name][at]


def _identity(band: Band) -> tuple[object, ...]:
    return (band.type, band.hz, band.slope, band.channel, band.q)


def toned(
    block: Sound,
    key: Sound,
    shape: t.Shapes,
    value: Vector,
    step: Vector,
    state: State,
    rate: int,
    start: int,
    *,
    moving: bool,
) -> tuple[Sound, Sound]:
    """Return a block through its bands and their movement in dB, (bands, frames).

    shape: `shapes` of the bands. moving: the level moves one of them; or there are no frames of
    movement.
    """
    out, moves = np.empty_like(block), np.zeros((len(shape), len(block) if moving else 0))
    t.tone_into(
        out,
        moves,
        block,
        key,
        start,
        np.ascontiguousarray(value),
        np.ascontiguousarray(step),
        shape,
        t.DAMPINGS,
        t.edge_of(rate),
        -float(np.expm1(-1000 / (POWER_MS * rate))),
        state["memory"],
        state["ears"],
        state["rows"],
    )
    return out, moves


def response_db(band: Band, hz: Vector, rate: int) -> Vector:
    """Return what a band adds at rest, in dB."""
    values = columns([band], rate, 1)
    found = np.abs(t.response(values, shapes([band])[0], hz, rate))
    return np.asarray(20 * np.log10(np.maximum(found, 1e-9)))


def response(bands: Sequence[Band], rate: int) -> Responses:
    """Return what to draw: each band and what those of each channel come to, in dB."""
    hz = np.geomspace(20, min(20000, 0.49 * rate), 240)
    each = [response_db(b, hz, rate) if b.on else np.zeros(len(hz)) for b in bands]
    totals: dict[str, list[float]] = {}
    for name in dict.fromkeys(["both", *(b.channel for b in bands if b.on)]):
        heard = [r for r, b in zip(each, bands, strict=True) if b.channel in ("both", name)]
        totals[name] = (np.sum(heard, axis=0) if heard else np.zeros(len(hz))).tolist()
    return Responses(hz=hz.tolist(), each=[r.tolist() for r in each], totals=totals)
