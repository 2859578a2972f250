"""What a gain reduction amounts to: of one stage, and of a chain, split or branch as a whole.

One definition, everywhere. A stage's reduction is what it tells itself. That of a place with
several stages is the difference between the level that goes in and the level that comes out over
the same frames, make-up gains apart: at most what the stages in it can do together (one after the
other they add up, side by side the most counts), and nothing where none of them reduces.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from salt_anvil.core.audio import Sound, most_of_channels
from salt_anvil.core.processors import Context, processor
from salt_anvil.core.session import Element, Split, Stage, branches, elements

ACTIVE_DB = 0.1
"""Reduction from which a cell counts as active."""
WINDOW = 24
"""Cells (32 ms at 48 kHz) over which both levels are taken: filters move sound about in time."""
SILENT_POWER = 1e-10

Reported = Callable[[str], Sound]
"""Gives a stage's reduction per cell in dB, (cells,); empty if it tells none."""


@dataclass(frozen=True)
class ReductionFigures:
    """Median, 95th percentile and most of the active cells in dB, and their share of the time."""

    median: float
    p95: float
    most: float
    active: float


def reduction_figures(cells: Sound) -> ReductionFigures:
    """Return the figures of (cells, channels) in dB; the most reduced channel counts."""
    worst = most_of_channels(cells) if len(cells) else np.zeros(0)
    active = worst[worst > ACTIVE_DB]
    if len(active) == 0:
        return ReductionFigures(0.0, 0.0, float(worst.max(initial=0.0)), 0.0)
    median, p95 = np.percentile(active, [50, 95])
    return ReductionFigures(
        float(median), float(p95), float(active.max()), len(active) / len(worst)
    )


def inside(chain: list[Element], at: str) -> list[Element]:
    """Return what stands at a place: the stage or split itself, a branch's chain, the chain."""
    for element in elements(chain):
        if element.id == at:
            return [element]
    for branch in branches(chain):
        if branch.id == at:
            return list(branch.chain)
    return list(chain)


def stages_inside(chain: list[Element], at: str) -> list[Stage]:
    """Return the stages at a place that are on, nested ones too."""
    found = elements(inside(chain, at))
    return [e for e in found if isinstance(e, Stage) and e.on]


def together(chain: list[Element], reported: Reported, cells: int) -> Sound:
    """Return the most that the stages of a chain can take away, (cells,) in dB."""
    total = np.zeros(cells)
    for element in chain:
        if not element.on:
            continue
        if isinstance(element, Split):
            parts = [together(b.chain, reported, cells) for b in element.branches if b.on]
            total += np.max(parts, axis=0) if parts else 0.0
            continue
        own = reported(element.id)[:cells]
        total[: len(own)] += own
    return total


def makeup_inside(chain: list[Element], context: Context) -> float:
    """Return the steady gain of a chain's make-up in dB; branches count by their mean power."""
    total = 0.0
    for element in chain:
        if not element.on:
            continue
        if isinstance(element, Split):
            gains = [makeup_inside(b.chain, context) for b in element.branches if b.on]
            if any(gains):
                total += 10 * float(np.log10(np.mean(10 ** (np.array(gains) / 10))))
        else:
            total += processor(element.kind).makeup_db(element.params, context)
    return total


class WholeReduction:
    """Takes the cells of a place as they come; gives what it takes away as a whole."""

    def __init__(self) -> None:
        self._past = np.zeros((WINDOW - 1, 2))

    def feed(self, power_in: Sound, power_out: Sound, makeup_db: float, most: Sound) -> Sound:
        """Return (cells,) in dB; powers are mean squares per cell, most what `together` gives."""
        both = np.concatenate([self._past, np.column_stack([power_in, power_out])])
        self._past = both[len(both) - WINDOW + 1 :]
        total = np.concatenate([np.zeros((1, 2)), np.cumsum(both, axis=0)])
        level = np.maximum((total[WINDOW:] - total[:-WINDOW]) / WINDOW, 0.0)
        change = 10 * np.log10(np.maximum(level[:, 0], 1e-30) / np.maximum(level[:, 1], 1e-30))
        taken = np.minimum(change + makeup_db, most)
        return np.asarray(np.where(level[:, 0] > SILENT_POWER, np.maximum(taken, 0.0), 0.0))
