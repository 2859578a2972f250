"""Cautions: what to look at in a passage, each with its number, its limit and its place."""

from dataclasses import dataclass

import numpy as np

from salt_anvil.core.audio import Sound, most_of_channels
from salt_anvil.core.dsp import gating
from salt_anvil.core.measure import bending
from salt_anvil.core.measure.reduction import reduction_figures
from salt_anvil.core.measure.rows import PEAK, Figures, K, Rows, difference
from salt_anvil.core.measure.spans import Span, cells_in, rows_in

CREST_LIMIT_DB = 6.0
CONTRAST_LIMIT_LU = 1.0
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
OPENED_SHARE = 1.25
"""A gate may open so much more often than hits are counted."""
RAISED_LIMIT_DB = 1.0


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


def dynamics_cautions(
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
    levels = gating.level(rows[:, K])
    levels = levels[levels > FLOOR_SILENT_DB]
    if len(levels) < FEWEST_ROWS:
        return None
    floor = float(np.percentile(levels, 10))
    mean = 10 * np.log10(np.mean(10 ** (levels / 10)))
    return floor if floor < mean - FLOOR_BELOW_DB else None


def floor_cautions(before: Rows, after: Rows, passage: Span) -> list[Caution]:
    quiet = _floor_db(before)
    levels = gating.level(after[:, K])
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
    inside = rows_in(rows, rate, passage)
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


def stereo_cautions(before: Figures, after: Figures, passage: Span) -> list[Caution]:
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


def stage_cautions(cells: Sound, passage: Span, alone: str | None, *, wall: bool) -> list[Caution]:
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
    inside = cells_in(cells, span)
    if len(inside) == 0:
        return None
    worst = most_of_channels(inside)
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


def distortion_caution(stage: str, title: str, share: float, passage: Span) -> list[Caution]:
    """Return a caution where a stage's output is distortion to a larger share than LIMIT."""
    if share <= bending.LIMIT:
        return []
    words = f"{100 * share:.0f} % of what the {title.lower()} gives is distortion."
    span = (passage.begin, passage.end)
    return [Caution(f"distortion {stage}", words, 100 * share, 100 * bending.LIMIT, *span)]


def opened_too_often(times: int, hits: int, passage: Span) -> list[Caution]:
    """Return a caution where a gate opened more often than there are hits."""
    if times <= max(OPENED_SHARE * hits, hits + 1):
        return []
    words = f"The gate opens {times} times for {hits} hits: it chatters. More hysteresis, or hold."
    return [Caution("chatter", words, times, hits, passage.begin, passage.end)]


def raised_by_bus(target: str, given: float, whole: float, passage: Span) -> list[Caution]:
    """Return a caution where a shared parallel bus makes all that it joins louder.

    given: the power that it gives to the target; whole: that of all that comes in there. What is
    parallel is alike, so that the amplitudes are added.
    """
    share = min((given / whole) ** 0.5, 0.99) if whole > 0 else 0.0
    raised = -20 * float(np.log10(1 - share))
    if raised <= RAISED_LIMIT_DB:
        return []
    words = (
        f"This parallel bus makes {target} louder by up to {raised:.1f} dB: compare at one level."
    )
    return [Caution("parallel", words, raised, RAISED_LIMIT_DB, passage.begin, passage.end)]
