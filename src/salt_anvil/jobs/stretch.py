"""A stretch of one strip, run with these or those settings: for aiming and scanning."""

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NamedTuple

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.cached_strips import CachedStrips
from salt_anvil.analysis.strip_pass import join_measurements
from salt_anvil.core.audio import BLOCK
from salt_anvil.core.engine.cached import CachedStrip
from salt_anvil.core.engine.fingerprint import fingerprints_of
from salt_anvil.core.engine.mixer import Mixer, Source
from salt_anvil.core.engine.plan import JoinMeasurements, Plan, roll_blocks
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine.strip import StripBlock
from salt_anvil.core.errors import SettingError
from salt_anvil.core.session import Session
from salt_anvil.core.session_index import SessionIndex
from salt_anvil.core.state import State
from salt_anvil.files.media import MediaFolder
from salt_anvil.kernels.cache import sources_digest

States = Callable[[Plan, int, set[str]], tuple[int, dict[str, State]]]
"""Gives the last checkpoint at or before a block of the strips that are not read."""


class Means(NamedTuple):
    """What a stretch is run with; by itself from the beginning, with nothing known.

    source: gives the audio anew for each run. go_on: called block by block; it may raise.
    """

    source: Callable[[], Source]
    measured: JoinMeasurements = lambda digest: None
    frozen: Callable[[Plan], dict[str, CachedStrip]] = lambda plan: {}
    states: States = lambda plan, block, strips: (0, {})
    go_on: Callable[[], None] = lambda: None


def means_of(data: Path, cache: StripCache, go_on: Callable[[], None]) -> Means:
    """Return the means of a data folder: its media, what is cached, its checkpoints."""
    code = sources_digest()
    source = MediaFolder(data / "media").source()

    def states(plan: Plan, block: int, strips: set[str]) -> tuple[int, dict[str, State]]:
        wanted = {n: f for n, f in fingerprints_of(plan, code).items() if n in strips}
        return cache.states_before(wanted, block)

    return Means(
        lambda: source, join_measurements(cache, code), CachedStrips(cache, code), states, go_on
    )


class Stretch:
    """Frames [begin, end) of the strip that a stage is on."""

    def __init__(self, session: Session, stage: str, begin: int, end: int, means: Means) -> None:
        """Look at the strip as it stands.

        Raises:
            CoreError: there is no such stage, or the session cannot be run.
            SettingError: the passage is empty.
        """
        self._means = means
        self._strip = SessionIndex(session).element(stage)[0].id
        plan = self._planned(session)
        self.begin, self._end = begin, min(end, plan.frames)
        if begin >= self._end:
            raise SettingError("there is no sound in this passage")
        self._frozen = means.frozen(plan)
        # What lies behind the strip is not asked for; what feeds it is read.
        self._frozen.pop(self._strip, None)
        first = max(begin // BLOCK - roll_blocks(plan), 0)
        running = {s.strip.id for s in plan.strips} - set(self._frozen)
        self._at, self._states = means.states(plan, first, running)
        self.rate = plan.rate

    def _planned(self, session: Session) -> Plan:
        return make_plan(session, observe_all=True, measured=self._means.measured)

    def run(self, session: Session) -> Iterator[tuple[StripBlock, slice]]:
        """Give the strip's blocks in the stretch, with what of each lies inside."""
        means = self._means
        mixer = Mixer(self._planned(session), means.source(), tapped=True, frozen=self._frozen)
        if self._at:
            mixer.locate(self._at, self._states)
        last = -(-self._end // BLOCK)
        mixer.foresee(last)
        for k in range(self._at, last):
            means.go_on()
            block = mixer.block((self._strip,)).strips[self._strip]
            low = max(self.begin - k * BLOCK, 0)
            if low < BLOCK:
                yield block, slice(low, min(self._end - k * BLOCK, BLOCK))
