"""Buses with many inputs: groups of eight are summed on their own, kept, and read again."""

from pathlib import Path

import numpy as np
import pytest

from salt_anvil.analysis.cache import StripCache
from salt_anvil.analysis.cached_strips import CachedStrips
from salt_anvil.analysis.strip_pass import analyse
from salt_anvil.core.audio import BLOCK
from salt_anvil.core.edits import SetParams, SetStrip
from salt_anvil.core.engine.fingerprint import fingerprint_of
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.plan import GROUP
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.session import Session, checked
from tests.conftest import noise
from tests.random_sessions import FRAMES
from tests.routing import reader

COUNT = 19
SOUNDS = {f"t{i}": noise(FRAMES, 1, level=0.03, seed=i) for i in range(COUNT)}
source = reader(SOUNDS)
BLOCKS = -(-FRAMES // BLOCK)


def session() -> Session:
    strips = [
        {
            "id": n,
            "name": n,
            "kind": "track",
            "audio": n,
            "channels": 1,
            "frames": FRAMES,
            "fader_db": -i / 2,
            "pan": i / 20,
            "chain": [{"id": f"c-{n}", "kind": "compressor", "params": {"threshold_db": -40}}],
        }
        for i, n in enumerate(SOUNDS)
    ]
    strips.append(
        {
            "id": "main",
            "name": "Main",
            "kind": "main",
            "chain": [{"id": "m", "kind": "compressor", "params": {"lookahead_ms": 9}}],
        }
    )
    return checked(Session, {"name": "Many", "strips": strips})


def main_of(model: Session, **more: object) -> np.ndarray:
    mixer = Mixer(make_plan(model), source, **more)  # type: ignore[arg-type]
    return np.concatenate([mixer.block(("main",)).strips["main"].out for _ in range(BLOCKS)])


@pytest.fixture
def cache(tmp_path: Path) -> StripCache:
    return StripCache(tmp_path / "cache")


def filled(cache: StripCache, model: Session) -> None:
    analyse(model, "code", source, cache, None, lambda *a: True)


def kept(cache: StripCache, model: Session) -> list[bool]:
    groups = make_plan(model).strip("main").groups
    return [cache.complete(fingerprint_of(g, "code")) for g in groups]


def test_a_bus_has_a_digest_for_every_eight_inputs() -> None:
    groups = make_plan(session()).strip("main").groups
    assert len(groups) == -(-COUNT // GROUP)
    moved, _ = SetStrip(strip="t9", field="fader_db", value=-20).apply(session())
    again = make_plan(moved).strip("main").groups
    assert [a == b for a, b in zip(groups, again, strict=True)] == [True, False, True]


def test_the_analysis_keeps_the_sums_and_reads_them_again(cache: StripCache) -> None:
    filled(cache, session())
    assert kept(cache, session()) == [True, True, True]
    changed, _ = SetParams(stage="c-t3", params={"ratio": 20}).apply(session())
    assert kept(cache, changed) == [False, True, True]
    filled(cache, changed)
    assert kept(cache, changed) == [True, True, True]
    fingerprint = fingerprint_of(make_plan(changed).strip("main").content_digest, "code")
    stored = cache.output(fingerprint, 2).rows[: BLOCKS * BLOCK]
    assert (stored == main_of(changed).astype(np.float32)).all()


def test_play_with_sums_that_are_read_is_the_same_to_the_bit(cache: StripCache) -> None:
    filled(cache, session())
    freezer = CachedStrips(cache, "code")
    frozen = freezer(make_plan(session()))
    frozen.pop("main")
    asked: list[str] = []

    def groups(digest: str):
        asked.append(digest)
        return freezer.group(digest)

    assert (main_of(session(), frozen=frozen, groups=groups) == main_of(session())).all()
    assert len(asked) == 3
    # With one strip running, its own group is added up again, the others are read.
    frozen.pop("t3")
    asked.clear()
    assert (main_of(session(), frozen=frozen, groups=groups) == main_of(session())).all()
    assert len(asked) == 2


def test_an_incomplete_sum_is_not_read(cache: StripCache) -> None:
    filled(cache, session())
    digest = make_plan(session()).strip("main").groups[0]
    cache.set_done(fingerprint_of(digest, "code"), 1)
    assert CachedStrips(cache, "code").group(digest) is None
