"""Reuse: after random edits of random sessions, what is cached equals what is fresh, to the bit.

What is cached was computed several blocks at a time, what is fresh block by block.
"""

from pathlib import Path

import numpy as np
import pytest

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.cached_strips import CachedStrips
from salt_anvil.analysis.strip_pass import analyse, join_measurements
from salt_anvil.core.audio import BLOCK
from salt_anvil.core.engine.fingerprint import fingerprints_of
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.plan import Plan
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.session import Session
from tests import long
from tests.random_sessions import FRAMES, edited, random_session, source

SESSIONS = long.of(20, 600)
GROUPS = 4
CODE = "code"
BLOCKS = -(-FRAMES // BLOCK)


def fresh(plan: Plan, **more: object) -> dict[str, np.ndarray]:
    mixer = Mixer(plan, source, **more)  # type: ignore[arg-type]
    blocks = [mixer.block(tuple(plan.digests)) for _ in range(BLOCKS)]
    return {n: np.concatenate([b.strips[n].out for b in blocks]) for n in plan.digests}


def cached(cache: StripCache, session: Session) -> tuple[Plan, dict[str, np.ndarray]]:
    analyse(session, CODE, source, cache, None, lambda *a: True)
    plan = make_plan(session, measured=join_measurements(cache, CODE))
    assert not plan.missing()
    fingerprints = fingerprints_of(plan, CODE)
    return plan, {
        s.strip.id: np.asarray(
            cache.output(fingerprints[s.strip.id], s.context.channels).rows[: BLOCKS * BLOCK]
        )
        for s in plan.strips
    }


@pytest.mark.parametrize("group", range(GROUPS))
def test_cached_equals_fresh(group: int, tmp_path: Path) -> None:
    for seed in range(group, SESSIONS, GROUPS):
        random = np.random.default_rng(seed)
        cache = StripCache(tmp_path / "cache")
        session = random_session(random)
        for turn in range(2):
            plan, found = cached(cache, session)
            expected = fresh(plan)
            for name, sound in expected.items():
                assert np.isfinite(sound).all(), (seed, turn, name)
                assert (found[name] == sound.astype(np.float32)).all(), (seed, turn, name)
            # Play with some strips read and the others run: the same again.
            frozen = CachedStrips(cache, CODE)(plan)
            kept = {n: f for n, f in frozen.items() if random.integers(2)}
            mixed = fresh(plan, frozen=kept, groups=CachedStrips(cache, CODE).group)
            assert (mixed["main"] == expected["main"]).all(), (seed, turn)
            session = edited(random, session, int(random.integers(1, 4)))


def test_random_sessions_use_the_machinery() -> None:
    """What the test above stands on: splits, keys, sends, lanes do come up."""
    sessions = [random_session(np.random.default_rng(s)) for s in range(100)]
    plans = [make_plan(s) for s in sessions]
    strips = [s for p in plans for s in p.strips]
    assert sum(bool(s.graph.outside) for s in strips) > 10
    assert sum(n.role == "join" for s in strips for n in s.graph.nodes) > 40
    assert sum(r.send is not None for s in strips for r in s.routes) > 10
    assert sum(len(s.automation) for s in sessions) > 20
    assert sum(len(s.joins) for s in strips) > 10
