"""The ledger: what a chain or a stage did to a passage, in figures, and what to watch out for."""

from dataclasses import dataclass

import numpy as np

from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.measure import loudness
from salt_anvil.core.measure.loudness import SILENT
from salt_anvil.core.measure.reduction import ReductionFigures, reduction_figures
from salt_anvil.core.measure.rows import PEAK, Figures, K, Rows, difference, figures, hop
from salt_anvil.core.session import Session

CREST_LIMIT_DB = 6.0
CONTRAST_LIMIT_LU = 1.0
RESTING_LU = 20.0
"""A section this much under the loudest one holds only what leaks in."""
MONO_LIMIT_DB = 1.5
"""The sum of both channels loses so much more behind it than before."""
IMAGE_LIMIT_DB = 1.5
WALL_LIMIT_DB = 2.0
FLOOR_LIMIT_DB, FLOOR_BELOW_DB, FLOOR_SILENT_DB = 3.0, 20.0, -85.0
"""The quietest tenth may rise so much; it is a floor where it lies so far below the whole."""
NOTHING_DB = -80.0
"""What peaks below this carries nothing."""
FEWEST_ROWS = 30
"""A last limiter that takes more than this is heard (common practice, no source)."""
LET_GO_DB = 0.3
LET_GO_SHARE = 0.05


@dataclass(frozen=True)
class Span:
    """A named part of the song, frames [begin, end)."""

    name: str
    begin: int
    end: int


@dataclass(frozen=True)
class SectionFigures:
    """One section: reduction, integrated loudness in and out; None for silence."""

    name: str
    reduction: ReductionFigures
    in_lufs: float | None
    out_lufs: float | None


@dataclass(frozen=True)
class Contrast:
    """How much louder the loudest section is than the quietest, in LU, before and after."""

    quiet: str
    loud: str
    before: float
    after: float


@dataclass(frozen=True)
class Caution:
    """Something to look at: which rule, in words, its number and limit, where (frames)."""

    rule: str
    words: str
    value: float
    limit: float
    begin: int
    end: int


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


