"""Hits: where a reduction begins anew, and how it goes from there."""

import math

import numpy as np
from numpy.typing import NDArray

from salt_anvil.core.audio import GRID, most_of_channels

RISE_DB = 1.0
BEFORE_MS, AFTER_MS = 20.0, 480.0


def last_hits(
    reduction: NDArray[np.floating], rate: int, before: int, count: int = 3
) -> list[tuple[int, list[float]]]:
    """Return the last hits that begin before a frame: first frame, reduction in dB per cell.

    reduction: (cells,) in dB. A hit begins where the reduction rises by RISE_DB within 10 ms
    after falling or resting. Each is shown from BEFORE_MS before to AFTER_MS after its beginning.
    """
    end = min(before // GRID, len(reduction))
    step = max(round(0.01 * rate / GRID), 1)
    part = np.asarray(reduction[:end], np.float64)
    if len(part) <= step:
        return []
    rising = part[step:] - part[:-step] > RISE_DB
    starts = np.flatnonzero(rising & ~np.concatenate([[False], rising[:-1]]))
    lead, tail = (round(ms / 1000 * rate / GRID) for ms in (BEFORE_MS, AFTER_MS))
    chosen: list[int] = []
    for start in starts[::-1]:
        if not chosen or chosen[-1] - start > lead + step:
            chosen.append(int(start))
        if len(chosen) == count:
            break
    found = []
    for start in reversed(chosen):
        first = max(start - lead, 0)
        cells = np.asarray(reduction[first : start + tail], np.float64)
        found.append((first * GRID, [round(float(v), 2) for v in cells]))
    return found


OPENS_WITHIN_S = 0.05
MARGIN_DB = 0.5


def matching_threshold(
    levels: NDArray[np.floating], openings: list[int], rate: int
) -> float | None:
    """Return the highest threshold in dB, on halves, at which a gate opens where it opened.

    levels: (cells, channels) in dB, as the gate hears now. openings: frames at which it opened
    with what it heard before; a hit has OPENS_WITHIN_S to rise. None without openings.
    """
    louder = most_of_channels(levels)
    reach = math.ceil(OPENS_WITHIN_S * rate / GRID)
    peaks = []
    for frame in openings:
        first = max(frame // GRID, 0)
        part = louder[first : first + reach]
        if len(part):
            peaks.append(float(part.max()))
    if not peaks:
        return None
    return max(min(math.floor((min(peaks) - MARGIN_DB) * 2) / 2, 0.0), -80.0)


HIT_RISES_DB, HIT_WITHIN_MS, HIT_APART_MS = 9.0, 30.0, 60.0
"""A hit stands so much over the quietest place shortly before it (common practice, no source)."""


def count_hits(levels: NDArray[np.floating], rate: int) -> int:
    """Return how many hits begin in levels of (cells,) in dB."""
    within = max(round(HIT_WITHIN_MS / 1000 * rate / GRID), 1)
    apart = round(HIT_APART_MS / 1000 * rate / GRID)
    if len(levels) <= within:
        return 0
    quietest = np.lib.stride_tricks.sliding_window_view(levels, within).min(axis=1)[:-1]
    rises = np.flatnonzero(levels[within:] - quietest > HIT_RISES_DB)
    if not len(rises):
        return 0
    # Cells that follow each other closely belong to one beginning.
    count, last = 1, rises[0]
    for rise in rises[1:]:
        if rise - last > apart:
            count += 1
        last = rise
    return count
