"""Blocks that are known to be asked for: the same sound to the bit, in fewer calls."""

import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
import pytest

from salt_anvil.core.audio import BLOCK
from salt_anvil.core.engine.cached import CachedStrip
from salt_anvil.core.engine.fader import Fader
from salt_anvil.core.engine.mixer import Mixer
from salt_anvil.core.engine.planner import make_plan
from salt_anvil.core.engine.strip import StripRunner
from salt_anvil.core.processors import REGISTRY
from salt_anvil.core.session import Session, checked
from tests.sessions import FRAMES, compressor, source

BLOCKS = 96
WINDOW = 8
SILENT = ("saturator", "enhancer", "grit", "room", "width", "trim")
"""Kinds that report nothing."""


def deep() -> Session:
    """A track into a bus into a bus into the main bus; all read ahead, and one hears another."""

    def chain(name: str) -> list[dict[str, Any]]:
        return [compressor(f"{name}-c", lookahead_ms=15)]

    strips = [
        {"id": "a", "kind": "track", "audio": "a", "output": "low", "chain": chain("a")},
        {"id": "low", "kind": "bus", "output": "high", "chain": chain("low")},
        {"id": "high", "kind": "bus", "chain": chain("high")},
        {"id": "main", "kind": "main", "chain": chain("main")},
    ]
    strips[2]["chain"][0]["key"] = {"source": "strip:a"}
    named = [{"name": s["id"], "frames": FRAMES if s["id"] == "a" else 0} | s for s in strips]
    return checked(Session, {"name": "Deep", "strips": named})


def run(step: int) -> tuple[np.ndarray, Counter[str]]:
    """Return the main output, and how often each strip went through its chain."""
    calls: Counter[str] = Counter()
    through = StripRunner._through

    def counted(self: StripRunner, given: Any) -> None:
        calls[self.plan.strip.id] += 1
        through(self, given)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(StripRunner, "_through", counted)
        mixer = Mixer(make_plan(deep()), source)
        found = []
        for k in range(BLOCKS):
            if step > 1 and k % step == 0:
                mixer.foresee(k + step)
            found.append(mixer.block().faded["main"])
    return np.concatenate(found), calls