def section_spans(session: Session) -> list[Span]:
    """Return a session's sections as frames; those that have none within the song are left out."""
    found = [
        Span(name, round(begin * session.rate), min(round(end * session.rate), session.frames()))
        for name, begin, end in session.section_spans()
    ]
    return [s for s in found if s.begin < s.end]


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
    a, b = (figures(_rows_in(rows, rate, passage)) for rows in (before, after))
    change = difference(b.integrated_lufs, a.integrated_lufs) or 0.0
    parts = [
        SectionFigures(
            s.name,
            reduction_figures(_cells_in(cells, s)),
            figures(_rows_in(before, rate, s)).integrated_lufs,
            figures(_rows_in(after, rate, s)).integrated_lufs,
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
        reduction=reduction_figures(_cells_in(cells, passage)),
        sections=parts,
        contrast=contrast,
        cautions=[
            *_cautions(a, b, cells, sections, contrast, passage, percussive=percussive),
            *_stereo_cautions(a, b, passage),
            *_floor_cautions(
                _rows_in(before, rate, passage), _rows_in(after, rate, passage), passage
            ),
            *_stage_cautions(_cells_in(cells, passage), passage, alone, wall=wall),
        ],
        before_db=min(change, 0.0),
        after_db=min(-change, 0.0),
    )


def _rows_in(rows: Rows, rate: int, span: Span) -> Rows:
    step = hop(rate)
    return rows[span.begin // step : max(-(-span.end // step), span.begin // step + 1)]


def _cells_in(cells: Sound, span: Span) -> Sound:
    return cells[span.begin // GRID : -(-span.end // GRID)]


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


def _cautions(
    before: Figures,
    after: Figures,
    cells: Sound,
    sections: list[Span],
    contrast: Contrast | None,
    passage: Span,
    *,
    percussive: bool,
) -> list[Caution]:
    found = []
    lost = difference(before.crest_db, after.crest_db)
    if lost is not None and lost > CREST_LIMIT_DB:
        found.append(
            Caution(
                "crest",
                f"The crest factor fell by {lost:.1f} dB.",
                lost,
                CREST_LIMIT_DB,
                passage.begin,
                passage.end,
            )
        )
    if contrast is not None and contrast.before > 2 and contrast.after < CONTRAST_LIMIT_LU:
        found.append(
            Caution(
                "contrast",
                f"{contrast.loud} is only {contrast.after:.1f} LU louder than {contrast.quiet}"
                f" (before: {contrast.before:.1f}).",
                contrast.after,
                CONTRAST_LIMIT_LU,
                0,
                passage.end,
            )
        )
    if percussive:
        found += [c for s in sections if (c := _never_lets_go(cells, s)) is not None]
    peak = after.true_peak_dbtp
    if peak is not None and peak > 0:
        words = f"The true peak is {peak:+.1f} dBTP."
        found.append(Caution("peak", words, peak, 0.0, passage.begin, passage.end))
    return found


def _floor_db(rows: Rows) -> float | None:
    """Return the level of the quietest tenth that is not silence, if it is far below the whole."""
    levels = loudness.OFFSET + 10 * np.log10(np.maximum(rows[:, K], 1e-12))
    levels = levels[levels > FLOOR_SILENT_DB]
    if len(levels) < FEWEST_ROWS:
        return None
    floor = float(np.percentile(levels, 10))
    mean = 10 * np.log10(np.mean(10 ** (levels / 10)))
    return floor if floor < mean - FLOOR_BELOW_DB else None


def _floor_cautions(before: Rows, after: Rows, passage: Span) -> list[Caution]:
    quiet = _floor_db(before)
    levels = loudness.OFFSET + 10 * np.log10(np.maximum(after[:, K], 1e-12))
    levels = levels[levels > FLOOR_SILENT_DB]
    if quiet is None or len(levels) < FEWEST_ROWS:
        return []
    rose = float(np.percentile(levels, 10)) - quiet
    if rose <= FLOOR_LIMIT_DB:
        return []
    words = f"What is quietest rose by {rose:.1f} dB: noise and bleed come up."
    return [Caution("floor", words, rose, FLOOR_LIMIT_DB, passage.begin, passage.end)]


def silent_caution(rule: str, name: str, rows: Rows, rate: int, passage: Span) -> list[Caution]:
    """Return a caution where rows hold nothing over a passage; name: of what, in words."""
    inside = _rows_in(rows, rate, passage)
    peak = float(inside[:, PEAK].max(initial=0.0))
    level = 20 * float(np.log10(max(peak, 1e-10)))
    if len(inside) == 0 or level > NOTHING_DB:
        return []
    words = f"{name} carries nothing here."
    return [Caution(rule, words, level, NOTHING_DB, passage.begin, passage.end)]


def _mono_loss(found: Figures) -> float | None:
    """Return by how much the sum of both channels is quieter than both, 0 for a mono sound."""
    sides = found.sides_to_middle_db
    if sides is None:
        return None if found.rms_dbfs is None else 0.0
    return 10 * float(np.log10(1 + 10 ** (sides / 10)))


def _stereo_cautions(before: Figures, after: Figures, passage: Span) -> list[Caution]:
    found = []
    lost = difference(_mono_loss(after), _mono_loss(before))
    if lost is not None and lost > MONO_LIMIT_DB:
        words = f"In mono it is {lost:.1f} dB quieter than it would be without."
        found.append(Caution("mono", words, lost, MONO_LIMIT_DB, passage.begin, passage.end))
    moved = difference(after.right_to_left_db, before.right_to_left_db)
    if moved is not None and abs(moved) > IMAGE_LIMIT_DB:
        side = "right" if moved > 0 else "left"
        words = f"The image moves {abs(moved):.1f} dB to the {side}."
        found.append(
            Caution("image", words, abs(moved), IMAGE_LIMIT_DB, passage.begin, passage.end)
        )
    return found


def _stage_cautions(cells: Sound, passage: Span, alone: str | None, *, wall: bool) -> list[Caution]:
    taken = reduction_figures(cells)
    span = (passage.begin, passage.end)
    if wall and taken.most > WALL_LIMIT_DB:
        words = f"The last limiter takes up to {taken.most:.1f} dB."
        return [Caution("wall", words, taken.most, WALL_LIMIT_DB, *span)]
    if alone == "gate" and len(cells) and taken.active == 0:
        return [Caution("never-closes", "The gate never closes here.", 0.0, 0.0, *span)]
    if alone == "gate" and len(cells) and float(cells.max(axis=1).min()) > 1.0:
        shut = float(cells.max(axis=1).min())
        return [Caution("never-opens", "The gate never opens here.", shut, 1.0, *span)]
    return []


def _never_lets_go(cells: Sound, span: Span) -> Caution | None:
    inside = _cells_in(cells, span)
    if len(inside) == 0:
        return None
    worst = inside.max(axis=1)
    rest = float(np.quantile(worst, LET_GO_SHARE))
    if worst.max() < 1.0 or rest <= LET_GO_DB:
        return None
    return Caution(
        "let-go",
        f"Never lets go in {span.name}: between hits {rest:.1f} dB or more stays.",
        rest,
        LET_GO_DB,
        span.begin,
        span.end,
    )


def percussive(rows: Rows) -> bool:
    """Say whether a strip is made of hits: its peaks stand far over its mean power."""
    found = figures(rows[rows[:, K] > 1e-9]) if len(rows) else None
    return found is not None and found.crest_db is not None and found.crest_db > 18.0
