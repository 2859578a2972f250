"""What to draw for a split: the bands' responses, or the travel of a join."""

import math
from itertools import pairwise

import numpy as np
from pydantic import BaseModel

from salt_anvil.core.audio import Sound
from salt_anvil.core.dsp import blend, crossover
from salt_anvil.core.measure.spectrum import centres
from salt_anvil.core.session import Branch, Join, Split, Strip

TRAVEL = 41


class JoinTravel(BaseModel):
    """The two gains in dB over the travel of a join; where it was measured: how loud the blend is
    against the first branch, the second's match in dB, how alike the two are (-1 to 1)."""

    law: str
    position: float
    travel: list[float]
    first: list[float]
    second: list[float]
    measured: bool
    loudness: list[float] | None = None
    match_db: float | None = None
    alike: float | None = None


class SplitDrawing(BaseModel):
    """A response in dB a band at frequencies in Hz; the travel of a join that has one."""

    latency: int = 0
    hz: list[float] = []
    bands: list[list[float]] = []
    join: JoinTravel | None = None


def split_drawing(split: Split, rate: int, measured: blend.JoinMeasurement | None) -> SplitDrawing:
    """Return what to draw for a split."""
    found = SplitDrawing()
    if split.by == "bands":
        hz = centres()
        found.hz = hz.tolist()
        found.bands = [_db(r) for r in _responses(split, rate, hz)]
        if split.phase == "linear":
            found.latency = crossover.linear_half(split.crossovers_hz, split.slope, rate)
    if split.join.law != "sum":
        found.join = join_travel(split.join, measured, split.branches)
    return found


def _responses(split: Split, rate: int, hz: Sound) -> list[Sound]:
    """Return each band's magnitude: products of the pairs, or differences for linear phase."""
    order = split.slope // 6
    ratio = [(hz / corner) ** order for corner in split.crossovers_hz]
    lows, highs = [1 / (1 + r) for r in ratio], [r / (1 + r) for r in ratio]
    if split.phase == "linear":
        edges = [np.zeros_like(hz), *lows, np.ones_like(hz)]
        return [np.abs(b - a) for a, b in pairwise(edges)]
    found, rest = [], np.ones_like(hz)
    for low, high in zip(lows, highs, strict=True):
        found.append(rest * low)
        rest = rest * high
    return [*found, rest]


def join_travel(
    join: Join, measured: blend.JoinMeasurement | None, branches: list[Branch] | None = None
) -> JoinTravel:
    """Return how a join goes from one branch to the other."""
    each = [10 ** (b.gain_db / 20) for b in branches] if branches else [1.0, 1.0]
    measured = measured.scaled(*each) if measured is not None else None
    travel = [i / (TRAVEL - 1) for i in range(TRAVEL)]
    pairs = [blend.gains(join.law, x, measured) for x in travel]
    found = JoinTravel(
        law=join.law,
        position=join.position,
        travel=travel,
        first=[_decibels(a) for a, _ in pairs],
        second=[_decibels(b) for _, b in pairs],
        measured=measured is not None and min(measured.a, measured.b) > 0,
    )
    if measured is not None and found.measured:
        powers = [measured.power(a, b) for a, b in pairs]
        found.loudness = [10 * math.log10(max(p / measured.a, 1e-12)) for p in powers]
        found.match_db = _decibels(blend.match(measured))
        found.alike = measured.alike
    return found


def bus_drawing(strip: Strip, measured: blend.JoinMeasurement | None) -> SplitDrawing:
    """Return the travel of a bus's join."""
    return SplitDrawing(join=join_travel(strip.join, measured))


def _db(response: Sound) -> list[float]:
    return [round(_decibels(float(v)), 2) for v in response]


def _decibels(value: float) -> float:
    return 20 * math.log10(max(value, 1e-6))
