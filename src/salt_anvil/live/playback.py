"""A mixer on its way to a place of the song, and strips on their way to run again."""

import os
import time
from concurrent.futures import Executor

from salt_anvil.core.audio import BLOCK
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.engine.bypass_mix import BypassMix
from salt_anvil.core.engine.cached import Blocks, CachedStrip
from salt_anvil.core.engine.mixer import Mixer, Source
from salt_anvil.core.engine.plan import Plan, roll_blocks
from salt_anvil.core.engine.strip import CHECKPOINT
from salt_anvil.core.state import State
from salt_anvil.live.listening import listens_in_mix, needed, strip_of, watched_place
from salt_anvil.live.messages import Listen

COLD_LIMIT_S = 12.0
"""Without a checkpoint, a seek rolls forward over at most this much."""


AT_ONCE = 8
"""So many blocks are computed in one go on the way: nobody waits longer for sound."""

START_S = float(os.environ.get("SALT_ANVIL_START_S", "0.25"))
"""Nobody waits longer than this for the first sound: the exact state is handed over later."""


class RenderCache:
    """What is known of plans from before: measurements, checkpoints, whole strips.

    This one knows nothing; the engine process gives one that reads the cache.
    """

    def join_measurement(self, digest: str) -> JoinMeasurement | None:
        """Return the measurement of a steady join."""
        return None

    def states(self, plan: Plan, names: set[str], block: int) -> tuple[int, dict[str, State]]:
        """Return the last block at or before one for which all named strips have states."""
        return 0, {}

    def frozen(self, plan: Plan) -> dict[str, CachedStrip]:
        """Return the strips that can be read from end to end."""
        return {}

    def group(self, digest: str) -> Blocks | None:
        """Return a kept sum of a bus's inputs."""
        return None


def mixer_before(
    plan: Plan,
    source: Source,
    shelf: RenderCache,
    running: set[str],
    block: int,
    listen: Listen,
    only: bool = False,
) -> tuple[Mixer, bool]:
    """Return a mixer before a block or earlier, and whether in the state of the whole song.

    running: strips that must not be read. only: nothing but these will be asked for.
    """
    frozen = {n: f for n, f in shelf.frozen(plan).items() if n not in running}
    mixer = Mixer(plan, source, frozen=frozen, groups=shelf.group)
    mixer.watch(strip_of(plan, listen), watched_place(plan, listen))
    names = running if only else set(plan.digests) - frozen.keys()
    at, stored = shelf.states(plan, names, block)
    exact = block - at <= round(COLD_LIMIT_S * plan.rate / BLOCK)
    if not exact:
        at, stored = block - CHECKPOINT, {}
    if at:
        mixer.locate(at, stored)
    return mixer, exact


class PlaybackRun:
    """A mixer, and its shadow where one is heard, on their way to a block."""

    def __init__(
        self, plan: Plan, source: Source, shelf: RenderCache, target: int, listen: Listen
    ) -> None:
        watched = watched_place(plan, listen)
        self.plan, self.target, self.listen = plan, target, listen
        begin = max(target - roll_blocks(plan), 0)
        running = needed(plan, listen)
        self.mixer, self.exact = mixer_before(plan, source, shelf, running, begin, listen)
        self.shadow: BypassMix | None = None
        if listens_in_mix(plan, listen):
            assert listen.strip is not None
            self.shadow = BypassMix(self.mixer, listen.strip, watched)

    def roll(self, beside: Executor | None = None) -> bool:
        """Run one block towards the target, and compute what comes next with it; return whether it
        is reached.

        beside: computes strips beside each other.
        """
        k = self.mixer.position
        if k < self.target:
            if k >= self.mixer.until:
                self.mixer.foresee(min(k + AT_ONCE, self.target))
                if beside is not None:
                    self.mixer.compute(self.mixer.until, beside)
            self.mixer.block()
            if self.shadow is not None:
                self.shadow.block(k)
        return self.mixer.position >= self.target

    def roll_for(self, seconds: float, beside: Executor | None = None) -> bool:
        """Run towards the target for so long; return whether it is reached."""
        until = time.monotonic() + seconds
        while not self.roll(beside):
            if time.monotonic() > until:
                return False
        return True

    def chase(self, target: int) -> None:
        """Go for another block, further on."""
        self.target = target


class StripRestart:
    """Frozen strips on their way to run again, beside the play of what they gave."""

    def __init__(
        self, mixer: Mixer, source: Source, shelf: RenderCache, names: set[str], listen: Listen
    ) -> None:
        block = mixer.position
        self.names, self.plan = names, mixer.plan
        begin = max(block - roll_blocks(mixer.plan), 0)
        self._own, _ = mixer_before(mixer.plan, source, shelf, names, begin, listen, only=True)

    def roll(self, target: int) -> bool:
        """Run one block, and compute what comes next with it; return whether the target is
        reached."""
        own = self._own
        if own.position < target:
            if own.position >= own.until:
                own.foresee(min(own.position + AT_ONCE, target))
            own.block(tuple(n for n in self.names if n not in own.frozen))
        return own.position == target

    @property
    def position(self) -> int:
        """The block that they stand before."""
        return self._own.position

    def hand_over(self, mixer: Mixer) -> None:
        """Put the strips into a mixer that stands at the same block."""
        for name in self.names & mixer.frozen.keys():
            mixer.thaw(name, self._own)
