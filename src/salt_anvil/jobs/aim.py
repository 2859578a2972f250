"""Runs of a passage with a control at other and other values, until what is wanted is reached."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.cached_strips import CachedStrips
from salt_anvil.analysis.strip_pass import join_measurements, mended
from salt_anvil.core.aim import Aim, Aimed, edit_for, find, span_of
from salt_anvil.core.audio import BLOCK, GRID, Sound
from salt_anvil.core.edits import apply_edits
from salt_anvil.core.engine.cached import CachedStrip
from salt_anvil.core.engine.fingerprint import fingerprints_of
from salt_anvil.core.engine.mixer import Mixer, Source
from salt_anvil.core.engine.plan import JoinMeasurements, Plan, roll_blocks
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine.strip import StripBlock
from salt_anvil.core.errors import SettingError
from salt_anvil.core.measure.reduction import ACTIVE_DB
from salt_anvil.core.measure.rows import RowMeter, figures
from salt_anvil.core.session import Session, checked
from salt_anvil.core.session_index import SessionIndex
from salt_anvil.core.state import State
from salt_anvil.files.media import MediaFolder
from salt_anvil.jobs.print_worker import Cancelled
from salt_anvil.kernels.cache import sources_digest

States = Callable[[Plan, int, set[str]], tuple[int, dict[str, State]]]
"""Gives the last checkpoint at or before a block of the strips that are not read."""


class Passage:
    """A passage of one strip, measured with any value of an aim's control."""

    def __init__(
        self,
        session: Session,
        aim: Aim,
        source: Callable[[], Source],
        *,
        measured: JoinMeasurements = lambda digest: None,
        frozen: Callable[[Plan], dict[str, CachedStrip]] = lambda plan: {},
        states: States = lambda plan, block, strips: (0, {}),
        go_on: Callable[[], None] = lambda: None,
    ) -> None:
        """Look at the strip as it stands.

        source: gives the audio anew for each run. go_on: called block by block; it may raise.

        Raises:
            CoreError: there is no such stage or control, or the session cannot be run.
            SettingError: the passage is empty, or the stage reports no reduction.
        """
        self._session, self._aim, self._source = session, aim, source
        self._measured, self._go_on = measured, go_on
        self.span = span_of(session, aim)
        self._strip = SessionIndex(session).element(aim.stage)[0].id
        plan = self._planned(session)
        self._end = min(aim.end, plan.frames)
        if aim.begin >= self._end:
            raise SettingError("there is no sound in this passage")
        self._frozen = frozen(plan)
        # What lies behind the strip is not asked for; what feeds it is read.
        self._frozen.pop(self._strip, None)
        first = max(aim.begin // BLOCK - roll_blocks(plan), 0)
        running = {s.strip.id for s in plan.strips} - set(self._frozen)
        self._at, self._states = states(plan, first, running)

    def _planned(self, session: Session) -> Plan:
        return make_plan(session, observe_all=True, measured=self._measured)

    def got(self, value: float) -> float | None:
        """Return what the passage gives with the control at a value."""
        session = apply_edits(self._session, [edit_for(self._aim, value)])[0]
        mixer = Mixer(self._planned(session), self._source(), tapped=True, frozen=self._frozen)
        if self._at:
            mixer.locate(self._at, self._states)
        last = -(-self._end // BLOCK)
        mixer.foresee(last)
        taken: list[tuple[StripBlock, slice]] = []
        for k in range(self._at, last):
            self._go_on()
            block = mixer.block((self._strip,)).strips[self._strip]
            low = max(self._aim.begin - k * BLOCK, 0)
            if low < BLOCK:
                taken.append((block, slice(low, min(self._end - k * BLOCK, BLOCK))))
        return self._measure(taken, mixer.plan.rate)

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
    session, code = checked(Session, model), sources_digest()
    cache = StripCache(data / "cache")
    source = MediaFolder(data / "media").source()

    def states(plan: Plan, block: int, strips: set[str]) -> tuple[int, dict[str, State]]:
        wanted = {n: f for n, f in fingerprints_of(plan, code).items() if n in strips}
        return cache.states_before(wanted, block)

    def attempt() -> Aimed:
        passage = Passage(
            session,
            aim,
            lambda: source,
            measured=join_measurements(cache, code),
            frozen=CachedStrips(cache, code),
            states=states,
            go_on=go_on,
        )

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
