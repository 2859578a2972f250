"""The ledger: what a chain or a stage did to a passage, in figures, and what to watch out for."""

from dataclasses import dataclass

from salt_anvil.core.audio import Sound
from salt_anvil.core.measure.cautions import (
    Caution,
    Contrast,
    dynamics_cautions,
    floor_cautions,
    stage_cautions,
    stereo_cautions,
)
from salt_anvil.core.measure.loudness import SILENT
from salt_anvil.core.measure.reduction import ReductionFigures, reduction_figures
from salt_anvil.core.measure.rows import Figures, K, Rows, difference, figures
from salt_anvil.core.measure.spans import Span, cells_in, rows_in

RESTING_LU = 20.0
"""A section this much under the loudest one holds only what leaks in."""


@dataclass(frozen=True)
class SectionFigures:
    """One section: reduction, integrated loudness in and out; None for silence."""

    name: str
    reduction: ReductionFigures
    in_lufs: float | None
    out_lufs: float | None


@dataclass(frozen=True)
class Ledger:
    """Both sides of a stage or chain over a passage.

    ranges_db: change of the four ranges, the change of loudness taken out. before_db and
    after_db: gains (at most 0) that make both sides equally loud.
    """

    before: Figures
    after: Figures
    ranges_db: list[float | None]
    reduction: ReductionFigures
    sections: list[SectionFigures]
    contrast: Contrast | None
    cautions: list[Caution]
    before_db: float
    after_db: float
    strongest: tuple[str, float] | None = None
    """Which single stage of the place takes most away in the passage, and how much in dB."""
    given_back_db: float | None = None
    """The gain with which a stage keeps the loudness, once it is measured."""


def ledger(
    before: Rows,
    after: Rows,
    cells: Sound,
    rate: int,
    passage: Span,
    sections: list[Span],
    *,
    percussive: bool = False,
    alone: str | None = None,
    wall: bool = False,
) -> Ledger:
    """Return the ledger of a passage.

    before, after: rows of the whole strip (see rows). cells: (cells, channels) of reduction in
    dB, empty where nothing reduces. percussive: hits, and nothing that may hold on between them.
    alone: the kind of the one stage that is looked at. wall: it is the last limiter of all.
    """
    a, b = (figures(rows_in(rows, rate, passage)) for rows in (before, after))
    change = difference(b.integrated_lufs, a.integrated_lufs) or 0.0
    parts = [
        SectionFigures(
            s.name,
            reduction_figures(cells_in(cells, s)),
            figures(rows_in(before, rate, s)).integrated_lufs,
            figures(rows_in(after, rate, s)).integrated_lufs,
        )
        for s in sections
    ]
    contrast = _contrast(parts)
    return Ledger(
        before=a,
        after=b,
        ranges_db=[
            difference(difference(y, x), change)
            for x, y in zip(a.ranges_db, b.ranges_db, strict=True)
        ],
        reduction=reduction_figures(cells_in(cells, passage)),
        sections=parts,
        contrast=contrast,
        cautions=[
            *dynamics_cautions(a, b, cells, sections, contrast, passage, percussive=percussive),
            *stereo_cautions(a, b, passage),
            *floor_cautions(rows_in(before, rate, passage), rows_in(after, rate, passage), passage),
            *stage_cautions(cells_in(cells, passage), passage, alone, wall=wall),
        ],
        before_db=min(change, 0.0),
        after_db=min(-change, 0.0),
    )


def _contrast(parts: list[SectionFigures]) -> Contrast | None:
    heard = [
        (p.in_lufs, p.out_lufs, p.name)
        for p in parts
        if p.in_lufs is not None and p.out_lufs is not None
    ]
    loudest = max((before for before, *_ in heard), default=SILENT)
    sounding = [p for p in heard if p[0] > max(loudest - RESTING_LU, -60.0)]
    if len(sounding) < 2:
        return None
    quiet, loud = min(sounding), max(sounding)
    return Contrast(quiet[2], loud[2], loud[0] - quiet[0], loud[1] - quiet[1])


def percussive(rows: Rows) -> bool:
    """Say whether a strip is made of hits: its peaks stand far over its mean power."""
    found = figures(rows[rows[:, K] > 1e-9]) if len(rows) else None
    return found is not None and found.crest_db is not None and found.crest_db > 18.0
