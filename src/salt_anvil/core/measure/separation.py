"""Hits to keep and hits to refuse: the key range and the threshold that tell them apart."""

import math
from collections.abc import Callable

import numpy as np
from pydantic import BaseModel

from salt_anvil.core.audio import GRID, Sound

Range = tuple[float | None, float | None]
RANGES: tuple[Range, ...] = (
    (None, None), (None, 150), (None, 400), (60, 250), (150, 800), (400, 2500), (1500, None),
    (4000, None),
)  # fmt: skip
"""Key ranges that are tried, in Hz; common practice, no source."""
NEAR_S, RISES_S = 0.12, 0.08
"""A mark is at the loudest place so near to it; a hit is judged so long."""
LEAST_MARGIN_DB = 1.0
ENOUGH_DB, PREFERENCE_DB = 9.0, 3.0
"""The open key does where they lie so far apart, or where no range is so much better."""
MOST_HYSTERESIS_DB, LEAST_HYSTERESIS_DB = 6.0, 1.0
LOW_DB, HIGH_DB = -80.0, 0.0


class Separation(BaseModel):
    """What tells them apart, and by how much: the lowest to keep over the loudest to refuse.

    problem: why it cannot be done; the figures are then the nearest to it.
    """

    threshold_db: float
    hysteresis_db: float
    low_hz: float | None
    high_hz: float | None
    margin_db: float
    problem: str | None


def peak_near(levels: Sound, frame: int, rate: int) -> float:
    """Return the highest level (cells,) in dB at a mark, which a hand may have set beside it."""
    reach = math.ceil(NEAR_S * rate / GRID)
    at = frame // GRID
    part = levels[max(at - reach, 0) : at + reach + math.ceil(RISES_S * rate / GRID)]
    return float(part.max(initial=-300.0))


def separation(
    levels_of: Callable[[Range], Sound], keep: list[int], refuse: list[int], rate: int
) -> Separation:
    """Find the key range in which the hits to keep stand highest over those to refuse.

    levels_of: what the gate's detector reads in a range, (cells,) in dB from frame 0. keep,
    refuse: frames. Without any to refuse, what is heard most of the time is to be refused.
    """
    found: list[tuple[float, float, float, Range]] = []
    for place in RANGES:
        levels = levels_of(place)
        kept = min(peak_near(levels, frame, rate) for frame in keep)
        refused = max((peak_near(levels, frame, rate) for frame in refuse), default=None)
        if refused is None:
            refused = float(np.percentile(levels, 30))
        found.append((kept - refused, kept, refused, place))
    best = max(found, key=lambda f: f[0])
    if found[0][0] >= min(ENOUGH_DB, best[0] - PREFERENCE_DB):
        best = found[0]
    margin, kept, refused, (low, high) = best
    middle = kept - min(margin / 2, 12.0) if margin > 0 else kept
    threshold = min(max(math.floor(2 * middle) / 2, LOW_DB), HIGH_DB)
    hysteresis = min(max(margin / 2, LEAST_HYSTERESIS_DB), MOST_HYSTERESIS_DB)
    problem = None
    if margin < LEAST_MARGIN_DB:
        problem = (
            "no range tells them apart: the softest to keep is"
            f" {margin:+.1f} dB against the loudest to refuse"
        )
    elif not LOW_DB <= middle <= HIGH_DB:
        problem = f"the threshold would be {middle:.1f} dB; {LOW_DB:g} to {HIGH_DB:g} can be set"
    return Separation(
        threshold_db=threshold,
        hysteresis_db=round(hysteresis, 1),
        low_hz=low,
        high_hz=high,
        margin_db=margin,
        problem=problem,
    )