def test_what_others_read_ahead_is_foreseen_too() -> None:
    """A window of blocks at a time, as in play: one call a window for every strip."""
    plain, each = run(1)
    assert min(each.values()) >= BLOCKS
    for window, goes in ((WINDOW, BLOCKS // WINDOW), (BLOCKS, 2)):
        together, fewer = run(window)
        assert (together == plain).all()
        # One more at the start, where everybody reads ahead for the first time.
        assert max(fewer.values()) <= goes + 2


@pytest.mark.parametrize("read", [False, True])
def test_two_listen_to_what_comes_into_a_bus_beside_each_other(read: bool) -> None:
    """What is fed to it is faded once for both, also where the bus itself is read, not run."""
    strips: list[dict[str, Any]] = [
        {"id": "a", "kind": "track", "audio": "a", "output": "bus"},
        {"id": "bus", "kind": "bus"},
        {"id": "main", "kind": "main"},
    ]
    for name in "bc":
        key = {"key": {"source": "strip:bus", "tap": "in"}}
        # One of them reads a block farther ahead.
        chain = [compressor(f"{name}-c", lookahead_ms=20, threshold_db=-50) | key]
        chain += [compressor(f"{name}-d", lookahead_ms=20)] * (name == "c")
        strips.append({"id": name, "kind": "track", "audio": name, "chain": chain})
    named = [{"name": s["id"], "frames": FRAMES if "audio" in s else 0} | s for s in strips]
    plan = make_plan(checked(Session, {"name": "Two", "strips": named}))
    plain = Mixer(plan, source)
    expected = [plain.block() for _ in range(BLOCKS)]
    out = np.concatenate([block.strips["bus"].out for block in expected])
    kept = CachedStrip(
        lambda k, count: out[k * BLOCK : (k + count) * BLOCK],
        lambda point, k, count: np.zeros((count * BLOCK, 2)),
        np.zeros((BLOCKS, 3), np.float32),
        plan.strip("bus").content_digest,
        (),
    )
    apply = Fader.apply

    def slow(self: Fader, sound: np.ndarray, start: int) -> np.ndarray:
        time.sleep(0.002)
        return apply(self, sound, start)

    with ThreadPoolExecutor(3) as pool, pytest.MonkeyPatch.context() as patch:
        patch.setattr(Fader, "apply", slow)
        mixer = Mixer(plan, source, frozen={"bus": kept} if read else {})
        for k in range(BLOCKS - 2 * WINDOW):
            if k % WINDOW == 0:
                mixer.foresee(k + WINDOW)
                mixer.compute(k + WINDOW, pool)
            block = mixer.block()
            for name, sound in block.faded.items():
                assert (sound == expected[k].faded[name]).all(), (k, name)


@pytest.mark.parametrize("counts", [[96], [1, 95], [7, 64, 25], [3] * 32])
def test_several_blocks_taken_as_one_are_the_blocks(counts: list[int]) -> None:
    """Sound, taps and reports, for any number at a time, across checkpoints and with a key."""
    plan = make_plan(deep(), observe_all=True)
    single = Mixer(plan, source, tapped=True)
    blocks = [single.block(("high",)).strips["high"] for _ in range(BLOCKS)]
    together = Mixer(plan, source, tapped=True)
    parts = [together.chunk("high", count) for count in counts]
    assert (np.concatenate([p.out for p in parts]) == np.concatenate([b.out for b in blocks])).all()
    for name, sides in blocks[0].taps.items():
        for side in range(len(sides)):
            whole = np.concatenate([b.taps[name][side] for b in blocks])
            assert (np.concatenate([p.taps[name][side] for p in parts]) == whole).all(), name
    for stage, reported in blocks[0].cells.items():
        for name in reported:
            whole = np.concatenate([b.cells[stage][name] for b in blocks])
            assert (np.concatenate([p.cells[stage][name] for p in parts]) == whole).all(), name


@pytest.mark.parametrize("ahead_ms", [0.0, 15.0, 21.1875])
@pytest.mark.parametrize("until", [0, BLOCKS])
def test_it_reads_as_far_as_it_says(ahead_ms: float, until: int) -> None:
    """So that strips computed beside each other never both compute a third one. A latency just
    over, and just under, whole blocks included."""
    strips = [
        {"id": "a", "name": "a", "kind": "track", "audio": "a", "frames": FRAMES,
         "chain": [compressor("c", lookahead_ms=min(ahead_ms, 20))]},
        {"id": "main", "name": "main", "kind": "main"},
    ]  # fmt: skip
    plan = make_plan(checked(Session, {"name": "One", "strips": strips}))
    runner = StripRunner(plan.strip("a"), lambda j, count: source("a", j * BLOCK, count * BLOCK))
    runner.until = until
    for block in (1, 2, 63, 64, 65, 66, 90, BLOCKS):
        said = runner.will_read(block)
        runner.take(block - runner.next_out)
        assert runner.next_in == said


@pytest.mark.parametrize("kind", [*REGISTRY])
def test_reports_that_nobody_looks_at_are_not_made_and_change_nothing(kind: str) -> None:
    chain = [{"id": "one", "kind": kind}, {"id": "two", "kind": kind}]
    strips = [
        {"id": "a", "name": "A", "kind": "track", "audio": "a", "frames": FRAMES, "chain": chain},
        {"id": "main", "name": "Main", "kind": "main"},
    ]
    plan = make_plan(checked(Session, {"name": "Told", "strips": strips}))
    told, untold = Mixer(plan, source), Mixer(plan, source, told=False)
    for _ in range(4):
        one, other = told.block(), untold.block()
        assert np.array_equal(one.strips["a"].out, other.strips["a"].out)
        assert not any(cells for cells in other.strips["a"].cells.values())
    assert bool(one.strips["a"].cells) == bool(kind not in SILENT)
