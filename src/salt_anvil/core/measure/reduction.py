"""What a gain reduction amounts to, while it is at work."""

from dataclasses import dataclass

import numpy as np

from salt_anvil.core.dsp.gate import Sound

ACTIVE_DB = 0.1
"""Reduction from which a cell counts as active."""


@dataclass(frozen=True)
class ReductionFigures:
    """Median, 95th percentile and most of the active cells in dB, and their share of the time."""

    median: float
    p95: float
    most: float
    active: float


def reduction_figures(cells: Sound) -> ReductionFigures:
    """Return the figures of (cells, channels) in dB; the most reduced channel counts."""
    worst = cells.max(axis=1) if len(cells) else np.zeros(0)
    active = worst[worst > ACTIVE_DB]
    if len(active) == 0:
        return ReductionFigures(0.0, 0.0, float(worst.max(initial=0.0)), 0.0)
    median, p95 = np.percentile(active, [50, 95])
    return ReductionFigures(
        float(median), float(p95), float(active.max()), len(active) / len(worst)
    )
