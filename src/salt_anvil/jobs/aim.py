"""Runs of a passage with a control at other and other values, until what is wanted is reached."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.strip_pass import mended
from salt_anvil.core.aim import (
    NEAR_DB,
    Aim,
    Aimed,
    MakeUp,
    edit_for,
    find,
    make_up_of,
    span_of,
    value_of,
)
from salt_anvil.core.audio import GRID, Sound
from salt_anvil.core.edits import SetParams, apply_edits
from salt_anvil.core.engine.strip import StripBlock
from salt_anvil.core.errors import SettingError
from salt_anvil.core.measure.reduction import ACTIVE_DB
from salt_anvil.core.measure.rows import RowMeter, figures
from salt_anvil.core.session import Session, checked
from salt_anvil.jobs.print_worker import Cancelled
from salt_anvil.jobs.stretch import Means, Stretch, means_of

MOST_ROUNDS = 5
"""So often the make-up follows a value; the second is enough where it is a mere gain."""
Told = Callable[[float, float | None], None]


class Passage:
    """A passage of one strip, measured with any value of an aim's control."""

    def __init__(self, session: Session, aim: Aim, means: Means) -> None:
        """Look at the strip as it stands.

        Raises:
            CoreError: there is no such stage or control, or the session cannot be run.
            SettingError: the passage is empty, or the stage reports no reduction.
        """
        self._session, self._aim = session, aim
        self.span, self._near = span_of(session, aim), value_of(session, aim)
        kept = aim.wish.what == "down" and aim.wish.kept
        self._make_up = make_up_of(session, aim) if kept else None
        self._stretch = Stretch(session, aim.stage, aim.begin, aim.end, means)

    def got(self, value: float) -> float | None:
        """Return what the passage gives with the control at a value."""
        return self._measure(self._run(value))

    def find(self, told: Told = lambda value, got: None) -> Aimed:
        """Find the value; told: what each value gives.

        Raises:
            SettingError: the stage reports no reduction.
        """
        if self._make_up is not None:
            return self._find_kept(self._make_up, told)

        def measure(value: float) -> float | None:
            got = self.got(value)
            told(value, got)
            return got

        return find(measure, self.span, self._aim.wish.wanted, self._near)

    def _find_kept(self, make_up: MakeUp, told: Told) -> Aimed:
        """Find the value with both sides of the stage equally loud: the make-up follows it."""
        given: dict[float, float] = {}
        last = make_up.value

        def measure(value: float) -> float | None:
            nonlocal last
            got: float | None = None
            for _ in range(MOST_ROUNDS):
                given[value] = last
                got, lost = self._at_one_loudness(value, make_up.control, last)
                if abs(lost) <= NEAR_DB:
                    break
                last = round(min(max(last + lost, make_up.low), make_up.high), 2)
            else:
                got = None
            told(value, got)
            return got

        found = find(measure, self.span, self._aim.wish.wanted, self._near)
        if found.problem and found.got is None:
            return replace(found, problem="the loudness cannot be kept here")
        return replace(found, makeup_db=None if found.problem else given[found.value])

    def _at_one_loudness(
        self, value: float, control: str, makeup: float
    ) -> tuple[float | None, float]:
        """Return by how much the peaks fall at one loudness, and how much of it is lost, in dB."""
        taken = self._run(value, SetParams(stage=self._aim.stage, params={control: makeup}))
        sides = [
            np.concatenate([b.taps[self._aim.stage][side][s] for b, s in taken]) for side in (0, 1)
        ]
        loud = [self._loudness(side) for side in sides]
        down = self._measure(taken)
        if down is None or loud[0] is None or loud[1] is None:
            return None, 0.0
        return down - (loud[0] - loud[1]), loud[0] - loud[1]

    def _loudness(self, sound: Sound) -> float | None:
        meter = RowMeter(self._stretch.rate, sound.shape[1])
        rows = [meter.feed(sound), meter.flush()]
        return figures(np.concatenate(rows)).integrated_lufs

    def _run(self, value: float, *more: SetParams) -> list[tuple[StripBlock, slice]]:
        edits = [edit_for(self._aim, value), *more]
        session = apply_edits(self._session, edits)[0]
        return list(self._stretch.run(session))

    def _measure(self, taken: list[tuple[StripBlock, slice]]) -> float | None:
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
        out: Sound = np.concatenate([b.out[s] for b, s in taken])
        if wish.what == "loudness":
            return self._loudness(out)
        meter = RowMeter(self._stretch.rate, out.shape[1])
        return figures(np.concatenate([meter.feed(out), meter.flush()])).true_peak_dbtp


def run_aim(
    data: Path,
    model: Any,
    aim: Aim,
    step: Told,
    go_on: Callable[[], None] = lambda: None,
) -> Aimed:
    """Aim in a session of a data folder.

    step: told each value tried. go_on: called block by block; both may raise `Cancelled`.

    Raises:
        CoreError, FileError: it cannot be done. Cancelled: it was stopped.
    """
    session, cache = checked(Session, model), StripCache(data / "cache")

    def attempt() -> Aimed:
        return Passage(session, aim, means_of(data, cache, go_on)).find(step)

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
