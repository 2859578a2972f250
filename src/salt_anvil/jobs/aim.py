"""Runs of a passage with a control at other and other values, until what is wanted is reached."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.strip_pass import mended
from salt_anvil.core.aim import Aim, Aimed, edit_for, find, span_of
from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.edits import apply_edits
from salt_anvil.core.engine.strip import StripBlock
from salt_anvil.core.errors import SettingError
from salt_anvil.core.measure.reduction import ACTIVE_DB
from salt_anvil.core.measure.rows import RowMeter, figures
from salt_anvil.core.session import Session, checked
from salt_anvil.jobs.print_worker import Cancelled
from salt_anvil.jobs.stretch import Means, Stretch, means_of


class Passage:
    """A passage of one strip, measured with any value of an aim's control."""

    def __init__(self, session: Session, aim: Aim, means: Means) -> None:
        """Look at the strip as it stands.

        Raises:
            CoreError: there is no such stage or control, or the session cannot be run.
            SettingError: the passage is empty, or the stage reports no reduction.
        """
        self._session, self._aim = session, aim
        self.span = span_of(session, aim)
        self._stretch = Stretch(session, aim.stage, aim.begin, aim.end, means)

    def got(self, value: float) -> float | None:
        """Return what the passage gives with the control at a value."""
        session = apply_edits(self._session, [edit_for(self._aim, value)])[0]
        return self._measure(list(self._stretch.run(session)), self._stretch.rate)

    def _measure(self, taken: list[tuple[StripBlock, slice]], rate: int) -> float | None:
        wish, stage = self._aim.wish, self._aim.stage
        if wish.what == "reduction":
            if "reduction_db" not in taken[0][0].cells.get(stage, {}):
                raise SettingError("this stage tells no reduction; aim by loudness or peak")
            cells = [
                b.cells[stage]["reduction_db"][s.start // GRID : -(-s.stop // GRID)]
                for b, s in taken
            ]
            worst = np.concatenate(cells).max(axis=1)
            active = worst[worst > ACTIVE_DB]
            return float(np.percentile(active, wish.percentile)) if len(active) else 0.0
        if wish.what == "down":
            before, after = (
                max(float(np.abs(b.taps[stage][side][s]).max(initial=0)) for b, s in taken)
                for side in (0, 1)
            )
            return 20 * float(np.log10(before / after)) if before > 0 and after > 0 else None
        out: list[Sound] = [b.out[s] for b, s in taken]
        meter = RowMeter(rate, out[0].shape[1])
        rows = [meter.feed(np.concatenate(out)), meter.flush()]
        found = figures(np.concatenate(rows))
        return found.integrated_lufs if wish.what == "loudness" else found.true_peak_dbtp


def run_aim(
    data: Path,
    model: Any,
    aim: Aim,
    step: Callable[[float, float | None], None],
    go_on: Callable[[], None] = lambda: None,
) -> Aimed:
    """Aim in a session of a data folder.

    step: told each value tried. go_on: called block by block; both may raise `Cancelled`.

    Raises:
        CoreError, FileError: it cannot be done. Cancelled: it was stopped.
    """
    session, cache = checked(Session, model), StripCache(data / "cache")

    def attempt() -> Aimed:
        passage = Passage(session, aim, means_of(data, cache, go_on))

        def measure(value: float) -> float | None:
            got = passage.got(value)
            step(value, got)
            return got

        return find(measure, passage.span, aim.wish.wanted)

    return mended(cache, attempt)


def aim_with_flag(data: Path, model: Any, aim: Aim, flag: Path) -> Aimed:
    """Aim, and leave each step as a line in a file; when that is gone, stop."""

    def go_on() -> None:
        if not flag.exists():
            raise Cancelled

    def step(value: float, got: float | None) -> None:
        with flag.open("a") as file:
            file.write(f"{value} {'none' if got is None else got}\n")

    return run_aim(data, model, aim, step, go_on)
