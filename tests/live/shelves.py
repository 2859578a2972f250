"""A cache filled by the analysis, as a player reads it."""

from pathlib import Path

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.cached_strips import CachedStrips
from salt_anvil.analysis.strip_pass import analyse
from salt_anvil.core.dsp.blend import JoinMeasurement
from salt_anvil.core.engine.cached import CachedStrip
from salt_anvil.core.engine.fingerprint import fingerprint_of, fingerprints_of
from salt_anvil.core.engine.mixer import Source
from salt_anvil.core.engine.plan import Plan
from salt_anvil.core.session import Session
from salt_anvil.core.state import State
from salt_anvil.live.playback import RenderCache
from tests.sessions import source as small_source

CODE = "code"


class OnDisk(RenderCache):
    def __init__(self, session: Session | None, folder: Path) -> None:
        self.cache = StripCache(folder)
        self.freezer = CachedStrips(self.cache, CODE)
        if session is not None:
            self.fill(session, small_source)

    def fill(self, session: Session, source: Source) -> None:
        analyse(session, CODE, source, self.cache, None, lambda *a: True)

    def join_measurement(self, digest: str) -> JoinMeasurement | None:
        return self.cache.join_measurement(fingerprint_of(digest, CODE))

    def states(self, plan: Plan, names: set[str], block: int) -> tuple[int, dict[str, State]]:
        fingerprints = fingerprints_of(plan, CODE)
        return self.cache.states_before({n: fingerprints[n] for n in names}, block)

    def frozen(self, plan: Plan) -> dict[str, CachedStrip]:
        return self.freezer(plan)
