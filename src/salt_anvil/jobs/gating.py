"""Marks of hits to keep and to refuse: what a gate has to be set to, in a session."""

from pathlib import Path
from typing import Any

import numpy as np

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.strip_pass import mended
from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.edits import SetStage, apply_edits
from salt_anvil.core.engine.unit import Unit
from salt_anvil.core.errors import SettingError
from salt_anvil.core.measure.separation import Range, Separation, separation
from salt_anvil.core.processors import Context
from salt_anvil.core.session import Key, Session, Stage, checked
from salt_anvil.core.session_index import SessionIndex
from salt_anvil.jobs.stretch import Means, Stretch, means_of

BEFORE_S, AFTER_S = 1.0, 0.5
"""So much is heard before the first mark and after the last one."""
LONGEST_S = 120


def run_gating(
    data: Path, model: Any, stage: str, keep: list[int], refuse: list[int]
) -> Separation:
    """Find threshold, hysteresis and key range for a gate; keep, refuse: frames of marks.

    Raises:
        CoreError, FileError: it cannot be done.
    """
    session, cache = checked(Session, model), StripCache(data / "cache")
    means = means_of(data, cache, lambda: None)
    return mended(cache, lambda: by_marks(session, stage, keep, refuse, means))


def by_marks(
    session: Session, name: str, keep: list[int], refuse: list[int], means: Means
) -> Separation:
    """Find what tells marked hits apart for a gate of a session.

    Raises:
        CoreError: it is no gate, or the marks cannot be used.
    """
    gate = SessionIndex(session).element(name)[1]
    if not isinstance(gate, Stage) or gate.kind != "gate":
        raise SettingError("hits are marked for a gate; this is none")
    if not keep:
        raise SettingError("mark at least one hit to keep")
    first, last = min(keep + refuse), max(keep + refuse)
    begin = max(first - round(BEFORE_S * session.rate), 0) // GRID * GRID
    end = last + round(AFTER_S * session.rate)
    if end - begin > LONGEST_S * session.rate:
        raise SettingError(f"the marks lie further apart than {LONGEST_S} s")
    stretch = Stretch(session, name, begin, end, means)
    # What it listens to, before its range; its own sound where that is the key.
    open_key = gate.key.model_copy(update={"low_hz": None, "high_hz": None})
    heard_all = apply_edits(session, [SetStage(stage=name, key=open_key)])[0]
    tap = name if gate.key.source == "own" else f"key:{name}"
    sound = np.concatenate([b.taps[tap][0][s] for b, s in stretch.run(heard_all)])
    context = Context(session.rate, sound.shape[1], session.bpm, observe=True)
    at_once = gate.params.model_copy(update={"lookahead_ms": 0.0})

    def levels(where: Range) -> Sound:
        low, high = where
        heard = gate.model_copy(update={"params": at_once, "key": Key(low_hz=low, high_hz=high)})
        report = Unit(heard, context).process(sound, 0).report
        return np.asarray(report.cells["level_db"].max(axis=1))

    return separation(levels, [k - begin for k in keep], [r - begin for r in refuse], session.rate)
